//! Blocks of figures, as they are kept: sixty points of each series, packed.
//!
//! A block is: `1`, the first second, the step in seconds, the number of series; then for each series the number of
//! its figure, the length and the bytes of what it is of, and its points. Of the sixty places there are runs, in turn
//! missing and present, until all sixty are told. Each point that is present has its mean as a difference to the one
//! before and, where a step is more than a second, how far the lowest is below and the highest above it. All numbers
//! but the first byte and the figure's are LEB128, differences zigzag; values are multiples of the figure's quantum.

use super::figure::{Figure, SeriesKey};

/// Points of a series in a block.
pub const BLOCK_POINTS: usize = 60;

/// The first byte.
const FORM: u8 = 1;

/// Bytes of a name.
const MAX_NAME: usize = 255;

/// Series in a block: a show's tracks and destinations, with room.
pub(super) const MAX_SERIES: usize = 4096;

/// Values beyond are cut: they keep differences small enough to be added.
const MAX_STEPS: f64 = 1e15;

/// A figure over one step: the lowest, the mean and the highest of what was seen.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// The lowest.
    pub low: f64,
    /// The mean.
    pub mean: f64,
    /// The highest.
    pub high: f64,
}

/// One figure over time: a point for each step, none where nothing was seen.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// Which.
    pub key: SeriesKey,
    /// Its points.
    pub points: Vec<Option<Point>>,
}

/// Sixty steps of all figures. Seconds count from the begin of what is told.
#[derive(Clone, Debug, PartialEq)]
pub struct Block {
    /// The first second.
    pub start_s: u32,
    /// How long a step is.
    pub step_s: u32,
    /// The series.
    pub series: Vec<Series>,
}

/// What is wrong with a block's bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BlockError {
    /// It ends too early.
    #[error("the block ends in the middle")]
    Cut,
    /// It is of another form.
    #[error("the block has form {0}, expected {FORM}")]
    Form(u8),
    /// Something has a value that it cannot have.
    #[error("the block's {0} cannot be")]
    Value(&'static str),
}

impl Block {
    /// Packs it.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = vec![FORM];
        put(&mut out, self.start_s.into());
        put(&mut out, self.step_s.into());
        put(&mut out, self.series.len() as u64);
        for series in &self.series {
            out.push(series.key.figure.number());
            let name = fitting(&series.key.of);
            put(&mut out, name.len() as u64);
            out.extend_from_slice(name.as_bytes());
            encode_points(&mut out, series, self.step_s > 1);
        }
        out
    }

    /// Unpacks it. Figures that this version does not know are left out.
    ///
    /// # Errors
    /// [`BlockError`] if the bytes are no block.
    pub fn decode(bytes: &[u8]) -> Result<Self, BlockError> {
        let mut bytes = Bytes(bytes);
        match bytes.byte()? {
            FORM => {}
            form => return Err(BlockError::Form(form)),
        }
        let small = |value: u64, what| u32::try_from(value).map_err(|_| BlockError::Value(what));
        let start_s = small(bytes.number()?, "start")?;
        let step_s = small(bytes.number()?, "step")?;
        let count = usize::try_from(bytes.number()?).unwrap_or(usize::MAX);
        if step_s == 0 || count > MAX_SERIES {
            return Err(BlockError::Value(if step_s == 0 { "step" } else { "number of series" }));
        }
        let mut series = Vec::new();
        for _ in 0..count {
            let figure = Figure::from_number(bytes.byte()?);
            let of = bytes.name()?;
            let points = decode_points(&mut bytes, figure.map_or(1.0, Figure::quantum), step_s > 1)?;
            series.extend(figure.map(|figure| Series { key: SeriesKey { figure, of }, points }));
        }
        Ok(Self { start_s, step_s, series })
    }
}

fn encode_points(out: &mut Vec<u8>, series: &Series, has_spread: bool) {
    let quantum = series.key.figure.quantum();
    let place = |place: usize| series.points.get(place).copied().flatten();
    let (mut at, mut is_present) = (0, false);
    while at < BLOCK_POINTS {
        let run = (at..BLOCK_POINTS).take_while(|at| place(*at).is_some() == is_present).count();
        put(out, run as u64);
        (at, is_present) = (at + run, !is_present);
    }
    let mut before = 0;
    for point in (0..BLOCK_POINTS).filter_map(place) {
        let mean = steps(point.mean, quantum);
        put(out, zigzag(mean - before));
        before = mean;
        if has_spread {
            put(out, (mean - steps(point.low, quantum)).max(0).unsigned_abs());
            put(out, (steps(point.high, quantum) - mean).max(0).unsigned_abs());
        }
    }
}

fn decode_points(bytes: &mut Bytes<'_>, quantum: f64, has_spread: bool) -> Result<Vec<Option<Point>>, BlockError> {
    let mut present = Vec::with_capacity(BLOCK_POINTS);
    let (mut is_present, mut empty_runs) = (false, 0);
    while present.len() < BLOCK_POINTS {
        let run = usize::try_from(bytes.number()?).unwrap_or(usize::MAX);
        // Only the first run may have nothing in it.
        empty_runs += u32::from(run == 0);
        if run > BLOCK_POINTS - present.len() || empty_runs > 1 {
            return Err(BlockError::Value("run"));
        }
        present.resize(present.len() + run, is_present);
        is_present = !is_present;
    }
    let mut mean = 0i64;
    let point = |is_present: bool| {
        if !is_present {
            return Ok(None);
        }
        mean = mean.checked_add(unzigzag(bytes.number()?)).ok_or(BlockError::Value("difference"))?;
        let mut far = || if has_spread { bytes.number().map(|far| far as f64) } else { Ok(0.0) };
        let (below, above) = (far()?, far()?);
        let mean = mean as f64;
        Ok(Some(Point { low: (mean - below) * quantum, mean: mean * quantum, high: (mean + above) * quantum }))
    };
    present.into_iter().map(point).collect()
}

/// A value in multiples of its quantum.
#[expect(clippy::cast_possible_truncation, reason = "it is cut to what fits")]
fn steps(value: f64, quantum: f64) -> i64 {
    (value / quantum).round().clamp(-MAX_STEPS, MAX_STEPS) as i64
}

fn fitting(name: &str) -> &str {
    let end = (0..=name.len().min(MAX_NAME)).rev().find(|end| name.is_char_boundary(*end));
    &name[..end.unwrap_or(0)]
}

fn zigzag(value: i64) -> u64 {
    (value.wrapping_shl(1) ^ (value >> 63)).cast_unsigned()
}

fn unzigzag(value: u64) -> i64 {
    (value >> 1).cast_signed() ^ -(value & 1).cast_signed()
}

fn put(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push(value.to_le_bytes()[0] | 0x80);
        value >>= 7;
    }
    out.push(value.to_le_bytes()[0]);
}

/// What is left to read.
struct Bytes<'a>(&'a [u8]);

impl Bytes<'_> {
    fn byte(&mut self) -> Result<u8, BlockError> {
        let (first, rest) = self.0.split_first().ok_or(BlockError::Cut)?;
        self.0 = rest;
        Ok(*first)
    }

    fn number(&mut self) -> Result<u64, BlockError> {
        let mut value = 0u64;
        for shift in (0..63).step_by(7) {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                return Ok(value);
            }
        }
        Err(BlockError::Value("number"))
    }

    fn name(&mut self) -> Result<String, BlockError> {
        let length = usize::try_from(self.number()?).ok().filter(|length| *length <= MAX_NAME);
        let length = length.ok_or(BlockError::Value("name"))?;
        let (name, rest) = self.0.split_at_checked(length).ok_or(BlockError::Cut)?;
        self.0 = rest;
        String::from_utf8(name.to_vec()).map_err(|_| BlockError::Value("name"))
    }
}
