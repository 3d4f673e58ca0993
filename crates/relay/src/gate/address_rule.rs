use std::net::IpAddr;

use time::OffsetDateTime;

use super::AddressRange;

/// What people say of callers from some addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Reception {
    /// They are held off: nothing but a right key, token or sign-in opens.
    Blocked,
    /// They are the crew's: never slowed and never blocked.
    Welcome,
}

impl Reception {
    /// Both, with their words.
    pub const ALL: [(Self, &'static str); 2] = [(Self::Blocked, "blocked"), (Self::Welcome, "welcome")];

    /// Its word.
    pub fn word(self) -> &'static str {
        Self::ALL.into_iter().find(|(known, _)| *known == self).map_or("", |(_, word)| word)
    }

    /// What this word says.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(_, known)| *known == word).map(|(reception, _)| reception)
    }
}

/// A rule for callers from some addresses, made by people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressRule {
    /// The rule's number.
    pub id: u64,
    /// From where.
    pub range: AddressRange,
    /// How they are received.
    pub reception: Reception,
    /// Until when; for ever if there is no end.
    pub until: Option<OffsetDateTime>,
    /// Why, as somebody said.
    pub note: String,
    /// When it was made.
    pub made_at: OffsetDateTime,
    /// Who made it.
    pub made_by: String,
}

impl AddressRule {
    fn is_of(&self, address: IpAddr, now: OffsetDateTime) -> bool {
        self.range.contains(address) && self.until.is_none_or(|until| now < until)
    }

    /// The rule that counts for an address: a welcome before a block, so that nobody shuts the crew out by blocking a
    /// network that it is in.
    pub fn of(rules: &[Self], address: IpAddr, now: OffsetDateTime) -> Option<&Self> {
        let mut of_it = rules.iter().filter(|rule| rule.is_of(address, now));
        let first = of_it.next()?;
        if first.reception == Reception::Welcome {
            return Some(first);
        }
        Some(of_it.find(|rule| rule.reception == Reception::Welcome).unwrap_or(first))
    }
}

#[cfg(test)]
mod tests {
    use time::Duration;

    use super::*;

    fn rule(id: u64, range: &str, reception: Reception, until: Option<OffsetDateTime>) -> AddressRule {
        let (note, made_by, made_at) = (String::new(), String::new(), OffsetDateTime::UNIX_EPOCH);
        AddressRule { id, range: range.parse().unwrap(), reception, until, note, made_at, made_by }
    }

    #[test]
    fn the_crew_is_welcome_in_a_network_that_is_blocked() {
        let now = OffsetDateTime::UNIX_EPOCH;
        let rules = [
            rule(1, "203.0.113.0/24", Reception::Blocked, None),
            rule(2, "203.0.113.9", Reception::Welcome, Some(now + Duration::HOUR)),
            rule(3, "2001:db8::/32", Reception::Blocked, Some(now)),
        ];
        let of = |address: &str, now| AddressRule::of(&rules, address.parse().unwrap(), now).map(|rule| rule.id);
        assert_eq!(of("203.0.113.9", now), Some(2));
        assert_eq!(of("203.0.113.9", now + Duration::HOUR), Some(1), "its time is over");
        assert_eq!(of("::ffff:203.0.113.8", now), Some(1));
        assert_eq!(of("198.51.100.1", now), None);
        assert_eq!(of("2001:db8::1", now), None);
    }
}
