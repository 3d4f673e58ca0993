use std::time::Duration;

use waverant_media::MediaTime;

/// A point this dark is black: video black is 16, and noise lies above it.
const BLACK: u8 = 28;

/// So many of the points are black in a black picture.
const BLACK_SHARE: f64 = 0.99;

/// The mean of a picture that is too dark to be watched.
const DARK: f64 = 40.0;

/// A point has changed if it differs by more than this; in a frozen picture fewer than one in five hundred have.
const CHANGE: u8 = 3;
const FROZEN_SHARE: f64 = 0.002;

/// Judges keyframes that are looked at now and then: points of brightness in, figures out.
#[derive(Clone, Debug, Default)]
pub struct PictureMeter {
    last: Option<(MediaTime, Vec<u8>)>,
    brightness: f64,
    black_since: Option<MediaTime>,
    dark_since: Option<MediaTime>,
    still_since: Option<MediaTime>,
}

/// What is known of the pictures.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct PictureFigures {
    /// The mean of all points of the newest picture that was looked at, from 0 to 1.
    pub brightness: f64,
    /// For how long all that was looked at was black. Error: the time between two looks.
    pub black_for: Duration,
    /// For how long it was too dark, black or not.
    pub dark_for: Duration,
    /// For how long nothing changed in it.
    pub still_for: Duration,
}

impl PictureMeter {
    /// Takes points that lie evenly over the picture of `time`, each from 0 to 255.
    pub fn record(&mut self, time: MediaTime, points: &[u8]) {
        if points.is_empty() {
            return;
        }
        let count = points.len() as f64;
        let share = |matching: usize| matching as f64 / count;
        let mean = points.iter().map(|point| f64::from(*point)).sum::<f64>() / count;
        let is_black = share(points.iter().filter(|point| **point <= BLACK).count()) >= BLACK_SHARE;
        let since = |is_so: bool, before: Option<MediaTime>| is_so.then(|| before.unwrap_or(time));
        self.black_since = since(is_black, self.black_since);
        self.dark_since = since(mean < DARK, self.dark_since);
        self.still_since = match &self.last {
            Some((then, last)) if last.len() == points.len() => {
                let changed = last.iter().zip(points).filter(|(one, other)| one.abs_diff(**other) > CHANGE).count();
                (share(changed) < FROZEN_SHARE).then(|| self.still_since.unwrap_or(*then))
            }
            _ => None,
        };
        self.brightness = mean / 255.0;
        self.last = Some((time, points.to_vec()));
    }

    /// The figures; None before a picture was looked at.
    pub fn figures(&self) -> Option<PictureFigures> {
        let (newest, _) = self.last.as_ref()?;
        let length = |since: Option<MediaTime>| since.map_or(Duration::ZERO, |since| (*newest - since).to_duration());
        Some(PictureFigures {
            brightness: self.brightness,
            black_for: length(self.black_since),
            dark_for: length(self.dark_since),
            still_for: length(self.still_since),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(pictures: &[Vec<u8>]) -> PictureFigures {
        let mut meter = PictureMeter::default();
        for (number, points) in (0..).zip(pictures) {
            meter.record(MediaTime::from_millis(number * 5000), points);
        }
        meter.figures().unwrap()
    }

    fn noisy(level: u8, seed: usize) -> Vec<u8> {
        (0..5000)
            .map(|place| level + (place * 7 + seed * 13).wrapping_mul(2_654_435_761).to_be_bytes()[5] % 9)
            .collect()
    }

    #[test]
    fn black_dark_and_still_pictures_are_told_apart() {
        let seconds = |figures: PictureFigures| {
            (figures.black_for.as_secs(), figures.dark_for.as_secs(), figures.still_for.as_secs())
        };
        assert_eq!(seconds(run(&[vec![16; 5000], vec![16; 5000], vec![17; 5000]])), (10, 10, 10), "black");
        assert_eq!(seconds(run(&[noisy(17, 0), noisy(17, 1), noisy(17, 2)])), (10, 10, 0), "black with noise");
        assert_eq!(seconds(run(&[noisy(30, 0), noisy(30, 1), noisy(30, 2)])), (0, 10, 0), "dark");
        assert_eq!(seconds(run(&[noisy(120, 0), noisy(120, 0), noisy(120, 0)])), (0, 0, 10), "frozen");
        assert_eq!(seconds(run(&[noisy(120, 0), noisy(120, 1), noisy(120, 2)])), (0, 0, 0), "a camera that stands");
    }

    #[test]
    fn a_small_clock_is_a_change() {
        let mut other = vec![120; 5000];
        other[100..120].fill(200);
        assert_eq!(run(&[vec![120; 5000], other]).still_for, Duration::ZERO);
        assert_eq!(run(&[vec![120; 5000], vec![120; 100]]).still_for, Duration::ZERO, "another size");
        assert!(PictureMeter::default().figures().is_none());
    }
}
