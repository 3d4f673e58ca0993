use std::time::Duration;

/// How a leg waits before it dials again.
#[derive(Clone, Debug)]
pub struct LegPolicy {
    /// Wait after the first loss. Default 500 ms.
    pub first_wait: Duration,
    /// The longest wait between dials. Default 30 s.
    pub longest_wait: Duration,
    /// Wait after the first refusal. Platforms refuse for a moment while they still wind up the
    /// stream before. Default 2 s.
    pub first_refused_wait: Duration,
    /// The longest wait after a refusal, reached by doubling: a wrong key does not become right
    /// by asking often. Default 60 s.
    pub refused_wait: Duration,
    /// A leg that carried this long begins again with the first wait. Default 20 s.
    pub steady_after: Duration,
}

impl Default for LegPolicy {
    fn default() -> Self {
        Self {
            first_wait: Duration::from_millis(500),
            longest_wait: Duration::from_secs(30),
            first_refused_wait: Duration::from_secs(2),
            refused_wait: Duration::from_secs(60),
            steady_after: Duration::from_secs(20),
        }
    }
}

impl LegPolicy {
    /// The wait after a refusal, `refusals` after the first one.
    pub(super) fn wait_after_refusal(&self, refusals: u32) -> Duration {
        self.first_refused_wait.saturating_mul(2u32.saturating_pow(refusals)).min(self.refused_wait)
    }

    /// The wait before dial `attempt`, counted from 0: doubled each time up to the longest, less
    /// up to a quarter so that many legs do not dial at one moment. `random` is any number.
    pub(super) fn wait(&self, attempt: u32, random: u32) -> Duration {
        let doubled = self.first_wait.saturating_mul(2u32.saturating_pow(attempt));
        let wait = doubled.min(self.longest_wait);
        wait - wait.mul_f64(f64::from(random) / f64::from(u32::MAX) / 4.0)
    }
}
