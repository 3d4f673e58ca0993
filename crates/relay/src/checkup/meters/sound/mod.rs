//! What is heard: levels and loudness of decoded sound.

mod levels;
#[cfg(test)]
mod tests;

use std::collections::VecDeque;
use std::time::Duration;

use ebur128::{EbuR128, Mode};
use waverant_media::MediaTime;

use levels::{Block, Levels};

/// Sound is looked at in blocks of this length.
const BLOCKS_PER_SECOND: u32 = 10;

/// A minute of blocks.
const MINUTE: usize = 600;

/// Below this nothing counts as loud (EBU R 128's absolute gate).
const GATE: f64 = -70.0;

/// More channels are not listened to.
const MAX_CHANNELS: usize = 8;

/// Rates that are listened to, in Hz.
const RATES: std::ops::RangeInclusive<u32> = 8_000..=192_000;

/// Measures one track of sound: samples in, figures out. Memory is bounded, however long a show is.
///
/// Source: EBU R 128, ITU-R BS.1770, EBU Tech 3341 and 3342
#[derive(Debug)]
pub struct SoundMeter {
    rate: u32,
    channels: usize,
    loudness: EbuR128,
    block: Block,
    levels: Levels,
    /// Momentary loudness of the last minute, a value per block, as power; the oldest first.
    minute: VecDeque<f64>,
    /// What was heard, in samples per channel.
    heard: u64,
}

/// What is known of a track's sound. Levels are in dBFS (a full square wave is 0), loudness in LUFS; None is silence,
/// or not known yet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SoundFigures {
    /// How much of it was listened to.
    pub heard: Duration,
    /// Each channel over the last second: the mean of squares. Exact to the samples.
    pub rms: Vec<Option<f64>>,
    /// Each channel over the last second: the largest sample.
    pub peak: Vec<Option<f64>>,
    /// The largest true peak of all channels since the beginning, in dBTP. Error: 0.5 below what it is.
    pub true_peak: Option<f64>,
    /// Loudness of the last 400 ms. Error of all loudness: 0.1 LU.
    pub momentary: Option<f64>,
    /// Of the last 3 s.
    pub short_term: Option<f64>,
    /// Since the beginning, silence left out.
    pub integrated: Option<f64>,
    /// Of the last minute, silence left out.
    pub last_minute: Option<f64>,
    /// The loudness range since the beginning, in LU. Error: 1 LU.
    pub range: Option<f64>,
    /// For how long each channel has been below -60 dBFS.
    pub quiet_for: Vec<Duration>,
    /// For how long another channel was heard since each was last above that.
    pub without_for: Vec<Duration>,
    /// How often in the last ten seconds three samples or more in a row were at full scale.
    pub clip_count: u32,
    /// How alike the first two channels are over the last three seconds: 1 the same, -1 turned over. None for one channel,
    /// and for silence.
    pub correlation: Option<f64>,
}

impl SoundMeter {
    /// A meter for sound of this kind; None for one that is not listened to.
    pub fn new(rate: u32, channels: usize) -> Option<Self> {
        if !RATES.contains(&rate) || !(1..=MAX_CHANNELS).contains(&channels) {
            return None;
        }
        let mode = Mode::I | Mode::LRA | Mode::TRUE_PEAK | Mode::HISTOGRAM;
        Some(Self {
            rate,
            channels,
            loudness: EbuR128::new(u32::try_from(channels).ok()?, rate, mode).ok()?,
            block: Block::new(channels),
            levels: Levels::new(channels),
            minute: VecDeque::with_capacity(MINUTE),
            heard: 0,
        })
    }

    /// True if sound of this kind goes into it.
    pub fn is_for(&self, rate: u32, channels: usize) -> bool {
        (self.rate, self.channels) == (rate, channels)
    }

    /// Takes samples of all channels in turn, the first of which is of `time`. What does not make a whole sample of all
    /// channels is left out.
    pub fn push(&mut self, time: MediaTime, samples: &[f32]) {
        let in_block = (self.rate / BLOCKS_PER_SECOND) as usize;
        let mut time = time;
        let mut rest = &samples[..samples.len() / self.channels * self.channels];
        while !rest.is_empty() {
            let wanted = (in_block - self.block.length()) * self.channels;
            let (part, after) = rest.split_at(wanted.min(rest.len()));
            self.block.push(part);
            // It fails only for samples that are no whole number of all channels.
            let _ = self.loudness.add_frames_f32(part);
            let length = (part.len() / self.channels) as u64;
            self.heard += length;
            time = time + ticks(length, self.rate);
            if self.block.length() == in_block {
                self.finish(time);
            }
            rest = after;
        }
    }

    fn finish(&mut self, end: MediaTime) {
        let block = std::mem::replace(&mut self.block, Block::new(self.channels));
        self.levels.push(end, block);
        if self.minute.len() == MINUTE {
            self.minute.pop_front();
        }
        let momentary = self.loudness.loudness_momentary().unwrap_or(f64::NEG_INFINITY);
        self.minute.push_back(if momentary > GATE { power(momentary) } else { 0.0 });
    }

    /// The figures.
    pub fn figures(&self) -> SoundFigures {
        let known = |loudness: Result<f64, ebur128::Error>| loudness.ok().filter(|value| *value > GATE);
        let channels = u32::try_from(self.channels).unwrap_or(0);
        let peaks = (0..channels).filter_map(|channel| self.loudness.true_peak(channel).ok());
        let loud = || self.minute.iter().filter(|power| **power > 0.0);
        let mean = loud().sum::<f64>() / loud().count().max(1) as f64;
        SoundFigures {
            heard: Duration::from_secs_f64(self.heard as f64 / f64::from(self.rate)),
            true_peak: levels::decibels(peaks.fold(0.0, f64::max)),
            momentary: known(self.loudness.loudness_momentary()),
            short_term: known(self.loudness.loudness_shortterm()),
            integrated: known(self.loudness.loudness_global()),
            last_minute: (mean > 0.0).then(|| loudness(mean)),
            range: self.loudness.loudness_range().ok(),
            ..self.levels.figures()
        }
    }
}

/// Loudness as power, and back.
fn power(loudness: f64) -> f64 {
    10f64.powf(loudness / 10.0)
}

fn loudness(power: f64) -> f64 {
    10.0 * power.log10()
}

fn ticks(samples: u64, rate: u32) -> MediaTime {
    let ticks = samples.saturating_mul(90_000) / u64::from(rate);
    MediaTime::from_ticks(i64::try_from(ticks).unwrap_or(i64::MAX))
}
