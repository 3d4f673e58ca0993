//! MP4 files of any size: boxes are found one after the other, payloads stay where they are.

use std::vec;

use bytes::Bytes;
use waverant_media::{MediaTime, TICKS_PER_SECOND, Track};

use super::boxes::{find_box, for_each_box};
use super::fields::Fields;
use super::fragment::read_fragment;
use super::index::RandomAccess;
use super::limits::SampleBudget;
use super::mark::read_mark;
use super::movie::{TrackHead, read_movie};
use super::raw_sample::RawSample;
use super::sample_entry::is_video;
use crate::parts::{FileError, FileTrack, Known, MAX_MARKS, Mp4Error, SampleRef};
use crate::source::{Source, read_span};

/// The largest `moov` box: the tables of a plain file of some days.
const MAX_MOVIE: u64 = 256 * 1024 * 1024;

/// Samples of a file without fragments: ten hours of 60 pictures and 47 sounds a second. Each takes a hundred
/// bytes while the file is read.
const MAX_SAMPLES: usize = 4_000_000;

/// Samples of one fragment; ours hold half a second.
const MAX_FRAGMENT_SAMPLES: usize = 200_000;

/// The largest `moof` or `emsg` box.
const MAX_HEADER: u64 = 16 * 1024 * 1024;

/// Samples of a plain file in one group.
const GROUP: usize = 512;

/// Where a reader is in a file.
#[derive(Debug)]
pub(crate) struct BoxReader {
    pub(crate) known: Known,
    heads: Vec<TrackHead>,
    /// For each head the place of its track; none for a codec that we do not carry.
    places: Vec<Option<usize>>,
    /// What a plain file has, in decode order.
    plain: vec::IntoIter<SampleRef>,
    at: u64,
    random_access: RandomAccess,
    duration_at: Option<u64>,
}

/// A box as it lies in the file.
struct Found {
    name: [u8; 4],
    /// Where its header begins, and its content.
    at: u64,
    start: u64,
    end: u64,
}

impl BoxReader {
    pub(crate) fn open(source: &impl Source) -> Result<Self, FileError> {
        let (mut at, mut movie) = (0, None);
        while let Some(found) = next_box(source, at)? {
            at = found.end;
            if &found.name == b"moov" {
                movie = Some((found.start, read_content(source, &found, MAX_MOVIE)?));
                break;
            }
        }
        let (movie_at, movie) = movie.ok_or(Mp4Error::NoMovie)?;
        let heads = read_movie(&movie)?;
        let is_video = |head: &&TrackHead| head.codec.as_ref().is_some_and(is_video);
        let indexed = heads.iter().find(is_video).or(heads.first()).map_or(0, |head| head.number);
        let mut reader = Self {
            known: Known { told_duration: told_duration(&movie)?, ..Known::default() },
            random_access: RandomAccess::new(indexed),
            duration_at: duration_at(&movie).map(|at| movie_at + at),
            places: Vec::new(),
            plain: Vec::new().into_iter(),
            at: 0,
            heads,
        };
        for head in &reader.heads {
            let place = head.codec.as_ref().map(|codec| {
                reader.known.tracks.push(FileTrack {
                    track: Track {
                        language: head.language.as_deref().map(Into::into),
                        name: head.name.as_deref().map(Into::into),
                        ..Track::new(head.track_id(), codec.clone())
                    },
                    is_default: head.is_enabled,
                });
                reader.known.tracks.len() - 1
            });
            reader.places.push(place);
        }
        reader.plain = reader.plain_samples(source.len())?.into_iter();
        Ok(reader)
    }

    fn plain_samples(&mut self, file_length: u64) -> Result<Vec<SampleRef>, Mp4Error> {
        let mut samples = Vec::new();
        let mut budget = SampleBudget::new(MAX_SAMPLES);
        for (head, place) in self.heads.iter_mut().zip(&self.places) {
            let found = std::mem::take(&mut head.tables).samples(file_length, &mut budget)?;
            self.known.has_index |= !found.is_empty();
            let Some(place) = place else { continue };
            samples.extend(found.iter().map(|sample| placed(head, *place, sample)));
        }
        samples.sort_by_key(|sample| (sample.dts, sample.offset));
        Ok(samples)
    }

    pub(crate) fn next_group(&mut self, source: &impl Source) -> Result<Option<Vec<SampleRef>>, FileError> {
        let group: Vec<SampleRef> = self.plain.by_ref().take(GROUP).collect();
        if !group.is_empty() {
            return Ok(Some(group));
        }
        while let Some(found) = next_box(source, self.at)? {
            match &found.name {
                b"moof" => {
                    // A fragment counts only if its payload is whole as well.
                    let Some(data) = next_box(source, found.end)? else { return Ok(None) };
                    let group = self.read_fragment(source, &found)?;
                    (self.at, self.known.whole_end) = (data.end, data.end);
                    if !group.is_empty() {
                        return Ok(Some(group));
                    }
                    continue;
                }
                b"emsg" => {
                    let content = read_content(source, &found, MAX_HEADER)?;
                    self.known.marks.extend(read_mark(&content)?.filter(|_| self.known.marks.len() < MAX_MARKS));
                }
                b"mfra" => self.known.has_index = true,
                _ => {}
            }
            (self.at, self.known.whole_end) = (found.end, found.end);
        }
        Ok(None)
    }

    fn read_fragment(&mut self, source: &impl Source, found: &Found) -> Result<Vec<SampleRef>, FileError> {
        let content = read_content(source, found, MAX_HEADER)?;
        let mut raw: Vec<(usize, RawSample)> = Vec::new();
        let mut budget = SampleBudget::new(MAX_FRAGMENT_SAMPLES);
        read_fragment(&mut self.heads, found.at, source.len(), &content, &mut |place, sample| {
            raw.push((place, sample));
            budget.take()
        })?;
        self.note_sync_sample(found.at, &raw);
        let placed = raw.iter().filter_map(|(head, sample)| {
            let place = (*self.places.get(*head)?)?;
            Some(placed(self.heads.get(*head)?, place, sample))
        });
        Ok(placed.collect())
    }
}

impl BoxReader {
    /// Notes where a player can start in a fragment. Each track has one run in our fragments.
    fn note_sync_sample(&mut self, moof_at: u64, samples: &[(usize, RawSample)]) {
        let (mut traf_number, mut sample_number, mut last) = (0, 0, None);
        for (head, sample) in samples {
            if last != Some(*head) {
                (traf_number, sample_number, last) = (traf_number + 1, 0, Some(*head));
            }
            sample_number += 1;
            if sample.sync && self.heads.get(*head).is_some_and(|head| self.random_access.is_of(head.number)) {
                let time = sample.decode_time.saturating_add(sample.offset.into());
                return self.random_access.note(time, moof_at, traf_number, sample_number);
            }
        }
    }

    /// The sync samples that were found up to here.
    pub(super) fn random_access(&self) -> &RandomAccess {
        &self.random_access
    }

    /// Where the head tells the duration of all fragments, in 64 bits.
    pub(super) fn duration_at(&self) -> Option<u64> {
        self.duration_at
    }
}

fn placed(head: &TrackHead, track: usize, sample: &RawSample) -> SampleRef {
    let times = head.times(sample);
    SampleRef {
        track,
        dts: times.dts,
        pts: times.pts,
        duration: times.duration,
        sync: sample.sync,
        offset: sample.at,
        size: sample.size,
    }
}

/// The box at `at`; none if it is not whole.
fn next_box(source: &impl Source, at: u64) -> Result<Option<Found>, FileError> {
    let length = source.len();
    if at.checked_add(8).is_none_or(|end| end > length) {
        return Ok(None);
    }
    let mut header = [0; 8];
    source.read_at(at, &mut header)?;
    let [a, b, c, d, name @ ..] = header;
    let (start, end) = match u32::from_be_bytes([a, b, c, d]) {
        0 => (at + 8, Some(length)),
        1 if at + 16 > length => return Ok(None),
        1 => {
            let mut large = [0; 8];
            source.read_at(at + 8, &mut large)?;
            (at + 16, at.checked_add(u64::from_be_bytes(large)))
        }
        size => (at + 8, at.checked_add(size.into())),
    };
    Ok(end.filter(|end| (start..=length).contains(end)).map(|end| Found { name, at, start, end }))
}

fn read_content(source: &impl Source, found: &Found, limit: u64) -> Result<Bytes, FileError> {
    let size = found.end - found.start;
    let too_large = || FileError::TooLarge { name: found.name.escape_ascii().to_string(), size, limit };
    let length = usize::try_from(size).ok().filter(|_| size <= limit).ok_or_else(too_large)?;
    Ok(read_span(source, found.start, length)?)
}

/// Where in the movie box a `mehd` box tells a duration of 64 bits.
fn duration_at(movie: &Bytes) -> Option<u64> {
    let fragments = find_box(movie, 0, b"mvex")?;
    let header = find_box(&fragments, 0, b"mehd").filter(|header| header.len() == 12 && header[0] == 1)?;
    // Boxes share the memory of the movie, so their distance is their place.
    let offset = (header.as_ptr() as usize).checked_sub(movie.as_ptr() as usize)?;
    u64::try_from(offset + 4).ok()
}

/// From the movie header, or from that of its fragments.
fn told_duration(movie: &Bytes) -> Result<Option<MediaTime>, Mp4Error> {
    let Some(header) = find_box(movie, 0, b"mvhd") else { return Ok(None) };
    let mut fields = Fields::new("mvhd", &header, 0);
    let long = fields.u32()? >> 24 == 1;
    fields.skip(if long { 16 } else { 8 })?;
    let timescale = i64::from(fields.u32()?.max(1));
    let mut ticks = if long { fields.u64()? } else { fields.u32()?.into() };
    for_each_box(movie, 0, &mut |name, content| {
        if name == b"mehd" {
            let mut fields = Fields::new("mehd", content, 0);
            ticks = if fields.u32()? >> 24 == 1 { fields.u64()? } else { fields.u32()?.into() };
        }
        Ok(name == b"mvex")
    })?;
    let ticks = i64::try_from(ticks).unwrap_or(0);
    Ok((ticks > 0).then(|| MediaTime::from_ticks(ticks.saturating_mul(TICKS_PER_SECOND) / timescale)))
}
