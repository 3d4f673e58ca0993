use std::collections::VecDeque;
use std::time::Duration;

/// A trend is of so many seconds at most.
const LONGEST: usize = 600;

/// What the last of these many seconds tell for certain is the trend: the longest is the most exact, and what began not
/// long ago shows in shorter ones only. Fewer tell none.
const WINDOWS: [usize; 3] = [LONGEST, 240, SHORTEST];
const SHORTEST: usize = 60;

/// What a value may step by from one second to the next; beyond it something else begins.
const MAX_STEP_MS: f64 = 500.0;

/// A trend counts when it has moved the value by so many times what is left unexplained. One step in an otherwise level
/// value gives six at most, wherever it is.
const CERTAIN: f64 = 8.0;

/// How fast a delay in milliseconds grows, found beneath what shakes it.
///
/// Of each second the smallest value counts, as a packet may come too late but never too early; a straight line is laid
/// through those of the last ten, four or one minutes by least squares.
#[derive(Clone, Debug, Default)]
pub(super) struct Trend {
    /// The smallest value of each whole second, with the second; the oldest first.
    minima: VecDeque<(f64, f64)>,
    /// The second that is going on, and its smallest value.
    current: Option<(u64, f64)>,
}

impl Trend {
    /// Takes `value`, in milliseconds, at a time since the meter began.
    pub(super) fn record(&mut self, at: Duration, value: f64) {
        let second = at.as_secs();
        match &mut self.current {
            Some((current, least)) if second <= *current => *least = least.min(value),
            Some((current, least)) => {
                let (finished, least) = (*current, *least);
                self.current = Some((second, value));
                self.finish(finished, least);
            }
            None => self.current = Some((second, value)),
        }
    }

    fn finish(&mut self, second: u64, least: f64) {
        if self.minima.back().is_some_and(|(_, before)| (least - before).abs() > MAX_STEP_MS) {
            self.minima.clear();
        }
        if self.minima.len() == LONGEST {
            self.minima.pop_front();
        }
        self.minima.push_back((second as f64, least));
    }

    /// The newest whole second's value, in milliseconds.
    pub(super) fn newest(&self) -> Option<f64> {
        self.minima.back().map(|(_, value)| *value)
    }

    /// Growth in milliseconds per second. None before a minute has passed, or while what shakes the value is too strong
    /// to tell: the line must explain eight times what it leaves. Error: for steady jitter of standard deviation `s` ms
    /// and `n` seconds about `3.5 · s / n^1.5`.
    pub(super) fn growth(&self) -> Option<f64> {
        let known = self.minima.len();
        let mut windows = WINDOWS.into_iter().map(|window| window.min(known)).filter(|window| *window >= SHORTEST);
        windows.find_map(|window| self.growth_of(known - window))
    }

    /// Of what is known from a place on.
    fn growth_of(&self, from: usize) -> Option<f64> {
        let points = || self.minima.range(from..);
        let count = points().len() as f64;
        let mean = |of: fn(&(f64, f64)) -> f64| points().map(of).sum::<f64>() / count;
        let (mid_x, mid_y) = (mean(|point| point.0), mean(|point| point.1));
        let (mut over, mut under, mut total) = (0.0, 0.0, 0.0);
        for (x, y) in points() {
            over += (x - mid_x) * (y - mid_y);
            under += (x - mid_x) * (x - mid_x);
            total += (y - mid_y) * (y - mid_y);
        }
        let growth = over / under;
        let unexplained = ((total - growth * over).max(0.0) / count).sqrt();
        let (first, last) = (self.minima.get(from)?.0, self.minima.back()?.0);
        // What stands still is level for certain.
        let is_certain = (growth * (last - first)).abs() >= CERTAIN * unexplained;
        is_certain.then_some(growth)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn shaken(seconds: u64, of: impl Fn(f64) -> f64) -> Trend {
        let mut trend = Trend::default();
        let mut seed = 7u64;
        for tick in 0..seconds * 30 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let jitter = (seed >> 40) as f64 / f64::from(1 << 24) * 20.0;
            let at = tick as f64 / 30.0;
            trend.record(Duration::from_secs_f64(at), of(at) + jitter);
        }
        trend
    }

    #[rstest]
    #[case::fast(0.2)]
    #[case::slow(-0.1)]
    #[case::a_drifting_sound(40.0 / 60.0)]
    fn growth_is_found_beneath_jitter(#[case] growth: f64) {
        let found = shaken(121, |at| at * growth).growth().unwrap();
        assert!((found - growth).abs() < 0.01, "{found} of {growth}");
    }

    #[test]
    fn what_is_level_or_steps_once_has_no_trend() {
        assert_eq!(shaken(600, |_| 5.0).growth(), None);
        for place in [60.0, 150.0, 300.0, 450.0, 570.0] {
            assert_eq!(shaken(600, |at| if at < place { 0.0 } else { 80.0 }).growth(), None, "a step at {place}");
        }
    }

    #[test]
    fn a_minute_is_needed_and_a_jump_begins_anew() {
        assert_eq!(shaken(59, |at| at).growth(), None);
        assert_eq!(shaken(90, |at| if at < 60.0 { at } else { at + 900.0 }).growth(), None);
    }

    #[test]
    fn it_is_of_the_last_ten_minutes() {
        let trend = shaken(7200, |at| at * 0.3);
        assert_eq!(trend.minima.len(), LONGEST);
    }
}
