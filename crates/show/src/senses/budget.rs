use std::collections::HashMap;
use std::time::Duration;

use parking_lot::Mutex;

/// How much a new measurement counts.
const WEIGHT: f64 = 0.2;

/// How much of a processor all shows together may take to be heard and seen. Over it, each is looked at for a part of the
/// time only: all for the same part.
#[derive(Debug)]
pub struct CheckupBudget {
    share: f64,
    /// What a second of each show takes, in seconds of one processor.
    costs: Mutex<HashMap<u64, f64>>,
}

impl CheckupBudget {
    /// A budget of `share` of one processor; 0 looks at nothing.
    pub fn new(share: f64) -> Self {
        Self { share, costs: Mutex::default() }
    }

    /// For which part of the time shows are looked at: 0 to 1.
    pub fn part(&self) -> f64 {
        let wanted = self.wanted();
        if self.share <= 0.0 { 0.0 } else { (self.share / wanted.max(self.share)).min(1.0) }
    }

    /// What all shows would take if they were looked at all the time, as a share of one processor.
    pub fn wanted(&self) -> f64 {
        self.costs.lock().values().sum()
    }

    /// What they may take.
    pub fn share(&self) -> f64 {
        self.share
    }

    /// Notes what it took to look at `length` of a show.
    pub(crate) fn note(&self, show: u64, took: Duration, length: Duration) {
        if length.is_zero() {
            return;
        }
        let cost = took.as_secs_f64() / length.as_secs_f64();
        let mut costs = self.costs.lock();
        let known = costs.entry(show).or_insert(cost);
        *known += (cost - *known) * WEIGHT;
    }

    /// The show is over.
    pub(crate) fn forget(&self, show: u64) {
        self.costs.lock().remove(&show);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_over_the_budget_is_shared_alike() {
        let (budget, second) = (CheckupBudget::new(0.25), Duration::from_secs(1));
        assert_eq!(budget.part(), 1.0);
        budget.note(1, Duration::from_millis(100), second);
        assert_eq!((budget.part(), budget.wanted()), (1.0, 0.1));
        budget.note(2, Duration::from_millis(400), second);
        assert!((budget.part() - 0.5).abs() < 1e-9);
        budget.forget(2);
        assert_eq!(budget.part(), 1.0);
        assert_eq!(CheckupBudget::new(0.0).part(), 0.0);
    }
}
