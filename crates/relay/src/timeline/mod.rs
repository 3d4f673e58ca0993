//! The timeline: figures over time. Each second is kept for a while, and thinned to ten seconds and to a minute for
//! longer. Seconds count from the begin of what is told.

mod block;
mod figure;
mod lane;
mod strip;
#[cfg(test)]
mod tests;

use std::ops::Range;

pub use block::{BLOCK_POINTS, Block, BlockError, Point, Series};
pub use figure::{Figure, SeriesKey};
use lane::Lane;
pub use strip::Strip;

/// Steps that are kept, in seconds: the finest in memory alone, the others for long.
pub const STEPS: [u32; 3] = [1, TENS, MINUTES];

const TENS: u32 = 10;
const MINUTES: u32 = 60;

/// How many seconds of each step are in memory.
const KEPT: [u32; 3] = [7_200, 24 * 3_600, 30 * 24 * 3_600];

/// After so many seconds a block that grows is told as it is: that is what a kill loses.
const TOLD_EVERY: [u32; 3] = [u32::MAX, 60, 600];

/// A block to be written; a later one with the same begin and step replaces an earlier one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueBlock {
    /// How long a step is.
    pub step_s: u32,
    /// The first second.
    pub start_s: u32,
    /// The packed block.
    pub bytes: Vec<u8>,
}

/// What of a range is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// Seconds since the begin.
    pub seconds: Range<u32>,
    /// The step to read: one of [`STEPS`].
    pub step_s: u32,
    /// So many of those make one point.
    pub factor: usize,
}

impl Wanted {
    /// A range with at most so many points, of steps that are kept where it begins.
    pub fn fitting(seconds: Range<u32>, points: u32, oldest_second: u32) -> Self {
        let length = seconds.end.saturating_sub(seconds.start).max(1);
        let fits =
            |step: &u32| length.div_ceil(*step) <= points.max(1) && (*step > 1 || oldest_second <= seconds.start);
        let step_s = STEPS.into_iter().find(fits).unwrap_or(MINUTES);
        let factor = length.div_ceil(step_s).div_ceil(points.max(1));
        Self { seconds, step_s, factor: factor as usize }
    }
}

/// The figures of a show or of the machine over time.
#[derive(Clone, Debug)]
pub struct Timeline {
    lanes: [Lane; 3],
    now_s: u32,
}

impl Default for Timeline {
    fn default() -> Self {
        let lane = |index: usize| Lane::new(STEPS[index], KEPT[index]);
        Self { lanes: [lane(0), lane(1), lane(2)], now_s: 0 }
    }
}

impl Timeline {
    /// Takes what was seen at a second. A second that lies before one that was told already is left out, and so is what
    /// is no number.
    pub fn note(&mut self, at_s: u32, mut samples: Vec<(SeriesKey, f64)>) {
        if at_s < self.now_s {
            return;
        }
        self.now_s = at_s;
        samples.retain(|(_, value)| value.is_finite());
        self.lanes.iter_mut().for_each(|lane| lane.note(at_s, &samples));
    }

    /// What is to be written by now.
    pub fn due(&mut self) -> Vec<DueBlock> {
        self.told(TOLD_EVERY)
    }

    /// All that was not written yet: nothing follows.
    pub fn finish(&mut self) -> Vec<DueBlock> {
        self.told([u32::MAX, 0, 0])
    }

    fn told(&mut self, every: [u32; 3]) -> Vec<DueBlock> {
        let now_s = self.now_s;
        let lanes = self.lanes.iter_mut().zip(STEPS).zip(every).skip(1);
        let due = lanes.flat_map(|((lane, step_s), every_s)| {
            let blocks = lane.due(now_s, every_s).into_iter();
            blocks.map(move |(start_s, bytes)| DueBlock { step_s, start_s, bytes })
        });
        due.collect()
    }

    /// The newest second.
    pub fn now_s(&self) -> u32 {
        self.now_s
    }

    /// The first second that is here with a step.
    pub fn oldest_s(&self, step_s: u32) -> u32 {
        self.lane(step_s).oldest_s()
    }

    /// The packed blocks in which something of a range of seconds is, each with its first second; of a step that is not
    /// kept, the next longer one.
    pub fn packed(&self, seconds: Range<u32>, step_s: u32) -> Vec<(u32, Vec<u8>)> {
        self.lane(step_s).packed(seconds)
    }

    fn lane(&self, step_s: u32) -> &Lane {
        let index = STEPS.iter().position(|kept| *kept >= step_s).unwrap_or(STEPS.len() - 1);
        &self.lanes[index]
    }

    /// Bytes of what is packed.
    pub fn bytes(&self) -> usize {
        self.lanes.iter().map(Lane::bytes).sum()
    }
}
