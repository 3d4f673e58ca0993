//! The `moov` box: which tracks there are, and where the samples of a plain file lie.

use bytes::Bytes;
use waverant_media::{CodecParameters, MediaTime, TICKS_PER_SECOND, TrackId};

use super::boxes::for_each_box;
use super::fields::Fields;
use super::init::{HANDLER_PICTURE, HANDLER_SOUND};
use super::raw_sample::RawSample;
use super::sample_entry::read_sample_entry;
use super::tables::SampleTables;
use crate::language;
use crate::parts::{MAX_TRACKS, Mp4Error};

/// A track as the head of a file describes it, and how far its fragments were read.
#[derive(Clone, Debug, Default)]
pub(super) struct TrackHead {
    pub(super) number: u32,
    pub(super) codec: Option<CodecParameters>,
    pub(super) language: Option<String>,
    pub(super) name: Option<String>,
    pub(super) is_enabled: bool,
    pub(super) timescale: u32,
    /// Where on the track's clock the presentation begins; negative if it begins before the track.
    pub(super) edit_start: i64,
    /// How long nothing is presented at first, on the clock of the movie.
    delay: u64,
    pub(super) default_duration: u32,
    pub(super) default_size: u32,
    pub(super) default_flags: u32,
    pub(super) next_decode_time: i64,
    pub(super) tables: SampleTables,
}

/// When a sample is decoded and presented, and how long it lasts.
pub(super) struct SampleTimes {
    pub(super) dts: MediaTime,
    pub(super) pts: MediaTime,
    pub(super) duration: MediaTime,
}

impl TrackHead {
    /// The number under which the tracks of a session are known.
    pub(super) fn track_id(&self) -> TrackId {
        TrackId(u8::try_from(self.number.saturating_sub(1)).unwrap_or(u8::MAX))
    }

    /// The times of a sample, after the edit list.
    pub(super) fn times(&self, sample: &RawSample) -> SampleTimes {
        let shifted = sample.decode_time.saturating_sub(self.edit_start);
        SampleTimes {
            dts: self.to_media_time(shifted),
            pts: self.to_media_time(shifted.saturating_add(sample.offset.into())),
            duration: self.to_media_time(sample.duration.into()),
        }
    }

    fn to_media_time(&self, ticks: i64) -> MediaTime {
        let scaled = i128::from(ticks) * i128::from(TICKS_PER_SECOND) / i128::from(self.timescale.max(1));
        MediaTime::from_ticks(i64::try_from(scaled).unwrap_or(i64::MAX))
    }
}

/// Reads the content of a `moov` box.
pub(super) fn read_movie(movie: &Bytes) -> Result<Vec<TrackHead>, Mp4Error> {
    let (mut tracks, mut movie_timescale) = (Vec::new(), 0);
    for_each_box(movie, 0, &mut |name, content| {
        match name {
            b"mvhd" => {
                let mut fields = Fields::new("mvhd", content, 0);
                let long = fields.u32()? >> 24 == 1;
                fields.skip(if long { 16 } else { 8 })?;
                movie_timescale = fields.u32()?;
            }
            b"trak" if tracks.len() >= MAX_TRACKS => return Err(Mp4Error::TooManyTracks),
            b"trak" => tracks.push(read_track(content)?),
            _ => {}
        }
        Ok(false)
    })?;
    for track in &mut tracks {
        let delay = i128::from(track.delay) * i128::from(track.timescale) / i128::from(movie_timescale.max(1));
        track.edit_start = track.edit_start.saturating_sub(i64::try_from(delay).unwrap_or(0));
    }
    for_each_box(movie, 0, &mut |name, content| {
        if name == b"trex" {
            read_defaults(&mut tracks, content)?;
        }
        Ok(name == b"mvex")
    })?;
    Ok(tracks)
}

fn read_defaults(tracks: &mut [TrackHead], content: &Bytes) -> Result<(), Mp4Error> {
    let mut fields = Fields::new("trex", content, 4);
    let number = fields.u32()?;
    fields.u32()?;
    let (duration, size, flags) = (fields.u32()?, fields.u32()?, fields.u32()?);
    if let Some(track) = tracks.iter_mut().find(|track| track.number == number) {
        (track.default_duration, track.default_size, track.default_flags) = (duration, size, flags);
    }
    Ok(())
}

fn read_track(content: &Bytes) -> Result<TrackHead, Mp4Error> {
    let mut track = TrackHead::default();
    for_each_box(content, 0, &mut |name, content| {
        match name {
            b"tkhd" => {
                let mut fields = Fields::new("tkhd", content, 0);
                let head = fields.u32()?;
                track.is_enabled = head & 1 != 0;
                fields.skip(if head >> 24 == 1 { 16 } else { 8 })?;
                track.number = fields.u32()?;
            }
            b"mdhd" => {
                let mut fields = Fields::new("mdhd", content, 0);
                let long = fields.u32()? >> 24 == 1;
                fields.skip(if long { 16 } else { 8 })?;
                track.timescale = fields.u32()?;
                fields.skip(if long { 8 } else { 4 })?;
                // Some files end the box here.
                let packed = fields.u16().unwrap_or(0);
                track.language = track.language.take().or_else(|| language::tag(&unpacked_language(packed)));
            }
            // Source: ISO/IEC 14496-12, 8.4.6: it stands above the code of `mdhd`.
            b"elng" => track.language = text_of(content.get(4..)).filter(|tag| tag != "und"),
            b"hdlr" => {
                let told = text_of(content.get(24..));
                track.name = told.filter(|name| name != HANDLER_PICTURE && name != HANDLER_SOUND);
            }
            b"elst" => (track.delay, track.edit_start) = read_edit_list(content)?,
            b"stsd" => track.codec = read_sample_entry(track.number, content)?,
            _ => {
                track.tables.read(name, content)?;
            }
        }
        Ok(matches!(name, b"mdia" | b"minf" | b"stbl" | b"edts"))
    })?;
    if track.timescale == 0 {
        return Err(Mp4Error::Timescale { track: track.number });
    }
    Ok(track)
}

/// A text that ends with a zero; none if it is empty.
fn text_of(content: Option<&[u8]>) -> Option<String> {
    let text = content?.split(|byte| *byte == 0).next()?;
    (!text.is_empty()).then(|| String::from_utf8_lossy(text).into_owned())
}

/// Three letters of five bits.
///
/// Source: ISO/IEC 14496-12, 8.4.2.3
fn unpacked_language(packed: u16) -> String {
    [10, 5, 0].into_iter().map(|shift| char::from((packed >> shift & 0x1f).to_le_bytes()[0] + 0x60)).collect()
}

/// How long the empty edits at the begin last, and where the first edit that shows media begins.
fn read_edit_list(content: &Bytes) -> Result<(u64, i64), Mp4Error> {
    let mut fields = Fields::new("elst", content, 0);
    let long = fields.u32()? >> 24 == 1;
    let mut delay = 0u64;
    for _ in 0..fields.u32()? {
        let (length, start) = match long {
            true => (fields.u64()?, fields.u64()?.cast_signed()),
            false => (fields.u32()?.into(), fields.i32()?.into()),
        };
        fields.u32()?;
        if start >= 0 {
            return Ok((delay, start));
        }
        delay = delay.saturating_add(length);
    }
    Ok((0, 0))
}
