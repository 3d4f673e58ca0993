use std::collections::VecDeque;
use std::ops::Range;

use super::block::{BLOCK_POINTS, Block, MAX_SERIES, Point, Series};
use super::figure::SeriesKey;

/// What was seen within one step.
#[derive(Clone, Copy, Debug)]
struct Seen {
    low: f64,
    high: f64,
    sum: f64,
    count: u32,
}

impl Seen {
    const NOTHING: Self = Self { low: f64::INFINITY, high: f64::NEG_INFINITY, sum: 0.0, count: 0 };

    fn note(&mut self, value: f64) {
        self.low = self.low.min(value);
        self.high = self.high.max(value);
        self.sum += value;
        self.count += 1;
    }

    fn point(&self) -> Option<Point> {
        let mean = self.sum / f64::from(self.count.max(1));
        (self.count > 0).then_some(Point { low: self.low, mean, high: self.high })
    }
}

/// The block that grows.
#[derive(Clone, Debug, Default)]
struct Growing {
    start_s: u32,
    series: Vec<(SeriesKey, Vec<Seen>)>,
}

/// Figures thinned to one step: blocks that are whole, packed, and the one that grows.
#[derive(Clone, Debug)]
pub(super) struct Lane {
    step_s: u32,
    keep: usize,
    growing: Growing,
    /// By their first second.
    whole: VecDeque<(u32, Vec<u8>)>,
    /// Whole blocks that are to be written.
    due: VecDeque<u32>,
    /// The first second of which the growing block has told nothing yet.
    told_s: u32,
}

impl Lane {
    /// With steps of so many seconds, of which so many seconds are kept.
    pub(super) fn new(step_s: u32, keep_s: u32) -> Self {
        let keep = usize::try_from(keep_s / block_length(step_s)).unwrap_or(usize::MAX);
        Self { step_s, keep, growing: Growing::default(), whole: VecDeque::new(), due: VecDeque::new(), told_s: 0 }
    }

    /// Takes what was seen at a second. Seconds do not run back.
    pub(super) fn note(&mut self, at_s: u32, samples: &[(SeriesKey, f64)]) {
        let length = block_length(self.step_s);
        let start_s = at_s / length * length;
        if start_s != self.growing.start_s {
            self.close();
            self.growing.start_s = start_s;
        }
        let place = ((at_s - start_s) / self.step_s) as usize;
        let series = &mut self.growing.series;
        let mut expected = 0;
        for (key, value) in samples {
            // They come in the same order each second, or nearly.
            let is_next = series.get(expected).is_some_and(|(known, _)| known == key);
            let found = if is_next { Some(expected) } else { series.iter().position(|(known, _)| known == key) };
            let index = found.unwrap_or(series.len());
            expected = index + 1;
            if index == MAX_SERIES {
                continue;
            }
            if index == series.len() {
                series.push((key.clone(), vec![Seen::NOTHING; BLOCK_POINTS]));
            }
            series[index].1[place].note(*value);
        }
    }

    fn close(&mut self) {
        if let Some(block) = self.grown() {
            self.whole.push_back((block.start_s, block.encode()));
            self.due.push_back(block.start_s);
        }
        self.growing.series.clear();
        while self.whole.len() > self.keep {
            self.whole.pop_front();
        }
    }

    /// The growing block as it is.
    fn grown(&self) -> Option<Block> {
        let point = |seen: &[Seen]| seen.iter().map(Seen::point).collect();
        let series = self.growing.series.iter().map(|(key, seen)| Series { key: key.clone(), points: point(seen) });
        let series: Vec<Series> = series.collect();
        (!series.is_empty()).then_some(Block { start_s: self.growing.start_s, step_s: self.step_s, series })
    }

    /// Blocks to be written: those that became whole, and the growing one if something of `every_s` seconds and more
    /// was not told yet.
    pub(super) fn due(&mut self, now_s: u32, every_s: u32) -> Vec<(u32, Vec<u8>)> {
        let due = std::mem::take(&mut self.due);
        let is_due = |(start, _): &&(u32, Vec<u8>)| due.contains(start);
        let mut blocks: Vec<_> = self.whole.iter().filter(is_due).cloned().collect();
        if now_s.saturating_sub(self.told_s) >= every_s {
            self.told_s = now_s;
            blocks.extend(self.grown().map(|block| (block.start_s, block.encode())));
        }
        blocks
    }

    /// The first second of which there is something here.
    pub(super) fn oldest_s(&self) -> u32 {
        self.whole.front().map_or(self.growing.start_s, |(start, _)| *start)
    }

    /// The packed blocks in which something of a range of seconds is, each with its first second. The one that grows is
    /// packed too: what is told is what will be kept.
    pub(super) fn packed(&self, seconds: Range<u32>) -> Vec<(u32, Vec<u8>)> {
        let length = block_length(self.step_s);
        let meets = |start: u32| start < seconds.end && start.saturating_add(length) > seconds.start;
        let whole = self.whole.iter().filter(|(start, _)| meets(*start)).cloned();
        let growing = self.grown().filter(|block| meets(block.start_s)).map(|block| (block.start_s, block.encode()));
        whole.chain(growing).collect()
    }

    /// Bytes of the blocks that are whole.
    pub(super) fn bytes(&self) -> usize {
        self.whole.iter().map(|(_, bytes)| bytes.len()).sum()
    }
}

fn block_length(step_s: u32) -> u32 {
    step_s.saturating_mul(u32::try_from(BLOCK_POINTS).unwrap_or(u32::MAX))
}
