use std::time::{Duration, Instant};

/// Length of one bucket.
const BUCKET: Duration = Duration::from_millis(250);

/// Buckets in the window: 3 seconds.
const BUCKETS: usize = 12;

/// Bytes and pictures per second over the last three seconds.
#[derive(Clone, Debug)]
pub struct RateMeter {
    start: Instant,
    /// Bytes and pictures by bucket; the place is the bucket's number modulo the length.
    buckets: [(u64, u64); BUCKETS],
    current: u64,
}

impl RateMeter {
    /// A meter that begins at `now`.
    pub fn new(now: Instant) -> Self {
        Self { start: now, buckets: [(0, 0); BUCKETS], current: 0 }
    }

    /// Counts `bytes` and `frames` at `now`.
    pub fn record(&mut self, now: Instant, bytes: u64, frames: u64) {
        self.advance(now);
        let bucket = &mut self.buckets[place(self.current)];
        bucket.0 += bytes;
        bucket.1 += frames;
    }

    /// Bits and pictures per second up to `now`.
    pub fn rates(&mut self, now: Instant) -> (f64, f64) {
        self.advance(now);
        let (bytes, frames) = self.buckets.iter().fold((0, 0), |sum, bucket| (sum.0 + bucket.0, sum.1 + bucket.1));
        let window = BUCKET.as_secs_f64() * BUCKETS as f64;
        // In the first seconds the window is not full; the bucket being filled counts in part.
        let elapsed = now.saturating_duration_since(self.start).as_secs_f64();
        let partial = (elapsed / BUCKET.as_secs_f64()).fract() * BUCKET.as_secs_f64();
        let full = window - BUCKET.as_secs_f64() + partial;
        let seconds = full.min(elapsed).max(BUCKET.as_secs_f64());
        (bytes as f64 * 8.0 / seconds, frames as f64 / seconds)
    }

    fn advance(&mut self, now: Instant) {
        let elapsed = now.saturating_duration_since(self.start).as_millis() / BUCKET.as_millis();
        let number = u64::try_from(elapsed).unwrap_or(u64::MAX);
        let passed = number.saturating_sub(self.current).min(BUCKETS as u64);
        for step in 0..passed {
            self.buckets[place(number - step)] = (0, 0);
        }
        self.current = self.current.max(number);
    }
}

fn place(number: u64) -> usize {
    usize::try_from(number % BUCKETS as u64).unwrap_or(0)
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    fn run(seconds: u64) -> (RateMeter, Instant) {
        let start = Instant::now();
        let mut meter = RateMeter::new(start);
        let mut now = start;
        for frame in 0..seconds * 25 {
            now = start + Duration::from_millis(frame * 40);
            meter.record(now, 10_000, 1);
        }
        (meter, now)
    }

    #[test]
    fn a_steady_stream_reads_its_rate() {
        for seconds in [1, 2, 5, 60] {
            let (mut meter, now) = run(seconds);
            let (bits, frames) = meter.rates(now);
            assert!((1_800_000.0..2_300_000.0).contains(&bits), "{bits} after {seconds} s");
            assert!((22.5..28.8).contains(&frames), "{frames} after {seconds} s");
        }
    }

    #[test]
    fn silence_falls_to_zero() {
        let (mut meter, now) = run(10);
        assert!(meter.rates(now + Duration::from_secs(4)) == (0.0, 0.0));
        assert!(meter.rates(now + Duration::from_secs(4000)) == (0.0, 0.0));
    }
}
