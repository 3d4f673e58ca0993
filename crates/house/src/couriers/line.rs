use std::time::Duration;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Semaphore;

/// Calls to one target at a time: it may be slow, and has many channels.
const AT_ONCE: usize = 4;

/// What happens within this time goes into one mail, also into the first.
const MAIL_GATHERS: Duration = Duration::from_secs(10);

/// What is known of a target by telling it.
#[derive(Debug)]
pub(super) struct TargetLine {
    pub(super) turns: Semaphore,
    known: Mutex<Known>,
}

#[derive(Debug, Default)]
struct Known {
    condition: TargetCondition,
    mailed_at: Option<OffsetDateTime>,
}

/// How a target does since the service started, or since it was changed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TargetCondition {
    /// When it took something last.
    pub took_at: Option<OffsetDateTime>,
    /// Since when it takes nothing, and why.
    pub failing: Option<(OffsetDateTime, String)>,
}

impl Default for TargetLine {
    fn default() -> Self {
        Self { turns: Semaphore::new(AT_ONCE), known: Mutex::default() }
    }
}

impl TargetLine {
    pub(super) fn condition(&self) -> TargetCondition {
        self.known.lock().condition.clone()
    }

    pub(super) fn forget(&self) {
        self.known.lock().condition = TargetCondition::default();
    }

    /// It took something. True if it did not before.
    pub(super) fn took(&self, at: OffsetDateTime) -> bool {
        let condition = &mut self.known.lock().condition;
        condition.took_at = Some(at);
        condition.failing.take().is_some()
    }

    /// It took nothing. True if it did before.
    pub(super) fn failed(&self, at: OffsetDateTime, why: &str) -> bool {
        let condition = &mut self.known.lock().condition;
        let since = condition.failing.as_ref().map(|(since, _)| *since);
        condition.failing = Some((since.unwrap_or(at), why.to_owned()));
        since.is_none()
    }

    /// When a mail may be sent about what is due at `due`.
    pub(super) fn mail_due(&self, due: OffsetDateTime, digest: Duration) -> OffsetDateTime {
        let gathered = due + MAIL_GATHERS;
        self.known.lock().mailed_at.map_or(gathered, |mailed| gathered.max(mailed + digest))
    }

    pub(super) fn mailed(&self, at: OffsetDateTime) {
        self.known.lock().mailed_at = Some(at);
    }
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

    #[test]
    fn it_is_known_since_when_a_target_fails() {
        let line = TargetLine::default();
        let later = NOW + Duration::from_secs(60);
        assert!(!line.took(NOW), "nothing was wrong");
        assert!(line.failed(NOW, "closed") && !line.failed(later, "slow"));
        assert_eq!(line.condition().failing, Some((NOW, "slow".to_owned())));
        assert!(line.took(later) && !line.took(later));
        assert_eq!(line.condition(), TargetCondition { took_at: Some(later), failing: None });
    }

    #[test]
    fn mail_is_gathered() {
        let (line, digest) = (TargetLine::default(), Duration::from_secs(300));
        assert_eq!(line.mail_due(NOW, digest), NOW + MAIL_GATHERS);
        line.mailed(NOW);
        assert_eq!(line.mail_due(NOW + Duration::from_secs(1), digest), NOW + digest);
        assert_eq!(line.mail_due(NOW + digest, digest), NOW + digest + MAIL_GATHERS);
    }
}
