use std::time::{Duration, Instant};

use crate::config::Bandwidth;

/// The input is measured over this long (§5.1.2).
const SAMPLE_LENGTH: Duration = Duration::from_millis(500);

/// What may be caught up of time in which nobody looked, so that a timer per packet is not needed.
const MAX_CATCH_UP: Duration = Duration::from_millis(10);

/// UDP and IP headers and our own, which the line carries as well.
const PACKET_OVERHEAD: u64 = 44;

/// When the next packet may leave (§5.1.2).
#[derive(Clone, Debug)]
pub(super) struct Pacing {
    bandwidth: Bandwidth,
    next_at: Option<Instant>,
    sample_began: Option<Instant>,
    sample_bytes: u64,
    measured: u64,
}

impl Pacing {
    pub(super) fn new(bandwidth: Bandwidth) -> Self {
        Self { bandwidth, next_at: None, sample_began: None, sample_bytes: 0, measured: 0 }
    }

    /// Takes what the application gives.
    pub(super) fn note_input(&mut self, now: Instant, payload: usize) {
        let began = *self.sample_began.get_or_insert(now);
        let elapsed = now.saturating_duration_since(began);
        if elapsed >= SAMPLE_LENGTH {
            let rate = u128::from(self.sample_bytes) * 1_000_000 / elapsed.as_micros().max(1);
            let rate = u64::try_from(rate).unwrap_or(u64::MAX);
            self.measured = if self.measured == 0 { rate } else { (self.measured * 7 + rate) / 8 };
            (self.sample_began, self.sample_bytes) = (Some(now), 0);
        }
        self.sample_bytes += payload as u64 + PACKET_OVERHEAD;
    }

    /// When the next packet may leave; None is at once.
    pub(super) fn next_at(&self) -> Option<Instant> {
        self.next_at
    }

    pub(super) fn may_send(&self, now: Instant) -> bool {
        self.next_at.is_none_or(|at| at <= now)
    }

    /// Takes that a packet leaves.
    pub(super) fn note_sent(&mut self, now: Instant, payload: usize, is_probe: bool) {
        // The second packet of a probing pair follows the first at once.
        if is_probe {
            return;
        }
        let rate = self.rate().max(1);
        let nanos = (payload as u64 + PACKET_OVERHEAD) * 1_000_000_000 / rate;
        let earliest = now.checked_sub(MAX_CATCH_UP).unwrap_or(now);
        let from = self.next_at.map_or(now, |at| at.max(earliest));
        self.next_at = Some(from + Duration::from_nanos(nanos));
    }

    /// Bytes per second that may leave.
    pub(super) fn rate(&self) -> u64 {
        let with_overhead = |rate: u64, overhead: u32| rate.saturating_mul(100 + u64::from(overhead)) / 100;
        match self.bandwidth {
            Bandwidth::Max(rate) => rate,
            Bandwidth::Input { rate, overhead } => with_overhead(rate, overhead),
            Bandwidth::Estimated { least, overhead } => with_overhead(self.measured.max(least), overhead),
        }
    }
}
