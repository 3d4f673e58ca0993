use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// How much a count grew within the last seconds. Memory is bounded by the window: a value a second.
#[derive(Clone, Debug)]
pub struct Growth {
    window: Duration,
    /// The oldest first.
    totals: VecDeque<(Instant, u64)>,
}

impl Growth {
    /// Nothing yet; a count begins at 0.
    pub fn within(window: Duration) -> Self {
        Self { window, totals: VecDeque::new() }
    }

    /// Takes the count as it is at `now`, once a second, and returns by how much it grew within the window.
    pub fn record(&mut self, now: Instant, total: u64) -> u64 {
        let is_past = |at: &Instant| now.saturating_duration_since(*at) > self.window;
        // The newest that is past is what the window began with.
        while self.totals.get(1).is_some_and(|(at, _)| is_past(at)) {
            self.totals.pop_front();
        }
        let before = match self.totals.front() {
            Some((at, before)) if is_past(at) => *before,
            _ => 0,
        };
        self.totals.push_back((now, total));
        total.saturating_sub(before)
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    #[test]
    fn growth_is_of_the_window() {
        let (start, mut growth) = (Instant::now(), Growth::within(Duration::from_secs(60)));
        let mut at = |second: u64, total| growth.record(start + Duration::from_secs(second), total);
        assert_eq!(at(0, 2), 2, "what happened before the first look is new");
        assert_eq!(at(30, 5), 5);
        assert_eq!(at(61, 5), 3);
        assert_eq!(at(91, 5), 0);
        for second in 92..1000 {
            assert_eq!(at(second, 5), 0);
        }
        assert!(growth.totals.len() < 63);
    }
}
