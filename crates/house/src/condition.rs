//! What is known of the house apart from its shows.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use parking_lot::{Mutex, RwLock};
use time::OffsetDateTime;
use waverant_relay::Checkup;

use crate::host::HostFigures;
use crate::reached::ReachedBook;

/// What is known of the house apart from its shows.
#[derive(Debug)]
pub(crate) struct HouseCondition {
    pub(crate) checkup: Mutex<Checkup>,
    /// None until the machine was looked at.
    pub(crate) host: RwLock<Option<HostFigures>>,
    /// True if the database answered when it was last asked.
    pub(crate) database_answers: AtomicBool,
    /// From when to when the certificate is good; none without one.
    pub(crate) certificate: Mutex<Option<Range<OffsetDateTime>>>,
    /// Why the authority gives no new one.
    pub(crate) renewal_fault: Mutex<Option<String>>,
    /// Who from out there was at the doors.
    pub(crate) reached: Arc<ReachedBook>,
    /// Both clocks, read together.
    pub(crate) clocks: Mutex<Clocks>,
}

/// The clock on the wall beside the one that does not jump.
#[derive(Debug, Default)]
pub(crate) struct Clocks {
    seen: Option<(OffsetDateTime, Instant)>,
    /// By how many seconds it was put last, and when.
    put: Option<(f64, Instant)>,
}

/// It is told for so long that the clock was put.
const PUT_IS_TOLD: Duration = Duration::from_secs(3600);

/// A step that is no steering, in seconds.
const STEP: f64 = 1.0;

impl Clocks {
    /// Looks at both; by how many seconds the one on the wall was put, if that was lately.
    pub(crate) fn look(&mut self, at: OffsetDateTime, now: Instant) -> Option<f64> {
        if let Some((seen_at, seen)) = self.seen.replace((at, now)) {
            let step = (at - seen_at).as_seconds_f64() - now.saturating_duration_since(seen).as_secs_f64();
            if step.abs() > STEP {
                self.put = Some((step, now));
            }
        }
        let put = self.put.filter(|(_, since)| now.saturating_duration_since(*since) < PUT_IS_TOLD);
        put.map(|(seconds, _)| seconds)
    }
}

impl Default for HouseCondition {
    fn default() -> Self {
        // It answered when the house was opened.
        Self {
            checkup: Mutex::default(),
            host: RwLock::default(),
            database_answers: AtomicBool::new(true),
            certificate: Mutex::default(),
            renewal_fault: Mutex::default(),
            reached: Arc::default(),
            clocks: Mutex::default(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_is_put_is_told_for_a_while() {
        let (mut clocks, at, now) = (Clocks::default(), OffsetDateTime::UNIX_EPOCH, Instant::now());
        let second = |number: u64| Duration::from_secs(number);
        assert_eq!(clocks.look(at, now), None);
        assert_eq!(clocks.look(at + second(1), now + second(1)), None);
        assert_eq!(clocks.look(at + Duration::from_millis(2_300), now + second(2)), None, "steered");
        assert_eq!(clocks.look(at + second(602), now + second(3)).map(f64::round), Some(599.0));
        assert_eq!(clocks.look(at + second(603), now + second(4)).map(f64::round), Some(599.0));
        assert_eq!(clocks.look(at + second(603 + 3600), now + second(4 + 3600)), None);
    }
}
