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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const PAYLOAD: usize = 1316;

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn start() -> Instant {
        Instant::now()
    }

    /// The input is 136 kB/s: 100 packets a second with their headers.
    #[rstest]
    #[case::max(Bandwidth::Max(50_000), 50_000)]
    #[case::input(Bandwidth::Input { rate: 80_000, overhead: 25 }, 100_000)]
    #[case::estimated(Bandwidth::Estimated { least: 1_000, overhead: 25 }, 170_000)]
    #[case::at_least(Bandwidth::Estimated { least: 400_000, overhead: 50 }, 600_000)]
    fn the_rate_is_what_was_asked_for(#[case] bandwidth: Bandwidth, #[case] expected: u64) {
        let (mut pacing, begin) = (Pacing::new(bandwidth), start());
        for step in 0..1_000 {
            pacing.note_input(begin + Duration::from_millis(step * 10), PAYLOAD);
        }
        assert_eq!(pacing.rate(), expected);
        // Everybody looks every five milliseconds, for two seconds, and always has something to send.
        let begin = begin + Duration::from_secs(10);
        let (mut sent, mut most) = (0_u64, 0);
        for step in 0..400 {
            let (now, before) = (begin + Duration::from_millis(step * 5), sent);
            while pacing.may_send(now) {
                pacing.note_sent(now, PAYLOAD, false);
                sent += PAYLOAD as u64 + PACKET_OVERHEAD;
            }
            most = most.max(sent - before);
        }
        assert!(sent.abs_diff(expected * 2) < expected / 50 + 2_720, "{sent} bytes in two seconds");
        assert!(most <= expected / 100 + 1_360, "{most} bytes at once");
    }

    #[test]
    fn the_second_of_a_probing_pair_follows_at_once() {
        let (mut pacing, now) = (Pacing::new(Bandwidth::Max(10_000)), start());
        pacing.note_sent(now, PAYLOAD, true);
        assert!(pacing.may_send(now));
        pacing.note_sent(now, PAYLOAD, false);
        assert!(
            !pacing.may_send(now + Duration::from_millis(130)) && pacing.may_send(now + Duration::from_millis(137))
        );
    }
}
