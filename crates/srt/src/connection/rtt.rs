use std::time::Duration;

/// Round trip time and its variance, smoothed (§4.10).
#[derive(Clone, Copy, Debug)]
pub(super) struct RoundTrip {
    time_us: u32,
    variance_us: u32,
    has_sample: bool,
}

impl Default for RoundTrip {
    fn default() -> Self {
        Self { time_us: 100_000, variance_us: 50_000, has_sample: false }
    }
}

impl RoundTrip {
    /// What the handshake took, until it is measured.
    pub(super) fn estimated(time: Duration) -> Self {
        let mut estimate = Self::default();
        estimate.sample(time);
        Self { has_sample: false, ..estimate }
    }

    /// Takes a measurement of our own.
    pub(super) fn sample(&mut self, time: Duration) {
        let time = u32::try_from(time.as_micros()).unwrap_or(u32::MAX).min(60_000_000);
        if self.has_sample {
            let difference = self.time_us.abs_diff(time);
            self.variance_us = (self.variance_us * 3 + difference) / 4;
            self.time_us = u32::try_from((u64::from(self.time_us) * 7 + u64::from(time)) / 8).unwrap_or(time);
        } else {
            (self.time_us, self.variance_us, self.has_sample) = (time, time / 2, true);
        }
    }

    /// Takes what the peer measured; an end that only sends knows no other.
    pub(super) fn adopt(&mut self, time_us: u32, variance_us: u32) {
        (self.time_us, self.variance_us) = (time_us.clamp(1, 60_000_000), variance_us.min(60_000_000));
        self.has_sample = true;
    }

    /// The round trip time, once it was measured by either end.
    pub(super) fn measured(&self) -> Option<Duration> {
        self.has_sample.then(|| self.time())
    }

    pub(super) fn time_us(&self) -> u32 {
        self.time_us
    }

    pub(super) fn variance_us(&self) -> u32 {
        self.variance_us
    }

    pub(super) fn time(&self) -> Duration {
        Duration::from_micros(self.time_us.into())
    }

    pub(super) fn variance(&self) -> Duration {
        Duration::from_micros(self.variance_us.into())
    }

    /// The longest that an answer is likely to take.
    pub(super) fn patience(&self) -> Duration {
        self.time() + self.variance() * 4
    }
}
