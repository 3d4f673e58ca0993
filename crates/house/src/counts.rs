use std::collections::BTreeMap;

use parking_lot::Mutex;

/// How often the house had to do something that nobody likes, by reason, since it was started.
#[derive(Debug, Default)]
pub struct Counts(Mutex<BTreeMap<&'static str, u64>>);

impl Counts {
    /// Counts a reason once more.
    pub fn count(&self, reason: &'static str) {
        *self.0.lock().entry(reason).or_default() += 1;
    }

    /// Reasons by name, with how often each came up.
    pub fn all(&self) -> Vec<(&'static str, u64)> {
        self.0.lock().iter().map(|(reason, count)| (*reason, *count)).collect()
    }
}
