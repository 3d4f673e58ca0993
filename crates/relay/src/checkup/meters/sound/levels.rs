use std::collections::VecDeque;
use std::time::Duration;

use waverant_media::MediaTime;

use super::SoundFigures;

/// How long a block is.
const BLOCK: Duration = Duration::from_millis(100);

/// Blocks that are looked back on: ten seconds.
const KEPT: usize = 100;

/// And for the levels that are drawn: one second; for what channels have in common: three.
const SHOWN: usize = 10;
const COMPARED: usize = 30;

/// What is below this is silence, as power: -60 dBFS.
const SILENCE: f64 = 1e-6;

/// Samples at least this large are at full scale.
const FULL: f32 = 0.9995;

/// So many in a row at full scale are a clip: one or two are reached by good sound as well.
const CLIP: u32 = 3;

/// A tenth of a second of sound.
#[derive(Clone, Debug)]
pub(super) struct Block {
    /// Samples per channel.
    length: usize,
    channels: Vec<Channel>,
    /// Of the first two channels: the sum of their products.
    product: f64,
}

#[derive(Clone, Copy, Debug, Default)]
struct Channel {
    squares: f64,
    peak: f32,
    /// Samples at full scale in a row, up to the newest.
    run: u32,
    clips: u32,
}

impl Block {
    pub(super) fn new(channels: usize) -> Self {
        Self { length: 0, channels: vec![Channel::default(); channels], product: 0.0 }
    }

    pub(super) fn length(&self) -> usize {
        self.length
    }

    pub(super) fn push(&mut self, samples: &[f32]) {
        for frame in samples.chunks_exact(self.channels.len()) {
            for (channel, sample) in self.channels.iter_mut().zip(frame) {
                channel.push(*sample);
            }
            if let [left, right, ..] = frame {
                self.product += f64::from(*left) * f64::from(*right);
            }
            self.length += 1;
        }
    }

    fn power(&self, channel: usize) -> f64 {
        self.channels[channel].squares / self.length.max(1) as f64
    }
}

impl Channel {
    fn push(&mut self, sample: f32) {
        let size = sample.abs();
        self.squares += f64::from(sample) * f64::from(sample);
        self.peak = self.peak.max(size);
        self.run = if size >= FULL { self.run + 1 } else { 0 };
        self.clips += u32::from(self.run == CLIP);
    }
}

/// The levels of the last ten seconds.
#[derive(Debug)]
pub(super) struct Levels {
    /// The oldest first.
    blocks: VecDeque<Block>,
    /// Up to when each channel was loud enough to be heard; none before it was.
    loud_until: Vec<Option<MediaTime>>,
    /// Blocks in which others were heard since then.
    without: Vec<u32>,
    began: Option<MediaTime>,
    newest: MediaTime,
}

impl Levels {
    pub(super) fn new(channels: usize) -> Self {
        Self {
            blocks: VecDeque::with_capacity(KEPT),
            loud_until: vec![None; channels],
            without: vec![0; channels],
            began: None,
            newest: MediaTime::ZERO,
        }
    }

    /// Takes the block that ended at `end`.
    pub(super) fn push(&mut self, end: MediaTime, block: Block) {
        self.began.get_or_insert(end);
        self.newest = end;
        let is_loud = |place: usize| block.power(place) >= SILENCE;
        let is_heard = (0..self.without.len()).any(is_loud);
        for (place, (loud_until, without)) in self.loud_until.iter_mut().zip(&mut self.without).enumerate() {
            if is_loud(place) {
                (*loud_until, *without) = (Some(end), 0);
            } else {
                *without = without.saturating_add(is_heard.into());
            }
        }
        if self.blocks.len() == KEPT {
            self.blocks.pop_front();
        }
        self.blocks.push_back(block);
    }

    pub(super) fn figures(&self) -> SoundFigures {
        let shown = || self.blocks.iter().rev().take(SHOWN);
        let places = 0..self.loud_until.len();
        let rms = places.clone().map(|place| {
            let (sum, count) = shown().fold((0.0, 0u32), |(sum, count), block| (sum + block.power(place), count + 1));
            decibels((sum / f64::from(count.max(1))).sqrt())
        });
        let peak = places.map(|place| {
            let peak = shown().map(|block| block.channels[place].peak).fold(0.0, f32::max);
            decibels(peak.into())
        });
        let quiet = self.loud_until.iter().map(|loud| {
            let since = loud.or(self.began).unwrap_or(self.newest);
            (self.newest - since).to_duration()
        });
        let clips = self.blocks.iter().flat_map(|block| &block.channels).map(|channel| channel.clips).sum();
        SoundFigures {
            rms: rms.collect(),
            peak: peak.collect(),
            quiet_for: quiet.collect(),
            without_for: self.without.iter().map(|blocks| BLOCK * *blocks).collect(),
            clip_count: clips,
            correlation: self.correlation(),
            ..SoundFigures::default()
        }
    }

    fn correlation(&self) -> Option<f64> {
        if self.loud_until.len() != 2 || self.blocks.len() < COMPARED {
            return None;
        }
        let (mut product, mut left, mut right) = (0.0, 0.0, 0.0);
        for block in self.blocks.iter().rev().take(COMPARED) {
            product += block.product / block.length.max(1) as f64;
            left += block.power(0);
            right += block.power(1);
        }
        let is_heard = left.min(right) >= SILENCE * COMPARED as f64;
        is_heard.then(|| product / (left * right).sqrt())
    }
}

/// An amplitude in dBFS; None for nothing.
pub(super) fn decibels(amplitude: f64) -> Option<f64> {
    (amplitude > 0.0).then(|| 20.0 * amplitude.log10())
}
