use std::time::{Duration, Instant};

use crate::number::TimestampUnwrapper;

/// Samples that one judgement of the drift is made of (§4.7).
const SAMPLES: u32 = 1000;

/// Drift beyond this moves the time base (§4.7).
const MAX_DRIFT_US: i64 = 5_000;

/// When packets are to be handed on: in the rhythm in which the peer's application gave them,
/// a fixed latency later (§4.5).
#[derive(Clone, Debug)]
pub(super) struct DeliveryClock {
    /// Our time at which the peer's clock began.
    base: Instant,
    /// What `base` was moved by since then, in microseconds.
    moved_us: i64,
    latency: Duration,
    unwrapper: TimestampUnwrapper,
    drift_us: i64,
    /// The least of the samples since the last judgement.
    least_sample_us: Option<i64>,
    sample_count: u32,
}

impl DeliveryClock {
    /// A clock of a peer whose handshake, stamped `timestamp`, came at `now`.
    pub(super) fn new(now: Instant, timestamp: u32, latency: Duration) -> Self {
        let lead = Duration::from_micros(timestamp.into());
        // A base before the beginning of our own clock cannot be written down; it is kept apart.
        let (base, moved_us) = match now.checked_sub(lead) {
            Some(base) => (base, 0),
            None => (now, -i64::from(timestamp)),
        };
        Self {
            base,
            moved_us,
            latency,
            unwrapper: TimestampUnwrapper::starting_at(timestamp),
            drift_us: 0,
            least_sample_us: None,
            sample_count: 0,
        }
    }

    /// Microseconds of the peer's clock, without its wraps.
    pub(super) fn unwrap(&mut self, timestamp: u32) -> i64 {
        self.unwrapper.unwrap(timestamp)
    }

    /// Like [`unwrap`](Self::unwrap), for a packet that may be refused: it does not move the clock.
    pub(super) fn peek(&self, timestamp: u32) -> i64 {
        self.unwrapper.clone().unwrap(timestamp)
    }

    /// When a packet with this time is to be handed on.
    pub(super) fn due(&self, peer_time_us: i64) -> Instant {
        let micros = peer_time_us + self.moved_us + self.drift_us;
        let latency_us = i64::try_from(self.latency.as_micros()).unwrap_or(i64::MAX);
        let after_base = micros.saturating_add(latency_us);
        match u64::try_from(after_base) {
            Ok(after) => self.base + Duration::from_micros(after),
            Err(_) => self.base.checked_sub(Duration::from_micros(after_base.unsigned_abs())).unwrap_or(self.base),
        }
    }

    /// The latest time of packets that are to be handed on by `now`.
    pub(super) fn due_until(&self, now: Instant) -> i64 {
        let micros = |duration: Duration| i64::try_from(duration.as_micros()).unwrap_or(i64::MAX);
        let since_base = match now.checked_duration_since(self.base) {
            Some(since) => micros(since),
            None => -micros(self.base.saturating_duration_since(now)),
        };
        since_base - self.moved_us - self.drift_us - micros(self.latency)
    }

    /// Learns from an answer of the peer, stamped by its clock, how far the clocks went apart.
    ///
    /// The specification takes the mean of the samples, corrected by the round trip. We take the
    /// least: a line whose delay varies would else shift the time base by the mean of it.
    pub(super) fn sample(&mut self, now: Instant, timestamp: u32) {
        let peer_time_us = self.unwrapper.unwrap(timestamp);
        let since_base = i64::try_from(now.saturating_duration_since(self.base).as_micros()).unwrap_or(i64::MAX);
        let sample = since_base - (peer_time_us + self.moved_us);
        let least = self.least_sample_us.map_or(sample, |least| least.min(sample));
        self.least_sample_us = Some(least);
        self.sample_count += 1;
        if self.sample_count < SAMPLES {
            return;
        }
        self.drift_us = least;
        (self.least_sample_us, self.sample_count) = (None, 0);
        if self.drift_us.abs() > MAX_DRIFT_US {
            let step = MAX_DRIFT_US * self.drift_us.signum();
            self.moved_us += step;
            self.drift_us -= step;
        }
    }

    /// How far the peer's clock is from where it was at the beginning.
    pub(super) fn drift_us(&self) -> i64 {
        self.moved_us + self.drift_us
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn start() -> Instant {
        Instant::now() + Duration::from_secs(100_000)
    }

    #[test]
    fn packets_are_due_a_latency_after_their_time() {
        let now = start();
        let mut clock = DeliveryClock::new(now, 5_000_000, Duration::from_millis(120));
        let time = clock.unwrap(5_010_000);
        let due = now + Duration::from_millis(130);
        assert_eq!((clock.due(time), clock.due_until(due)), (due, time));
        assert!(clock.due_until(due - Duration::from_micros(1)) < time);
    }

    /// A peer whose clock is 50 parts per million slow is a second late after 20000 s.
    #[test]
    fn drift_is_followed() {
        let now = start();
        let mut clock = DeliveryClock::new(now, 0, Duration::from_millis(120));
        let mut worst = 0;
        for step in 1..=2_000_000_u64 {
            let ours = now + Duration::from_micros(step * 10_000);
            let theirs = step * 10_000 - step / 2;
            clock.sample(ours, (theirs & 0xffff_ffff) as u32);
            if step % 10_000 == 0 {
                let time = clock.unwrap((theirs & 0xffff_ffff) as u32);
                let due = clock.due(time) - Duration::from_millis(120);
                let error = due.max(ours) - due.min(ours);
                worst = worst.max(error.as_micros());
            }
        }
        assert!(worst < 2_000, "{worst} µs from the true time");
        assert!((clock.drift_us() - 1_000_000).abs() < 5_000, "{}", clock.drift_us());
    }
}
