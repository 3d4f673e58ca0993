use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// Length of one bucket.
const BUCKET: Duration = Duration::from_millis(100);

/// Whole buckets that are kept: ten seconds; and the one being filled.
const BUCKETS: usize = 101;

/// What arrives, in bytes by tenths of a second.
#[derive(Clone, Debug)]
pub(super) struct ByteRate {
    began: Instant,
    /// By their number modulo the length.
    buckets: [u64; BUCKETS],
    current: u64,
}

impl ByteRate {
    pub(super) fn new(now: Instant) -> Self {
        Self { began: now, buckets: [0; BUCKETS], current: 0 }
    }

    pub(super) fn record(&mut self, now: Instant, bytes: u64) {
        self.advance(now);
        self.buckets[place(self.current)] += bytes;
    }

    /// Bits per second of the last whole tenths that make up `window`, up to ten seconds; of fewer at the beginning.
    /// Error: what one tenth carries, as a keyframe belongs to it or to the next.
    pub(super) fn rate(&mut self, now: Instant, window: Duration) -> f64 {
        self.advance(now);
        let wanted = window.as_millis() / BUCKET.as_millis();
        let wanted = u64::try_from(wanted).unwrap_or(u64::MAX).min(BUCKETS as u64 - 1);
        let count = wanted.min(self.current);
        let bytes: u64 = (1..=count).map(|back| self.buckets[place(self.current - back)]).sum();
        if count == 0 { 0.0 } else { bytes as f64 * 8.0 / (count as f64 * BUCKET.as_secs_f64()) }
    }

    fn advance(&mut self, now: Instant) {
        let elapsed = now.saturating_duration_since(self.began).as_millis() / BUCKET.as_millis();
        let number = u64::try_from(elapsed).unwrap_or(u64::MAX);
        let passed = number.saturating_sub(self.current).min(BUCKETS as u64);
        for step in 0..passed {
            self.buckets[place(number - step)] = 0;
        }
        self.current = self.current.max(number);
    }
}

fn place(number: u64) -> usize {
    usize::try_from(number % BUCKETS as u64).unwrap_or(0)
}

/// Seconds that the usual rate is made of: the two minutes before the newest ten seconds.
const LOOKED_BACK_ON: usize = 130;

/// The newest seconds, which are compared with those before.
const NEWEST: usize = 10;

/// Fewer tens of seconds before them make no usual rate.
const LEAST_TENS: usize = 2;

/// A rate is collapsed below this share of the usual one, and recovered above the other.
const COLLAPSED: f64 = 0.5;
const RECOVERED: f64 = 0.7;

/// A rate that stays low is the usual one after so many seconds.
const GIVEN_UP: u32 = 600;

/// What a stream usually carries, to tell when it carries much less.
#[derive(Clone, Debug, Default)]
pub(super) struct UsualRate {
    /// Bytes of whole seconds, the oldest first.
    seconds: VecDeque<u64>,
    current: Option<(u64, u64)>,
    /// While it is collapsed: what was usual, and for how many seconds it is.
    fallen: Option<(f64, u32)>,
}

impl UsualRate {
    pub(super) fn record(&mut self, at: Duration, bytes: u64) {
        let second = at.as_secs();
        match &mut self.current {
            Some((current, sum)) if second <= *current => *sum += bytes,
            Some((current, sum)) => {
                let (passed, sum) = (second.saturating_sub(*current), *sum);
                self.current = Some((second, bytes));
                self.finish(sum);
                // A stream that stands still says nothing of its rate; a hole of a few seconds is part of it.
                if passed > NEWEST as u64 {
                    (self.seconds, self.fallen) = (VecDeque::new(), None);
                } else {
                    (1..passed).for_each(|_| self.finish(0));
                }
            }
            None => self.current = Some((second, bytes)),
        }
    }

    fn finish(&mut self, bytes: u64) {
        if self.seconds.len() == LOOKED_BACK_ON {
            self.seconds.pop_front();
        }
        self.seconds.push_back(bytes);
        let (usual, newest) = (self.usual(), self.newest());
        self.fallen = match self.fallen {
            Some((was, seconds)) if newest < was * RECOVERED && seconds < GIVEN_UP => Some((was, seconds + 1)),
            Some(_) => {
                // It begins anew with what is the rate now.
                self.seconds.drain(..self.seconds.len().saturating_sub(NEWEST));
                None
            }
            None => usual.filter(|usual| newest < usual * COLLAPSED).map(|usual| (usual, 0)),
        };
    }

    /// What was usual, in bits per second, while it is much less.
    pub(super) fn fallen_from(&self) -> Option<f64> {
        self.fallen.map(|(was, _)| was)
    }

    /// The median of the tens of seconds before the newest, in bits per second.
    fn usual(&self) -> Option<f64> {
        let before: Vec<u64> = self.seconds.iter().rev().skip(NEWEST).copied().collect();
        let mut tens: Vec<u64> = before.chunks_exact(NEWEST).map(|ten| ten.iter().sum()).collect();
        tens.sort_unstable();
        (tens.len() >= LEAST_TENS).then(|| tens[tens.len() / 2] as f64 * 8.0 / NEWEST as f64)
    }

    fn newest(&self) -> f64 {
        let newest = self.seconds.iter().rev().take(NEWEST);
        let (sum, count) = newest.fold((0u64, 0u32), |(sum, count), bytes| (sum + bytes, count + 1));
        if count == 0 { 0.0 } else { sum as f64 * 8.0 / f64::from(count) }
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    #[test]
    fn rates_are_of_whole_tenths() {
        let start = Instant::now();
        let mut rate = ByteRate::new(start);
        assert_eq!(rate.rate(start, Duration::from_secs(1)), 0.0);
        for tenth in 0..300 {
            rate.record(start + Duration::from_millis(tenth * 100 + 50), if tenth % 20 == 0 { 40_000 } else { 10_000 });
        }
        let now = start + Duration::from_secs(30);
        assert_eq!(rate.rate(now, Duration::from_secs(10)), (100.0 * 10_000.0 + 5.0 * 30_000.0) * 0.8);
        assert_eq!(rate.rate(now, Duration::from_secs(1)), 10.0 * 10_000.0 * 8.0);
        assert_eq!(rate.rate(now + Duration::from_secs(20), Duration::from_secs(10)), 0.0);
    }

    #[test]
    fn a_collapse_is_told_until_it_recovers() {
        let mut usual = UsualRate::default();
        let (mut at, mut seen) = (0, Vec::new());
        let mut run = |seconds: u64, megabits: u64| {
            for _ in 0..seconds * 10 {
                usual.record(Duration::from_millis(at * 100), megabits * 12_500);
                at += 1;
            }
            usual.fallen_from()
        };
        seen.push(run(60, 6));
        seen.push(run(12, 2));
        seen.push(run(200, 2));
        seen.push(run(20, 5));
        assert_eq!(seen, [None, Some(6e6), Some(6e6), None]);
        assert_eq!(run(12, 1), Some(5e6), "what it recovered to is usual now");
    }

    #[test]
    fn what_stays_low_is_usual_in_the_end() {
        let mut usual = UsualRate::default();
        for second in 0..800 {
            usual.record(Duration::from_secs(second), if second < 60 { 750_000 } else { 250_000 });
        }
        assert_eq!(usual.fallen_from(), None);
    }
}
