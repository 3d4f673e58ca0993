use std::collections::VecDeque;
use std::time::{Duration, Instant};

use waverant_media::{MediaTime, TICKS_PER_SECOND};

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

/// Pictures that a rate is made of: two seconds of most shows.
const PICTURES: usize = 61;

/// Fewer tell nothing.
const LEAST_PICTURES: usize = 16;

/// Pictures per second by their own times, which a line that stands still does not change.
#[derive(Clone, Debug, Default)]
pub struct PictureRate {
    times: VecDeque<MediaTime>,
}

impl PictureRate {
    /// Takes the time of the next picture.
    pub fn record(&mut self, time: MediaTime) {
        if self.times.len() == PICTURES {
            self.times.pop_front();
        }
        self.times.push_back(time);
    }

    /// The rate; None before it is known. Gaps in the stream are left out of it.
    pub fn rate(&self) -> Option<f64> {
        if self.times.len() < LEAST_PICTURES {
            return None;
        }
        let mut steps: Vec<i64> =
            self.times.iter().zip(self.times.iter().skip(1)).map(|(a, b)| (*b - *a).ticks()).collect();
        steps.sort_unstable();
        let usual = steps.get(steps.len() / 2).copied().filter(|usual| *usual > 0)?;
        let steps = steps.into_iter().filter(|step| *step > 0 && *step < usual * 3 / 2 + 1);
        let (sum, count) = steps.fold((0, 0), |(sum, count), step| (sum + step, count + 1));
        Some(f64::from(count) * TICKS_PER_SECOND as f64 / sum as f64)
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

    fn rate_of(millis: impl Iterator<Item = i64>) -> Option<f64> {
        let mut rate = PictureRate::default();
        millis.for_each(|millis| rate.record(MediaTime::from_millis(millis)));
        rate.rate()
    }

    #[test]
    fn pictures_tell_their_rate_by_their_times() {
        let of = |(frames, seconds): (i64, i64), count: i64| {
            rate_of((0..count).map(move |number| number * 1000 * seconds / frames))
        };
        for (frames, seconds) in [(24, 1), (25, 1), (30_000, 1_001), (30, 1), (50, 1), (60, 1)] {
            let (found, rate) = (of((frames, seconds), 61).unwrap(), frames as f64 / seconds as f64);
            assert!((found - rate).abs() < rate * 0.02, "{found} of {rate}");
        }
        assert_eq!(of((30, 1), 15), None, "too few");
        // Half a second is missing.
        let found = rate_of((0..61).map(|number| number * 40 + if number > 30 { 500 } else { 0 })).unwrap();
        assert!((found - 25.0).abs() < 0.01, "{found}");
        assert_eq!(rate_of((0..61).map(|_| 7)), None, "a clock that stands still");
    }
}
