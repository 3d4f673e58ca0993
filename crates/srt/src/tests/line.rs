use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::time::{Duration, Instant};

/// Reproducible numbers (xorshift64*).
#[derive(Clone, Debug)]
pub(super) struct Dice(u64);

impl Dice {
    pub(super) fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub(super) fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// From 0 to 1.
    pub(super) fn fraction(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1_u64 << 53) as f64
    }
}

/// What a line does to datagrams.
#[derive(Clone, Copy, Debug)]
pub(super) struct Faults {
    pub(super) loss: f64,
    /// How often a burst begins, and how many datagrams it takes.
    pub(super) burst: (f64, u32),
    pub(super) duplicate: f64,
    pub(super) delay: Duration,
    /// Added to the delay, evenly spread; order is kept.
    pub(super) jitter: Duration,
    /// How often a datagram is held back so that later ones overtake it, and for how long.
    pub(super) reorder: (f64, Duration),
    /// Bytes per second that pass, and bytes that may wait for it; what is more is lost.
    pub(super) bottleneck: Option<(u32, u32)>,
}

impl Faults {
    pub(super) fn none(delay: Duration) -> Self {
        let zero = Duration::ZERO;
        let (loss, burst, duplicate, reorder, bottleneck) = (0.0, (0.0, 0), 0.0, (0.0, zero), None);
        Self { loss, burst, duplicate, delay, jitter: zero, reorder, bottleneck }
    }
}

/// What happened on a line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Truth {
    pub(super) data: u64,
    pub(super) data_lost: u64,
    pub(super) duplicated: u64,
}

/// One direction of a line.
#[derive(Debug)]
pub(super) struct Line {
    faults: Faults,
    dice: Dice,
    burst_left: u32,
    order: u64,
    last_arrival: Option<Instant>,
    /// When the bottleneck has done with what it has.
    busy_until: Option<Instant>,
    on_the_way: BinaryHeap<Reverse<(Instant, u64, Vec<u8>)>>,
    pub(super) truth: Truth,
}

impl Line {
    pub(super) fn new(faults: Faults, seed: u64) -> Self {
        let (dice, on_the_way, truth) = (Dice::new(seed), BinaryHeap::new(), Truth::default());
        let (last_arrival, busy_until) = (None, None);
        Self { faults, dice, burst_left: 0, order: 0, last_arrival, busy_until, on_the_way, truth }
    }

    pub(super) fn set_faults(&mut self, faults: Faults) {
        self.faults = faults;
    }

    pub(super) fn send(&mut self, now: Instant, datagram: &[u8]) {
        let is_data = datagram[0] & 0x80 == 0;
        self.truth.data += u64::from(is_data);
        if self.dice.fraction() < self.faults.burst.0 {
            self.burst_left = self.faults.burst.1;
        }
        let in_burst = self.burst_left > 0;
        self.burst_left = self.burst_left.saturating_sub(1);
        let through = self.pass_bottleneck(now, datagram.len());
        let Some(through) = through.filter(|_| !in_burst && self.dice.fraction() >= self.faults.loss) else {
            self.truth.data_lost += u64::from(is_data);
            return;
        };
        let in_order = through + self.faults.delay + self.faults.jitter.mul_f64(self.dice.fraction());
        let in_order = self.last_arrival.map_or(in_order, |last| last.max(in_order));
        let arrival = if self.dice.fraction() < self.faults.reorder.0 {
            in_order + self.faults.reorder.1
        } else {
            self.last_arrival = Some(in_order);
            in_order
        };
        self.put(arrival, datagram);
        if self.dice.fraction() < self.faults.duplicate {
            self.truth.duplicated += u64::from(is_data);
            self.put(arrival + Duration::from_micros(300), datagram);
        }
    }

    /// When a datagram is through the bottleneck; None if it finds the queue full.
    fn pass_bottleneck(&mut self, now: Instant, length: usize) -> Option<Instant> {
        let Some((rate, queue)) = self.faults.bottleneck else { return Some(now) };
        let begin = self.busy_until.map_or(now, |until| until.max(now));
        if (begin - now).as_secs_f64() * f64::from(rate) > f64::from(queue) {
            return None;
        }
        let through = begin + Duration::from_secs_f64(length as f64 / f64::from(rate));
        self.busy_until = Some(through);
        Some(through)
    }

    fn put(&mut self, at: Instant, datagram: &[u8]) {
        self.order += 1;
        self.on_the_way.push(Reverse((at, self.order, datagram.to_vec())));
    }

    pub(super) fn next_at(&self) -> Option<Instant> {
        self.on_the_way.peek().map(|Reverse((at, _, _))| *at)
    }

    pub(super) fn arrive(&mut self, now: Instant) -> Option<Vec<u8>> {
        if self.next_at()? > now {
            return None;
        }
        self.on_the_way.pop().map(|Reverse((_, _, datagram))| datagram)
    }
}
