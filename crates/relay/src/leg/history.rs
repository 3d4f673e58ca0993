use std::time::{Duration, Instant};

/// Gaps that are kept one by one; more are only counted.
const MAX_GAPS: usize = 64;

/// A time in which a platform got nothing though it was to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    /// When it began.
    pub began: Instant,
    /// How long it lasted.
    pub length: Duration,
    /// Why.
    pub reason: String,
}

/// What a leg did over its session: how long it carried, and when and why it did not.
#[derive(Clone, Debug, Default)]
pub struct LegHistory {
    carried: Duration,
    carrying_since: Option<Instant>,
    first_carried: Option<Instant>,
    open: Option<(Instant, String)>,
    gaps: Vec<Gap>,
    gap_count: u32,
    lost: Duration,
}

impl LegHistory {
    /// The platform takes the stream from `now` on.
    pub(super) fn begin(&mut self, now: Instant) {
        self.close_gap(now);
        self.carrying_since = Some(now);
        self.first_carried.get_or_insert(now);
    }

    /// The platform gets nothing from `now` on; a gap begins if there is a reason.
    pub(super) fn stop(&mut self, now: Instant, reason: Option<&str>) {
        let Some(since) = self.carrying_since.take() else {
            if reason.is_none() {
                self.close_gap(now);
            }
            return;
        };
        self.carried += now.saturating_duration_since(since);
        self.open = reason.map(|reason| (now, reason.to_owned()));
    }

    /// When the platform took the stream for the first time.
    pub fn first_carried(&self) -> Option<Instant> {
        self.first_carried
    }

    /// How long the platform got the stream, up to `now`.
    pub fn carried(&self, now: Instant) -> Duration {
        let open = self.carrying_since.map_or(Duration::ZERO, |since| now.saturating_duration_since(since));
        self.carried + open
    }

    /// The first gaps, the open one last.
    pub fn gaps(&self, now: Instant) -> Vec<Gap> {
        let open = self.open.as_ref().map(|(began, reason)| gap(*began, now, reason.clone()));
        self.gaps.iter().cloned().chain(open).collect()
    }

    /// How many gaps there were, and how long all of them lasted.
    pub fn lost(&self, now: Instant) -> (u32, Duration) {
        match &self.open {
            Some((began, _)) => (self.gap_count + 1, self.lost + now.saturating_duration_since(*began)),
            None => (self.gap_count, self.lost),
        }
    }

    fn close_gap(&mut self, now: Instant) {
        let Some((began, reason)) = self.open.take() else { return };
        self.gap_count += 1;
        self.lost += now.saturating_duration_since(began);
        if self.gaps.len() < MAX_GAPS {
            self.gaps.push(gap(began, now, reason));
        }
    }
}

fn gap(began: Instant, now: Instant, reason: String) -> Gap {
    Gap { began, length: now.saturating_duration_since(began), reason }
}
