use std::sync::Arc;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio_util::sync::{CancellationToken, DropGuard};

/// How long somebody may stay whom another system of the house let in.
#[derive(Debug)]
pub struct Stay {
    until: Mutex<Option<OffsetDateTime>>,
    end: Mutex<Option<String>>,
    gone: CancellationToken,
    _guard: DropGuard,
}

impl Stay {
    /// A stay until then; without an end if there is none.
    pub fn new(until: Option<OffsetDateTime>) -> Arc<Self> {
        let gone = CancellationToken::new();
        let guard = gone.clone().drop_guard();
        Arc::new(Self { until: Mutex::new(until), end: Mutex::new(None), gone, _guard: guard })
    }

    /// Cancelled when whoever stays is gone.
    pub fn gone(&self) -> CancellationToken {
        self.gone.clone()
    }

    /// Moves its end.
    pub fn set_until(&self, until: Option<OffsetDateTime>) {
        *self.until.lock() = until;
    }

    /// Ends it.
    pub fn end(&self, reason: String) {
        self.end.lock().get_or_insert(reason);
    }

    /// Why it is over at `now`, if it is.
    pub fn fault(&self, now: OffsetDateTime) -> Option<String> {
        let is_over = self.until.lock().is_some_and(|until| until <= now);
        let over = || is_over.then(|| "the time is over for which the house's system let it in".to_owned());
        self.end.lock().clone().or_else(over)
    }
}

#[cfg(test)]
mod tests {
    use time::Duration;

    use super::*;

    #[test]
    fn a_stay_is_over_at_its_end_or_when_it_is_ended() {
        let now = OffsetDateTime::UNIX_EPOCH;
        let stay = Stay::new(Some(now + Duration::HOUR));
        assert_eq!(stay.fault(now), None);
        assert!(stay.fault(now + Duration::HOUR).is_some());
        stay.set_until(None);
        assert_eq!(stay.fault(now + Duration::HOUR), None);
        stay.end("not a member any more".to_owned());
        stay.end("another reason".to_owned());
        assert_eq!(stay.fault(now).as_deref(), Some("not a member any more"));
    }

    #[test]
    fn whoever_looks_after_it_hears_that_it_is_gone() {
        let stay = Stay::new(None);
        let (gone, other) = (stay.gone(), stay.clone());
        drop(stay);
        assert!(!gone.is_cancelled());
        drop(other);
        assert!(gone.is_cancelled());
    }
}
