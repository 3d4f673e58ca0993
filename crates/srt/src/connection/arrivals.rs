use std::time::{Duration, Instant};

/// Intervals that the receiving rate is judged by, and pairs for the capacity (§4.8, of the
/// report in an acknowledgement).
const ARRIVALS: usize = 16;
const PAIRS: usize = 64;

/// Every so many packets two leave at once, so that the receiver sees how fast the line is.
pub(super) const PROBE_INTERVAL: u32 = 16;

/// How packets come in: their rate, and what the line could carry.
#[derive(Clone, Debug)]
pub(super) struct Arrivals {
    last: Option<Instant>,
    intervals: Window<ARRIVALS>,
    probe: Option<Instant>,
    pairs: Window<PAIRS>,
    second_began: Option<Instant>,
    second_bytes: u64,
    bytes_per_second: u32,
}

impl Arrivals {
    pub(super) fn new() -> Self {
        Self {
            last: None,
            intervals: Window::new(1_000_000),
            probe: None,
            pairs: Window::new(1_000),
            second_began: None,
            second_bytes: 0,
            bytes_per_second: 0,
        }
    }

    /// Takes the arrival of a packet that was sent for the first time.
    pub(super) fn note(&mut self, now: Instant, seq: u32, bytes: usize) {
        if let Some(last) = self.last.replace(now) {
            self.intervals.push(now.saturating_duration_since(last));
        }
        match seq % PROBE_INTERVAL {
            0 => self.probe = Some(now),
            1 => {
                if let Some(first) = self.probe.take() {
                    self.pairs.push(now.saturating_duration_since(first));
                }
            }
            _ => {}
        }
        let began = *self.second_began.get_or_insert(now);
        let elapsed = now.saturating_duration_since(began);
        if elapsed >= Duration::from_secs(1) {
            let rate = u128::from(self.second_bytes) * 1_000_000 / elapsed.as_micros().max(1);
            self.bytes_per_second = u32::try_from(rate).unwrap_or(u32::MAX);
            (self.second_began, self.second_bytes) = (Some(now), 0);
        }
        self.second_bytes += bytes as u64;
    }

    pub(super) fn packets_per_second(&self) -> u32 {
        self.intervals.typical_rate()
    }

    pub(super) fn capacity(&self) -> u32 {
        self.pairs.typical_rate()
    }

    pub(super) fn bytes_per_second(&self) -> u32 {
        self.bytes_per_second
    }
}

/// The newest intervals in microseconds.
#[derive(Clone, Debug)]
struct Window<const LENGTH: usize> {
    values: [u32; LENGTH],
    next: usize,
}

impl<const LENGTH: usize> Window<LENGTH> {
    fn new(initial: u32) -> Self {
        Self { values: [initial; LENGTH], next: 0 }
    }

    fn push(&mut self, interval: Duration) {
        self.values[self.next] = u32::try_from(interval.as_micros()).unwrap_or(u32::MAX);
        self.next = (self.next + 1) % LENGTH;
    }

    /// Per second, from the intervals that are within a factor of eight of the median.
    fn typical_rate(&self) -> u32 {
        let mut sorted = self.values;
        let (_, median, _) = sorted.select_nth_unstable(LENGTH / 2);
        let median = u64::from(*median);
        let typical = self.values.iter().map(|value| u64::from(*value));
        let typical = typical.filter(|value| *value * 8 > median && *value < median * 8);
        let (sum, count) = typical.fold((0, 0), |(sum, count), value| (sum + value, count + 1));
        let rate: u64 = (count * 1_000_000_u64).checked_div(sum).unwrap_or_default();
        u32::try_from(rate).unwrap_or(u32::MAX)
    }
}
