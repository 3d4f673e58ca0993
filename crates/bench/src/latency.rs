/// Latencies of single frames, in milliseconds.
#[derive(Debug, Default)]
pub(crate) struct Latencies(Vec<f64>);

impl Latencies {
    pub(crate) fn push(&mut self, milliseconds: f64) {
        self.0.push(milliseconds);
    }

    pub(crate) fn extend(&mut self, other: Self) {
        self.0.extend(other.0);
    }

    /// The value that `percent` of all do not exceed; nearest rank.
    pub(crate) fn percentile(&self, percent: f64) -> f64 {
        let mut sorted = self.0.clone();
        sorted.sort_by(f64::total_cmp);
        let rank = (1..=sorted.len()).find(|rank| *rank as f64 * 100.0 >= percent * sorted.len() as f64);
        rank.and_then(|rank| sorted.get(rank - 1)).copied().unwrap_or(f64::NAN)
    }
}

#[cfg(test)]
mod tests {
    use super::Latencies;

    #[test]
    fn percentiles_are_nearest_ranks() {
        let latencies = Latencies((1..=200).rev().map(f64::from).collect());
        assert_eq!((latencies.percentile(50.0), latencies.percentile(99.0)), (100.0, 198.0));
        assert!(Latencies::default().percentile(50.0).is_nan());
    }
}
