use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use waverant_relay::Standing;

/// Turned-away callers are counted by address over this time.
const WINDOW: Duration = Duration::from_secs(10);

/// So many of an address in that time are written down each; more are only counted.
const RECORDED: u32 = 20;

/// So many of all addresses together are written down in that time: a thousand addresses fill the log
/// no more than ten.
const RECORDED_IN_ALL: u32 = 200;

/// Addresses that are kept in mind.
const MAX_ADDRESSES: usize = 4096;

/// Who was turned away lately, by address: so that somebody who calls again and again fills
/// neither log nor records, and does not keep us busy.
#[derive(Debug, Default)]
pub(crate) struct Callers(Mutex<Tallies>);

#[derive(Debug, Default)]
struct Tallies {
    by_address: HashMap<IpAddr, Tally>,
    /// What was written down of all addresses together.
    recorded: Option<Tally>,
}

#[derive(Debug)]
struct Tally {
    since: Instant,
    count: u32,
}

/// What to do about one more turned-away caller.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Notice {
    /// Write it down.
    Record,
    /// Write down that more of this address are only counted from here on.
    RecordLast,
    /// Count it.
    Count,
}

impl Callers {
    /// Notes that a caller was turned away.
    pub(crate) fn note(&self, address: IpAddr, now: Instant) -> Notice {
        let mut all = self.0.lock();
        let all = &mut *all;
        let tallies = &mut all.by_address;
        if tallies.len() >= MAX_ADDRESSES && !tallies.contains_key(&address) {
            tallies.retain(|_, tally| now.saturating_duration_since(tally.since) < WINDOW);
            if tallies.len() >= MAX_ADDRESSES {
                return Notice::Count;
            }
        }
        let tally = tallies.entry(address).or_insert(Tally { since: now, count: 0 });
        if now.saturating_duration_since(tally.since) >= WINDOW {
            *tally = Tally { since: now, count: 0 };
        }
        tally.count = tally.count.saturating_add(1);
        let notice = match tally.count {
            ..RECORDED => Notice::Record,
            RECORDED => Notice::RecordLast,
            _ => return Notice::Count,
        };
        let recorded = all.recorded.get_or_insert(Tally { since: now, count: 0 });
        if now.saturating_duration_since(recorded.since) >= WINDOW {
            *recorded = Tally { since: now, count: 0 };
        }
        recorded.count = recorded.count.saturating_add(1);
        match recorded.count {
            ..RECORDED_IN_ALL => notice,
            RECORDED_IN_ALL => Notice::RecordLast,
            _ => Notice::Count,
        }
    }

    /// Forgets what was counted of an address.
    pub(crate) fn forget(&self, address: IpAddr) {
        self.0.lock().by_address.remove(&address);
    }

    /// How many were turned away from this address lately.
    fn recent(&self, address: IpAddr, now: Instant) -> u32 {
        let tallies = &self.0.lock().by_address;
        let tally = tallies.get(&address).filter(|tally| now.saturating_duration_since(tally.since) < WINDOW);
        tally.map_or(0, |tally| tally.count)
    }

    /// What is to be thought of a caller of whom nothing good is known. One of a rough address is to
    /// wait.
    pub(crate) fn standing(&self, address: IpAddr, now: Instant) -> Standing {
        match self.recent(address, now) {
            0 => Standing::Stranger,
            1..RECORDED => Standing::Suspect,
            _ => Standing::Rough,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_twenty_are_written_down_and_the_rest_counted() {
        let (callers, now) = (Callers::default(), Instant::now());
        let [one, other]: [IpAddr; 2] = ["192.0.2.1", "192.0.2.2"].map(|text| text.parse().unwrap());
        let notices: Vec<Notice> = (0..22).map(|_| callers.note(one, now)).collect();
        assert!(notices[..19].iter().all(|notice| *notice == Notice::Record));
        assert_eq!(notices[19..], [Notice::RecordLast, Notice::Count, Notice::Count]);
        assert_eq!([one, other].map(|from| callers.standing(from, now)), [Standing::Rough, Standing::Stranger]);
        assert_eq!(callers.note(other, now), Notice::Record);
        assert_eq!(callers.standing(other, now), Standing::Suspect);
        let later = now + WINDOW;
        assert_eq!(callers.standing(one, later), Standing::Stranger);
        assert_eq!(callers.note(one, later), Notice::Record);
    }

    #[test]
    fn a_thousand_addresses_fill_no_log() {
        let (callers, now) = (Callers::default(), Instant::now());
        let address = |number: u32| IpAddr::V4(number.into());
        let notices: Vec<Notice> = (0..1000).map(|number| callers.note(address(number), now)).collect();
        assert_eq!(notices.iter().filter(|notice| **notice == Notice::Record).count(), 199);
        assert_eq!(notices.iter().filter(|notice| **notice == Notice::RecordLast).count(), 1);
        assert_eq!(callers.note(address(7000), now + WINDOW), Notice::Record);
    }

    #[test]
    fn addresses_are_bounded() {
        let (callers, now) = (Callers::default(), Instant::now());
        for number in 0..5000u32 {
            callers.note(IpAddr::V4(number.into()), now);
        }
        assert!(callers.0.lock().by_address.len() <= MAX_ADDRESSES);
        assert_eq!(callers.note(IpAddr::V4(9999.into()), now + WINDOW), Notice::Record);
    }
}
