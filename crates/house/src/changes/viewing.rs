use std::time::Duration;

use time::OffsetDateTime;
use waverant_model::{AddViewingLink, ChangeViewing, TakeName};
use waverant_relay::{Actor, PublishedTo, Site, ViewingLink, ViewingRules, Ways};
use waverant_store::NewViewingLink;

use super::{checked_text, page};
use crate::words::{audience_of, between_of, nearness_of, way_of};
use crate::{House, HouseError};

/// How far back one can go: from what players need to four hours, whose playlist is still read with ease.
const BACK_MS: std::ops::RangeInclusive<u32> = 10_000..=14_400_000;

/// The most viewers that a limit may say.
const MOST_VIEWERS: u32 = 100_000;

/// The most sites of a channel or a link.
const MAX_SITES: usize = 16;

const MAX_LABEL: usize = 96;

/// So long a link is good if nobody says, and at most.
const USUAL_TIME: time::Duration = time::Duration::days(30);
const LONGEST_TIME: time::Duration = time::Duration::days(366);

/// What a new link is to be.
pub(crate) fn new_link(form: &AddViewingLink, now: OffsetDateTime) -> Result<NewViewingLink, HouseError> {
    let ends_at = form.ends_at.unwrap_or(now + USUAL_TIME);
    if ends_at <= now || ends_at > now + LONGEST_TIME {
        return Err(HouseError::invalid("ends_at", "it is in the past, or more than 366 days from now"));
    }
    Ok(NewViewingLink {
        label: checked_text("label", &form.label, MAX_LABEL)?,
        ends_at,
        most_viewers: checked_most("most_viewers", form.most_viewers)?,
        sites: checked_sites("sites", &form.sites)?,
        shows_rehearsals: form.shows_rehearsals,
        take: form.take.map(|take| (take.session, take.number)),
    })
}

impl House {
    /// Makes a link by which a channel can be watched.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such channel, or the database is away.
    pub async fn add_viewing_link(
        &self,
        channel: &str,
        form: &AddViewingLink,
        by: &Actor,
    ) -> Result<ViewingLink, HouseError> {
        let now = OffsetDateTime::now_utc();
        let new = new_link(form, now)?;
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        if let Some(TakeName { session, number }) = form.take {
            let take = self.library().ended_take(session, number).await.map_err(no_such_take)?;
            if take.channel_name != channel.name {
                let told = format!("the take {session}/{number} is of `{}`", take.channel_name);
                return Err(HouseError::invalid("take", told));
            }
        }
        let link = self.store.add_viewing_link(channel.id, &new, now).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, link = link.id, label = link.label, %by, "a link is made");
        Ok(link)
    }

    /// Revokes a link; who watches by it is ended.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such link, or the database is away.
    pub async fn remove_viewing_link(&self, channel: &str, link: u64, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        self.store.remove_viewing_link(channel.id, link).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, link, %by, "a link is revoked");
        Ok(())
    }
}

fn no_such_take(error: impl ToString) -> HouseError {
    HouseError::invalid("take", error.to_string())
}

/// The rules after a change.
pub(super) fn changed(
    form: &ChangeViewing,
    present: ViewingRules,
    slot_sites: &[Site],
) -> Result<ViewingRules, HouseError> {
    if let Some(back_ms) = form.back_ms.filter(|back_ms| !BACK_MS.contains(back_ms)) {
        let told = format!("{back_ms} is not between {} and {}", BACK_MS.start(), BACK_MS.end());
        return Err(HouseError::invalid("viewing.back_ms", told));
    }
    Ok(ViewingRules {
        audience: form.audience.map_or(present.audience, audience_of),
        nearness: form.nearness.map_or(present.nearness, nearness_of),
        back: form.back_ms.map_or(present.back, |back_ms| Duration::from_millis(back_ms.into())),
        is_always_ready: form.is_always_ready.unwrap_or(present.is_always_ready),
        most_viewers: match form.most_viewers {
            Some(most) => checked_most("viewing.most_viewers", most)?,
            None => present.most_viewers,
        },
        sites: match &form.sites {
            Some(sites) => checked_sites("viewing.sites", sites)?,
            None => present.sites,
        },
        ways: match &form.ways {
            Some(ways) if ways.is_empty() => {
                let told = "it has no way; give one at least, or close the channel with `audience`";
                return Err(HouseError::invalid("viewing.ways", told));
            }
            Some(ways) => Ways::only(ways.iter().copied().map(way_of)),
            None => present.ways,
        },
        published_to: match &form.published_to {
            Some(depot) => published_to(depot, present.published_to),
            None => present.published_to,
        },
        between_shows: form.between_shows.map_or(present.between_shows, between_of),
        page: page::changed(&form.page, present.page, slot_sites)?,
    })
}

/// A depot whose address is not looked up yet, or the one it was.
fn published_to(depot: &str, present: Option<PublishedTo>) -> Option<PublishedTo> {
    let same = present.filter(|present| present.depot == depot);
    let other = || (!depot.is_empty()).then(|| PublishedTo { depot: depot.to_owned(), public_address: None });
    same.or_else(other)
}

/// 0 is as many as there is room for.
fn checked_most(field: &'static str, most: u32) -> Result<Option<u32>, HouseError> {
    super::at_most(field, most, MOST_VIEWERS).map(|most| (most > 0).then_some(most))
}

fn checked_sites(field: &'static str, sites: &[String]) -> Result<Vec<Site>, HouseError> {
    if sites.len() > MAX_SITES {
        return Err(HouseError::invalid(field, format!("{} are more than {MAX_SITES}", sites.len())));
    }
    let mut parsed: Vec<Site> = Vec::with_capacity(sites.len());
    for site in sites {
        let site = site.parse().map_err(|error| HouseError::invalid(field, error))?;
        if !parsed.contains(&site) {
            parsed.push(site);
        }
    }
    Ok(parsed)
}
