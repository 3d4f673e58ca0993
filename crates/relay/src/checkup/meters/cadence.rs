use std::collections::VecDeque;

use waverant_media::{MediaTime, TICKS_PER_SECOND};

/// Steps between pictures are looked back on for this long.
const WINDOW: i64 = 10 * TICKS_PER_SECOND;

/// And no more of them than this: ten seconds of 120 pictures.
const MAX_STEPS: usize = 1200;

/// Fewer steps tell nothing.
const LEAST_STEPS: usize = 15;

/// What is longer is a hole in the stream, and no step.
const HOLE: i64 = TICKS_PER_SECOND;

/// Steps may differ from the usual one by this and be even: what rounding to milliseconds does, and half as much again.
const ROUNDING: i64 = TICKS_PER_SECOND * 3 / 2 / 1000;

/// How pictures follow each other, by their own times: a line that stands still does not change it.
#[derive(Clone, Debug, Default)]
pub(super) struct Cadence {
    last: Option<MediaTime>,
    /// In ticks, the oldest first.
    steps: VecDeque<i64>,
    sum: i64,
}

/// What is known of how pictures followed each other in the last ten seconds.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct CadenceFigures {
    /// Pictures per second: their count by the time that they take. Error: where times are rounded to milliseconds, a
    /// ten-thousandth.
    pub rate: f64,
    /// Pictures per second at the usual step between two: what the encoder is set to.
    pub usual_rate: f64,
    /// The share of steps that are uneven: longer or shorter than the usual one by 1.5 ms and 5 %, and not a multiple.
    pub uneven_share: f64,
    /// The share of pictures that are missing: what fits into steps that are multiples of the usual one.
    pub missing_share: f64,
    /// The standard deviation of steps, in milliseconds. Rounding to milliseconds alone makes 0.5.
    pub spread_ms: f64,
}

impl Cadence {
    /// Takes the decode time of the next picture.
    pub(super) fn record(&mut self, time: MediaTime) {
        let Some(last) = self.last.replace(time) else { return };
        let step = (time - last).ticks();
        if step <= 0 || step > HOLE {
            return;
        }
        self.steps.push_back(step);
        self.sum += step;
        while self.sum > WINDOW || self.steps.len() > MAX_STEPS {
            self.sum -= self.steps.pop_front().unwrap_or(self.sum);
        }
    }

    /// Pictures per second at the usual step; None before it is known. Holes are left out of it.
    pub(super) fn usual_rate(&self) -> Option<f64> {
        self.figures().map(|figures| figures.usual_rate)
    }

    /// The figures; None before sixteen pictures.
    pub(super) fn figures(&self) -> Option<CadenceFigures> {
        if self.steps.len() < LEAST_STEPS {
            return None;
        }
        let mut sorted: Vec<i64> = self.steps.iter().copied().collect();
        sorted.sort_unstable();
        let usual = sorted[sorted.len() / 2];
        let tolerance = ROUNDING + usual / 20;
        let is_usual = |step: &i64| (step - usual).abs() <= tolerance;
        // Steps are rounded, and their mean is not.
        let (usual_sum, usual_count) =
            self.steps.iter().filter(|step| is_usual(step)).fold((0, 0), |(sum, count), step| (sum + step, count + 1));
        let exact = usual_sum as f64 / f64::from(usual_count);
        let (mut uneven, mut missing, mut squares) = (0, 0, 0.0);
        let count = self.steps.len() as f64;
        let mean = self.sum as f64 / count;
        for step in &self.steps {
            squares += (*step as f64 - mean).powi(2);
            if is_usual(step) {
                continue;
            }
            let times = (step + usual / 2) / usual;
            match times >= 2 && (*step as f64 - times as f64 * exact).abs() <= tolerance as f64 {
                true => missing += times - 1,
                false => uneven += 1,
            }
        }
        let per_second = TICKS_PER_SECOND as f64;
        Some(CadenceFigures {
            rate: count * per_second / self.sum as f64,
            usual_rate: per_second / exact,
            uneven_share: f64::from(uneven) / count,
            missing_share: missing as f64 / (count + missing as f64),
            spread_ms: (squares / count).sqrt() * 1000.0 / per_second,
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn of_millis(times: impl IntoIterator<Item = i64>) -> Option<CadenceFigures> {
        let mut cadence = Cadence::default();
        times.into_iter().for_each(|millis| cadence.record(MediaTime::from_millis(millis)));
        cadence.figures()
    }

    #[rstest]
    #[case(24, 1)]
    #[case(25, 1)]
    #[case(30_000, 1_001)]
    #[case(30, 1)]
    #[case(50, 1)]
    #[case(60_000, 1_001)]
    #[case(60, 1)]
    #[case(120, 1)]
    fn even_pictures_tell_their_rate(#[case] frames: i64, #[case] seconds: i64) {
        let found = of_millis((0..3600).map(|number| number * 1000 * seconds / frames)).unwrap();
        let rate = frames as f64 / seconds as f64;
        assert!((found.rate - rate).abs() < rate * 2e-4, "{found:?} of {rate}");
        assert!((found.usual_rate - rate).abs() < rate * 2e-4, "{found:?} of {rate}");
        assert_eq!((found.uneven_share, found.missing_share), (0.0, 0.0), "{found:?}");
        assert!(found.spread_ms < 0.6, "{found:?}");
    }

    #[test]
    fn missing_pictures_are_no_uneven_ones() {
        let found = of_millis((0..250).filter(|number| number % 10 != 3).map(|number| number * 40)).unwrap();
        assert!((found.missing_share - 0.1).abs() < 0.01 && found.uneven_share == 0.0, "{found:?}");
        assert!((found.rate - 22.5).abs() < 0.2 && (found.usual_rate - 25.0).abs() < 0.01, "{found:?}");
    }

    #[test]
    fn a_variable_rate_is_uneven() {
        let mut at = 0;
        let found = of_millis((0..400).map(|number| {
            at += 20 + number * 7 % 41;
            at
        }));
        let found = found.unwrap();
        assert!(found.uneven_share > 0.5 && found.spread_ms > 8.0, "{found:?}");
    }

    #[test]
    fn holes_and_clocks_that_stand_still_are_left_out() {
        let found = of_millis((0..61).map(|number| number * 40 + if number > 30 { 1500 } else { 0 })).unwrap();
        assert!((found.usual_rate - 25.0).abs() < 0.01 && found.missing_share == 0.0, "{found:?}");
        assert_eq!(of_millis((0..61).map(|_| 7)), None);
        assert_eq!(of_millis((0..15).map(|number| number * 40)), None, "too few");
    }

    #[test]
    fn what_is_kept_is_bounded() {
        let mut cadence = Cadence::default();
        for tick in 0..100_000 {
            cadence.record(MediaTime::from_ticks(tick));
        }
        assert_eq!(cadence.steps.len(), MAX_STEPS);
    }
}
