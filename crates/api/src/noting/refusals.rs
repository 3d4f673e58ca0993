use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use waverant_net::caller_of;

/// Refusals are counted over this time.
const WINDOW: Duration = Duration::from_secs(10);

/// So many of one person, or of one address, are written down in that time.
const OF_ONE: u32 = 20;

/// So many of all together.
const OF_ALL: u32 = 200;

/// Refusals of late: so that who is refused again and again fills neither records nor disk.
#[derive(Debug, Default)]
pub(crate) struct Refusals(Mutex<Tally>);

#[derive(Debug, Default)]
struct Tally {
    since: Option<Instant>,
    all: u32,
    of: HashMap<String, u32>,
}

impl Refusals {
    /// True if one more is to be written down.
    pub(super) fn is_noted(&self, person: &str, address: Option<SocketAddr>) -> bool {
        let who = match address {
            Some(peer) if person.is_empty() => caller_of(peer.ip()).to_string(),
            _ => person.to_owned(),
        };
        self.is_noted_at(who, Instant::now())
    }

    fn is_noted_at(&self, who: String, now: Instant) -> bool {
        let mut tally = self.0.lock();
        if tally.since.is_none_or(|since| now.saturating_duration_since(since) >= WINDOW) {
            *tally = Tally { since: Some(now), ..Tally::default() };
        }
        if tally.all >= OF_ALL {
            return false;
        }
        let own = tally.of.entry(who).or_default();
        *own += 1;
        let is_noted = *own <= OF_ONE;
        tally.all += u32::from(is_noted);
        is_noted
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_is_refused_again_and_again_is_written_down_a_few_times() {
        let (refusals, now) = (Refusals::default(), Instant::now());
        let noted = |who: &str, now| (0..100).filter(|_| refusals.is_noted_at(who.to_owned(), now)).count();
        assert_eq!((noted("cox", now), noted("starter", now)), (20, 20));
        let all: usize = (0..1000).map(|number| noted(&number.to_string(), now)).sum();
        assert_eq!(all, 160);
        assert!(refusals.0.lock().of.len() <= 200);
        assert_eq!(noted("cox", now + WINDOW), 20);
    }
}
