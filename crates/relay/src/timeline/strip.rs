use std::ops::Range;

use super::block::{Block, Point, Series};

/// Points of all series together; series that would be more are left out. Fifty destinations over a day fit.
const MOST_CELLS: usize = 3_000_000;

/// Figures over a range of time, all on the same steps.
#[derive(Clone, Debug, PartialEq)]
pub struct Strip {
    /// The first second.
    pub start_s: u32,
    /// How long a step is.
    pub step_s: u32,
    /// How many steps there are.
    pub count: usize,
    /// The series by key, each with `count` points.
    pub series: Vec<Series>,
}

impl Strip {
    /// A range of seconds with nothing in it. It begins and ends with whole steps.
    pub fn new(seconds: Range<u32>, step_s: u32) -> Self {
        let start_s = seconds.start / step_s * step_s;
        let count = (seconds.end.saturating_sub(start_s)).div_ceil(step_s) as usize;
        Self { start_s, step_s, count, series: Vec::new() }
    }

    /// Puts a block's points of the same step to their places; the first is of `start_s`, which may lie before what is
    /// told here. Points that stand there already stay, unless the block has others.
    pub fn add(&mut self, block: &Block, start_s: i64) {
        if block.step_s != self.step_s {
            return;
        }
        let first = (start_s - i64::from(self.start_s)).div_euclid(self.step_s.into());
        for series in &block.series {
            let place = match self.series.binary_search_by(|known| known.key.cmp(&series.key)) {
                Ok(place) => place,
                Err(_) if (self.series.len() + 1).saturating_mul(self.count) > MOST_CELLS => continue,
                Err(place) => {
                    let points = vec![None; self.count];
                    self.series.insert(place, Series { key: series.key.clone(), points });
                    place
                }
            };
            let points = &mut self.series[place].points;
            for (index, point) in (first..).zip(&series.points) {
                let slot = usize::try_from(index).ok().and_then(|index| points.get_mut(index));
                if let (Some(slot), Some(point)) = (slot, point) {
                    *slot = Some(*point);
                }
            }
        }
    }

    /// Makes one step of so many.
    pub fn widen(&mut self, factor: usize) {
        if factor <= 1 {
            return;
        }
        for series in &mut self.series {
            series.points = series.points.chunks(factor).map(join).collect();
        }
        self.count = self.count.div_ceil(factor);
        self.step_s = self.step_s.saturating_mul(u32::try_from(factor).unwrap_or(u32::MAX));
    }

    /// Leaves out series that are not wanted.
    pub fn keep(&mut self, is_wanted: impl Fn(&Series) -> bool) {
        self.series.retain(is_wanted);
    }
}

/// One point of many.
fn join(points: &[Option<Point>]) -> Option<Point> {
    let there = || points.iter().flatten();
    let count = there().count();
    (count > 0).then(|| Point {
        low: there().map(|point| point.low).fold(f64::INFINITY, f64::min),
        mean: there().map(|point| point.mean).sum::<f64>() / count as f64,
        high: there().map(|point| point.high).fold(f64::NEG_INFINITY, f64::max),
    })
}
