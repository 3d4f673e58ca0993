use std::sync::atomic::{AtomicU64, Ordering};

/// Upper bounds of what is counted together, in milliseconds.
const BOUNDS_MS: [u64; 9] = [10, 25, 50, 100, 250, 500, 1000, 2500, 5000];

/// Counts how long something took, or was late. A note costs two additions.
#[derive(Debug, Default)]
pub struct SpreadMeter {
    /// By bound; the last is beyond all of them.
    counts: [AtomicU64; BOUNDS_MS.len() + 1],
    sum_ms: AtomicU64,
}

/// A spread of seconds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Spread {
    /// Upper bounds, and how many were not larger, in rising order.
    pub buckets: Vec<(f64, u64)>,
    /// How many there were.
    pub count: u64,
    /// What they add up to.
    pub sum: f64,
}

impl SpreadMeter {
    /// Counts one of so many milliseconds.
    pub fn note(&self, ms: u64) {
        let place = BOUNDS_MS.iter().position(|bound| ms <= *bound).unwrap_or(BOUNDS_MS.len());
        self.counts[place].fetch_add(1, Ordering::Relaxed);
        self.sum_ms.fetch_add(ms, Ordering::Relaxed);
    }

    /// What was counted.
    pub fn spread(&self) -> Spread {
        let mut count = 0;
        let buckets = BOUNDS_MS.iter().zip(&self.counts).map(|(bound, counted)| {
            count += counted.load(Ordering::Relaxed);
            (*bound as f64 / 1000.0, count)
        });
        let buckets: Vec<(f64, u64)> = buckets.collect();
        let beyond = self.counts[BOUNDS_MS.len()].load(Ordering::Relaxed);
        Spread { buckets, count: count + beyond, sum: self.sum_ms.load(Ordering::Relaxed) as f64 / 1000.0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_counted_once_and_bounds_add_up() {
        let meter = SpreadMeter::default();
        [0, 10, 11, 900, 60_000].into_iter().for_each(|ms| meter.note(ms));
        let Spread { buckets, count, sum } = meter.spread();
        assert_eq!((buckets[0], buckets[1], buckets[6], buckets[8]), ((0.01, 2), (0.025, 3), (1.0, 4), (5.0, 4)));
        assert_eq!((count, sum), (5, 60.921));
    }
}
