use thiserror::Error;
use time::OffsetDateTime;

use super::Site;
use crate::Secret;

/// An address under which somebody without an account may watch a channel, or one of its takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ViewingLink {
    /// The link's number.
    pub id: u64,
    /// The channel that it opens for watching, and for nothing else.
    pub channel_id: u64,
    /// For whom it was made.
    pub label: String,
    /// What stands in its address: the number and a signature that only this house can make.
    pub token: Secret,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it ends.
    pub ends_at: OffsetDateTime,
    /// How many may watch by it at a time; None is as many as the channel takes.
    pub most_viewers: Option<u32>,
    /// The sites whose pages alone may show it; none for anywhere.
    pub sites: Vec<Site>,
    /// Whether rehearsals are shown to who has it.
    pub shows_rehearsals: bool,
    /// The take that it leads to (session and number), instead of to what is on air.
    pub take: Option<(u64, u32)>,
}

/// Why a link opens nothing.
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
pub enum LinkFault {
    /// Its time is over.
    #[error("this link has ended")]
    Ended,
    /// It was asked for by a page of another site, or by none.
    #[error("this link plays on the pages of other sites than this one")]
    WrongSite,
}

/// What is known of who asks.
#[derive(Clone, Copy, Debug)]
pub struct Asker<'a> {
    /// The site whose page asks, if the browser says so.
    pub site: Option<&'a Site>,
    /// Whether the page is our own, by what the browser says.
    pub is_own_page: bool,
}

impl ViewingLink {
    /// The text that stands before the signature in an address; whoever has it whole may watch.
    pub fn id_in(token: &str) -> Option<u64> {
        let (id, signature) = token.split_once('-')?;
        // One way to write each number, so that a link has one address.
        let is_plain = !id.is_empty() && !id.starts_with('0') && id.bytes().all(|byte| byte.is_ascii_digit());
        (is_plain && !signature.is_empty()).then(|| id.parse().ok()).flatten()
    }

    /// True if `token` is this link's, in a time that says nothing of how much of it is right.
    pub fn has_token(&self, token: &str) -> bool {
        let (own, other) = (self.token.reveal().as_bytes(), token.as_bytes());
        let difference = own.iter().zip(other).fold(0, |difference, (a, b)| difference | (a ^ b));
        own.len() == other.len() && difference == 0
    }

    /// Whether somebody may watch by it now.
    ///
    /// # Errors
    /// [`LinkFault`] that says why not.
    pub fn check(&self, now: OffsetDateTime, asker: Asker<'_>) -> Result<(), LinkFault> {
        if self.has_ended(now) {
            return Err(LinkFault::Ended);
        }
        let is_right = asker.is_own_page || asker.site.is_some_and(|site| self.sites.contains(site));
        if self.sites.is_empty() || is_right { Ok(()) } else { Err(LinkFault::WrongSite) }
    }

    /// True once its time is over.
    pub fn has_ended(&self, now: OffsetDateTime) -> bool {
        self.ends_at <= now
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::Duration;
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

    fn link(sites: &[&str]) -> ViewingLink {
        ViewingLink {
            id: 7,
            channel_id: 1,
            label: "club house".to_owned(),
            token: Secret::new("7-abc23".to_owned()),
            created_at: NOW,
            ends_at: NOW + Duration::hours(1),
            most_viewers: None,
            sites: sites.iter().map(|site| site.parse().unwrap()).collect(),
            shows_rehearsals: false,
            take: None,
        }
    }

    #[rstest]
    #[case::right("7-abc23", Some(7), true)]
    #[case::other_signature("7-abc24", Some(7), false)]
    #[case::longer("7-abc233", Some(7), false)]
    #[case::shorter("7-abc2", Some(7), false)]
    #[case::other_number("8-abc23", Some(8), false)]
    #[case::zero("07-abc23", None, false)]
    #[case::sign("+7-abc23", None, false)]
    #[case::no_signature("7-", None, false)]
    #[case::number("99999999999999999999-a", None, false)]
    #[case::empty("", None, false)]
    fn a_link_has_one_address(#[case] token: &str, #[case] id: Option<u64>, #[case] expected: bool) {
        assert_eq!((ViewingLink::id_in(token), link(&[]).has_token(token)), (id, expected));
    }

    #[rstest]
    #[case::anywhere(&[], None, false, 0, Ok(()))]
    #[case::over(&[], None, false, 60, Err(LinkFault::Ended))]
    #[case::right_site(&["https://club.example"], Some("https://club.example"), false, 0, Ok(()))]
    #[case::other_site(&["https://club.example"], Some("https://other.example"), false, 0, Err(LinkFault::WrongSite))]
    #[case::no_site(&["https://club.example"], None, false, 0, Err(LinkFault::WrongSite))]
    #[case::own_page(&["https://club.example"], None, true, 59, Ok(()))]
    fn links_end_and_are_bound(
        #[case] sites: &[&str],
        #[case] site: Option<&str>,
        #[case] is_own_page: bool,
        #[case] minutes: i64,
        #[case] expected: Result<(), LinkFault>,
    ) {
        let site: Option<Site> = site.map(|site| site.parse().unwrap());
        let asker = Asker { site: site.as_ref(), is_own_page };
        assert_eq!(link(sites).check(NOW + Duration::minutes(minutes), asker), expected);
    }
}
