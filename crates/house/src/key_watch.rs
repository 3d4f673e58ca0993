use std::collections::HashMap;
use std::net::SocketAddr;

use parking_lot::Mutex;
use time::{Duration, OffsetDateTime};
use waverant_relay::KeyUse;

/// How long it is told that somebody was turned away.
const TOLD_FOR: Duration = Duration::minutes(10);

/// How soon others are told again that a key was used.
const TOLD_AGAIN: Duration = Duration::seconds(10);

/// How often old keys are looked for, whatever is known of them.
const TIDY_INTERVAL: Duration = Duration::hours(6);

/// Why somebody who held a key was turned away.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// When.
    pub at: OffsetDateTime,
    /// From where it came.
    pub peer: SocketAddr,
    /// Why, and what to do.
    pub reason: String,
}

/// What became of keys lately. There is never more than one entry of each kind for a key, however often it is used.
#[derive(Debug, Default)]
pub(crate) struct KeyWatch {
    /// The last use of each that was not handed to the records yet.
    uses: Mutex<HashMap<u64, KeyUse>>,
    /// When others were told last that one was used.
    told: Mutex<HashMap<u64, OffsetDateTime>>,
    /// The last time that each was of no use, for guests who wait to be seen.
    refusals: Mutex<HashMap<u64, Refusal>>,
    /// When old keys were looked for last, and whether they are being looked for.
    tidied: Mutex<Tidied>,
}

#[derive(Debug, Default)]
struct Tidied {
    at: Option<OffsetDateTime>,
    is_busy: bool,
}

impl KeyWatch {
    /// Notes that a key was used. True if others are to be told: an encoder that comes and goes all the time is told once
    /// in a while.
    pub(crate) fn note_use(&self, used: KeyUse) -> bool {
        self.refusals.lock().remove(&used.key_id);
        let mut told = self.told.lock();
        let is_due = told.get(&used.key_id).is_none_or(|told| used.used_at - *told >= TOLD_AGAIN);
        if is_due {
            told.insert(used.key_id, used.used_at);
        }
        self.uses.lock().insert(used.key_id, used);
        is_due
    }

    pub(crate) fn note_refusal(&self, key: u64, refusal: Refusal) {
        self.refusals.lock().insert(key, refusal);
    }

    /// Why a key was of no use, if it was so lately and not of use since.
    pub(crate) fn refusal(&self, key: u64, now: OffsetDateTime) -> Option<Refusal> {
        self.refusals.lock().get(&key).filter(|refusal| now - refusal.at < TOLD_FOR).cloned()
    }

    /// True if old keys are to be looked for now; [`tidied`](Self::tidied) is called then.
    pub(crate) fn begin_tidying(&self, now: OffsetDateTime, is_due: bool) -> bool {
        let mut tidied = self.tidied.lock();
        let begins = !tidied.is_busy && (is_due || tidied.at.is_none_or(|at| now - at >= TIDY_INTERVAL));
        tidied.is_busy |= begins;
        begins
    }

    pub(crate) fn tidied(&self, now: OffsetDateTime) {
        *self.tidied.lock() = Tidied { at: Some(now), is_busy: false };
    }

    /// What is to be written down. What is too old to be told goes.
    pub(crate) fn take_uses(&self, now: OffsetDateTime) -> Vec<KeyUse> {
        self.refusals.lock().retain(|_, refusal| now - refusal.at < TOLD_FOR);
        self.told.lock().retain(|_, told| now - *told < TOLD_AGAIN);
        std::mem::take(&mut *self.uses.lock()).into_values().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_is_used_all_the_time_is_one_entry() {
        let watch = KeyWatch::default();
        let now = OffsetDateTime::UNIX_EPOCH;
        let peer: SocketAddr = "192.0.2.7:4000".parse().unwrap();
        let refusal = Refusal { at: now, peer, reason: "too early".to_owned() };
        let used = |second| KeyUse {
            key_id: 7,
            used_at: now + Duration::seconds(second),
            address: peer.to_string(),
            encoder: "van".to_owned(),
            protocol: "srt".to_owned(),
        };
        watch.note_refusal(7, refusal.clone());
        assert_eq!(watch.refusal(7, now + Duration::minutes(9)), Some(refusal.clone()));
        assert_eq!(watch.refusal(7, now + Duration::minutes(10)), None);
        let told = (0..100).filter(|second| watch.note_use(used(*second)));
        assert_eq!(told.count(), 10, "others are told now and then");
        assert_eq!(watch.refusal(7, now), None, "it was of use since");
        assert_eq!(watch.take_uses(now), [used(99)]);
        assert!(watch.take_uses(now).is_empty());
        watch.note_refusal(7, refusal);
        watch.take_uses(now + Duration::hours(1));
        assert!(watch.refusals.lock().is_empty());
    }

    #[test]
    fn old_keys_are_looked_for_by_one_at_a_time() {
        let (watch, now) = (KeyWatch::default(), OffsetDateTime::UNIX_EPOCH);
        let begin = |after, is_due| watch.begin_tidying(now + after, is_due);
        assert!(begin(Duration::ZERO, false) && !begin(Duration::ZERO, true));
        watch.tidied(now);
        assert!(!begin(Duration::hours(5), false) && begin(Duration::hours(5), true));
        watch.tidied(now + Duration::hours(5));
        assert!(!begin(Duration::hours(10), false) && begin(Duration::hours(11), false));
    }
}
