//! The sample tables of a file without fragments.
//!
//! Source: ISO/IEC 14496-12, 8.6 and 8.7

use bytes::Bytes;

use super::fields::Fields;
use super::limits::SampleBudget;
use super::raw_sample::RawSample;
use crate::parts::Mp4Error;

/// Where and when the samples of a track are.
#[derive(Clone, Debug, Default)]
pub(super) struct SampleTables {
    /// Runs of samples of the same duration.
    durations: Vec<(u32, u32)>,
    /// Runs of samples of the same composition offset.
    offsets: Vec<(u32, i32)>,
    /// Numbers of the sync samples, from 1; none if all are.
    syncs: Option<Vec<u32>>,
    /// The size of all samples; 0 if they differ.
    size: u32,
    count: u32,
    sizes: Vec<u32>,
    /// From which chunk on, counted from 1, a chunk has how many samples.
    runs: Vec<(u32, u32)>,
    chunks: Vec<u64>,
}

impl SampleTables {
    /// Takes one of the tables; true if the box is one.
    pub(super) fn read(&mut self, name: &[u8; 4], content: &Bytes) -> Result<bool, Mp4Error> {
        match name {
            b"stts" => {
                let mut fields = Fields::new("stts", content, 4);
                let count = fields.u32()?;
                self.durations = fields.rows(count, |fields| Ok((fields.u32()?, fields.u32()?)))?;
            }
            b"ctts" => {
                let mut fields = Fields::new("ctts", content, 4);
                let count = fields.u32()?;
                self.offsets = fields.rows(count, |fields| Ok((fields.u32()?, fields.i32()?)))?;
            }
            b"stss" => {
                let mut fields = Fields::new("stss", content, 4);
                let count = fields.u32()?;
                self.syncs = Some(fields.rows(count, Fields::u32)?);
            }
            b"stsz" => {
                let mut fields = Fields::new("stsz", content, 4);
                (self.size, self.count) = (fields.u32()?, fields.u32()?);
                if self.size == 0 {
                    self.sizes = fields.rows(self.count, Fields::u32)?;
                }
            }
            b"stsc" => {
                let mut fields = Fields::new("stsc", content, 4);
                let count = fields.u32()?;
                self.runs = fields.rows(count, |fields| {
                    let run = (fields.u32()?, fields.u32()?);
                    fields.u32()?;
                    Ok(run)
                })?;
            }
            b"stco" => {
                let mut fields = Fields::new("stco", content, 4);
                let count = fields.u32()?;
                self.chunks = fields.rows(count, |fields| fields.u32().map(u64::from))?;
            }
            b"co64" => {
                let mut fields = Fields::new("co64", content, 4);
                let count = fields.u32()?;
                self.chunks = fields.rows(count, Fields::u64)?;
            }
            _ => return Ok(false),
        }
        Ok(true)
    }

    /// The samples whose payload lies within a file of `file_length` bytes, in decode order.
    pub(super) fn samples(&self, file_length: u64, budget: &mut SampleBudget) -> Result<Vec<RawSample>, Mp4Error> {
        let mut durations = Runs::new(&self.durations);
        let mut offsets = Runs::new(&self.offsets);
        let mut syncs = self.syncs.as_deref().map(|syncs| syncs.iter().copied().peekable());
        let mut samples = Vec::new();
        let (mut number, mut decode_time) = (0u32, 0i64);
        for (chunk, start) in (1u32..).zip(&self.chunks) {
            let mut at = *start;
            for _ in 0..self.samples_in(chunk) {
                // One size for all costs no bytes a sample: the file's length bounds them.
                if number >= self.count || u64::from(number) > file_length {
                    return Ok(samples);
                }
                let size = if self.size > 0 { Some(self.size) } else { self.sizes.get(number as usize).copied() };
                let Some(size) = size else { return Ok(samples) };
                budget.take()?;
                number += 1;
                let (duration, offset) = (durations.next().unwrap_or(0), offsets.next().unwrap_or(0));
                let sync = syncs.as_mut().is_none_or(|syncs| syncs.next_if(|sync| *sync <= number) == Some(number));
                if size > 0 && at.checked_add(size.into()).is_some_and(|end| end <= file_length) {
                    samples.push(RawSample { decode_time, duration, offset, sync, at, size });
                }
                at = at.saturating_add(size.into());
                decode_time = decode_time.saturating_add(duration.into());
            }
        }
        Ok(samples)
    }

    fn samples_in(&self, chunk: u32) -> u32 {
        self.runs.iter().rev().find(|(first, _)| *first <= chunk).map_or(0, |(_, count)| *count)
    }
}

/// Goes through run lengths one by one.
struct Runs<'a, T> {
    rest: &'a [(u32, T)],
    used: u32,
}

impl<'a, T: Copy> Runs<'a, T> {
    fn new(rest: &'a [(u32, T)]) -> Self {
        Self { rest, used: 0 }
    }

    fn next(&mut self) -> Option<T> {
        while let Some((count, value)) = self.rest.first() {
            if self.used < *count {
                self.used += 1;
                return Some(*value);
            }
            self.rest = self.rest.get(1..).unwrap_or_default();
            self.used = 0;
        }
        None
    }
}
