use bytes::Bytes;
use thiserror::Error;
use waverant_media::{CodecParameters, MediaTime, TICKS_PER_SECOND, TrackId};

use super::NON_SYNC_BIT;
use super::fields::Fields;
use super::sample_entry::read_sample_entry;
use super::tables::SampleTables;

/// Boxes may hold boxes this deep; a file needs 8.
const MAX_DEPTH: u8 = 16;

/// Why a file could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Mp4Error {
    /// A box is shorter than its fields.
    #[error("box `{name}` ends too early")]
    Truncated {
        /// The four letters of the box.
        name: String,
    },
    /// The file holds no movie box.
    #[error("no `moov` box: this is not an MP4 file, or its head is missing")]
    NoMovie,
    /// A track's codec configuration is damaged.
    #[error("track {track}: {reason}")]
    Codec {
        /// The track's number in the file.
        track: u32,
        /// What is wrong.
        reason: String,
    },
    /// Boxes nest too deep.
    #[error("boxes nest deeper than {MAX_DEPTH}")]
    TooDeep,
    /// A track's clock does not run.
    #[error("track {track} has a timescale of 0")]
    Timescale {
        /// The track's number in the file.
        track: u32,
    },
}

/// One coded sample.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mp4Sample {
    /// Decode time after the edit list; may be negative by the edit's start.
    pub dts: MediaTime,
    /// Presentation time after the edit list.
    pub pts: MediaTime,
    /// How long the sample lasts.
    pub duration: MediaTime,
    /// True for a sync sample.
    pub sync: bool,
    /// The coded bytes; they share the memory of the file.
    pub payload: Bytes,
}

/// A track with its samples in decode order.
#[derive(Clone, Debug)]
pub struct Mp4Track {
    /// The track's number in the file.
    pub number: u32,
    /// Codec and decoder configuration; none for a codec that we do not carry.
    pub codec: Option<CodecParameters>,
    /// The samples.
    pub samples: Vec<Mp4Sample>,
    timescale: u32,
    edit_start: i64,
    default_duration: u32,
    default_size: u32,
    default_flags: u32,
    next_decode_time: i64,
}

impl Mp4Track {
    /// The number under which the tracks of a session are known.
    pub fn track_id(&self) -> TrackId {
        TrackId(u8::try_from(self.number.saturating_sub(1)).unwrap_or(u8::MAX))
    }

    fn to_media_time(&self, ticks: i64) -> MediaTime {
        let scaled = i128::from(ticks) * i128::from(TICKS_PER_SECOND) / i128::from(self.timescale.max(1));
        MediaTime::from_ticks(i64::try_from(scaled).unwrap_or(i64::MAX))
    }
}

/// An MP4 file, with fragments or without, read from memory.
#[derive(Clone, Debug)]
pub struct Mp4File {
    /// The tracks in file order.
    pub tracks: Vec<Mp4Track>,
    /// True if the file ends inside a box, as after a crash; whole fragments before it were read.
    pub truncated: bool,
}

impl Mp4File {
    /// Reads a file. A cut-off last fragment is left out and reported by
    /// [`truncated`](Self::truncated); samples whose payload is not there are left out as well.
    ///
    /// # Errors
    /// [`Mp4Error`] if there is no movie box, or a box within it is damaged.
    pub fn parse(file: &Bytes) -> Result<Self, Mp4Error> {
        let mut found = Self { tracks: Vec::new(), truncated: false };
        let mut at = 0;
        let mut has_movie = false;
        while at < file.len() {
            let Some((name, content, end)) = next_box(file, at) else {
                found.truncated = true;
                break;
            };
            match &name {
                b"moov" => {
                    has_movie = true;
                    found.read_movie(Some(file), &content)?;
                }
                // A fragment counts only if its payload is whole as well.
                b"moof" if next_box(file, end).is_none() => {
                    found.truncated = true;
                    break;
                }
                b"moof" => found.read_fragment(Some(file), at, &content)?,
                _ => {}
            }
            at = end;
        }
        if has_movie { Ok(found) } else { Err(Mp4Error::NoMovie) }
    }

    /// Length of the presentation: the end of the sample that is presented last.
    pub fn duration(&self) -> MediaTime {
        let samples = self.tracks.iter().flat_map(|track| &track.samples);
        samples.map(|sample| sample.pts + sample.duration).max().unwrap_or_default()
    }

    /// How long a file plays, from the content of its `moov` box and of its last `moof` box; the
    /// payload is not needed.
    ///
    /// # Errors
    /// [`Mp4Error`] if a box is damaged.
    pub fn duration_from_boxes(movie: &Bytes, last_fragment: &Bytes) -> Result<MediaTime, Mp4Error> {
        let mut file = Self { tracks: Vec::new(), truncated: false };
        file.read_movie(None, movie)?;
        file.read_fragment(None, 0, last_fragment)?;
        Ok(file.duration())
    }

    fn read_movie(&mut self, file: Option<&Bytes>, movie: &Bytes) -> Result<(), Mp4Error> {
        for_each_box(movie, 0, &mut |name, content| {
            if name == b"trak" {
                self.tracks.push(read_track(file, content)?);
            }
            Ok(name == b"mvex")
        })?;
        for_each_box(movie, 0, &mut |name, content| {
            if name == b"trex" {
                self.read_defaults(content)?;
            }
            Ok(name == b"mvex")
        })
    }

    fn read_defaults(&mut self, content: &Bytes) -> Result<(), Mp4Error> {
        let mut fields = Fields::new("trex", content, 4);
        let number = fields.u32()?;
        fields.u32()?;
        let (duration, size, flags) = (fields.u32()?, fields.u32()?, fields.u32()?);
        if let Some(track) = self.tracks.iter_mut().find(|track| track.number == number) {
            (track.default_duration, track.default_size, track.default_flags) = (duration, size, flags);
        }
        Ok(())
    }

    fn read_fragment(&mut self, file: Option<&Bytes>, moof_at: usize, content: &Bytes) -> Result<(), Mp4Error> {
        for_each_box(content, 0, &mut |name, content| {
            if name == b"traf" {
                self.read_track_fragment(file, moof_at, content)?;
            }
            Ok(false)
        })
    }

    fn read_track_fragment(&mut self, file: Option<&Bytes>, moof_at: usize, content: &Bytes) -> Result<(), Mp4Error> {
        let mut run = RunDefaults { base: moof_at as u64, place: None, duration: 0, size: 0, flags: 0, cursor: None };
        for_each_box(content, 0, &mut |name, content| {
            match name {
                b"tfhd" => run.read_header(&self.tracks, content)?,
                b"tfdt" => {
                    if let Some(track) = run.place.and_then(|place| self.tracks.get_mut(place)) {
                        track.next_decode_time = read_decode_time(content)?;
                    }
                }
                b"trun" => {
                    if let Some(track) = run.place.and_then(|place| self.tracks.get_mut(place)) {
                        run.read_run(file, track, content)?;
                    }
                }
                _ => {}
            }
            Ok(false)
        })
    }
}

/// What a track fragment header says, and where its data goes on.
struct RunDefaults {
    base: u64,
    place: Option<usize>,
    duration: u32,
    size: u32,
    flags: u32,
    cursor: Option<u64>,
}

impl RunDefaults {
    fn read_header(&mut self, tracks: &[Mp4Track], content: &Bytes) -> Result<(), Mp4Error> {
        let mut fields = Fields::new("tfhd", content, 0);
        let flags = fields.u32()?;
        let number = fields.u32()?;
        self.place = tracks.iter().position(|track| track.number == number);
        if let Some(track) = self.place.and_then(|place| tracks.get(place)) {
            (self.duration, self.size, self.flags) = (track.default_duration, track.default_size, track.default_flags);
        }
        if flags & 1 != 0 {
            self.base = fields.u64()?;
        }
        if flags & 2 != 0 {
            fields.u32()?;
        }
        for (bit, field) in [(8, &mut self.duration), (16, &mut self.size), (32, &mut self.flags)] {
            if flags & bit != 0 {
                *field = fields.u32()?;
            }
        }
        Ok(())
    }

    fn read_run(&mut self, file: Option<&Bytes>, track: &mut Mp4Track, content: &Bytes) -> Result<(), Mp4Error> {
        let mut fields = Fields::new("trun", content, 0);
        let flags = fields.u32()?;
        let count = fields.u32()?;
        let mut at = self.cursor.unwrap_or(self.base);
        if flags & 1 != 0 {
            let offset = fields.i32()?;
            at = self.base.saturating_add_signed(offset.into());
        }
        let first_flags = if flags & 4 != 0 { Some(fields.u32()?) } else { None };
        for index in 0..count {
            // Without per-sample fields a count costs no bytes: the file's length bounds it.
            if flags & 0xf00 == 0 && (index as usize > file.map_or(0, Bytes::len) || self.size == 0) {
                break;
            }
            let field = |present: u32, default: u32, fields: &mut Fields<'_>| {
                if flags & present != 0 { fields.u32() } else { Ok(default) }
            };
            let duration = field(0x100, self.duration, &mut fields)?;
            let size = field(0x200, self.size, &mut fields)?;
            let own = field(0x400, self.flags, &mut fields)?;
            let offset = if flags & 0x800 != 0 { fields.i32()? } else { 0 };
            let sample_flags = if index == 0 { first_flags.unwrap_or(own) } else { own };
            push_sample(file, track, at, size, duration, sample_flags, offset);
            at = at.saturating_add(size.into());
        }
        self.cursor = Some(at);
        Ok(())
    }
}

/// Without a file the payload is left empty.
fn push_sample(file: Option<&Bytes>, track: &mut Mp4Track, at: u64, size: u32, duration: u32, flags: u32, offset: i32) {
    let decode_time = track.next_decode_time;
    track.next_decode_time = decode_time.saturating_add(duration.into());
    let start = usize::try_from(at).unwrap_or(usize::MAX);
    let end = start.saturating_add(size as usize);
    let payload = match file {
        Some(file) if end > file.len() => return,
        Some(file) => file.slice(start..end),
        None => Bytes::new(),
    };
    let shifted = decode_time.saturating_sub(track.edit_start);
    track.samples.push(Mp4Sample {
        dts: track.to_media_time(shifted),
        pts: track.to_media_time(shifted.saturating_add(offset.into())),
        duration: track.to_media_time(duration.into()),
        sync: flags & NON_SYNC_BIT == 0,
        payload,
    });
}

fn read_decode_time(content: &Bytes) -> Result<i64, Mp4Error> {
    let mut fields = Fields::new("tfdt", content, 0);
    let time = if fields.u32()? >> 24 == 1 { fields.u64()? } else { fields.u32()?.into() };
    Ok(i64::try_from(time).unwrap_or(i64::MAX))
}

fn read_track(file: Option<&Bytes>, content: &Bytes) -> Result<Mp4Track, Mp4Error> {
    let mut tables = SampleTables::default();
    let mut track = Mp4Track {
        number: 0,
        codec: None,
        samples: Vec::new(),
        timescale: 0,
        edit_start: 0,
        default_duration: 0,
        default_size: 0,
        default_flags: 0,
        next_decode_time: 0,
    };
    for_each_box(content, 0, &mut |name, content| {
        match name {
            b"tkhd" => {
                let mut fields = Fields::new("tkhd", content, 0);
                let long = fields.u32()? >> 24 == 1;
                fields.skip(if long { 16 } else { 8 })?;
                track.number = fields.u32()?;
            }
            b"mdhd" => {
                let mut fields = Fields::new("mdhd", content, 0);
                let long = fields.u32()? >> 24 == 1;
                fields.skip(if long { 16 } else { 8 })?;
                track.timescale = fields.u32()?;
            }
            b"elst" => track.edit_start = read_edit_start(content)?,
            b"stsd" => track.codec = read_sample_entry(track.number, content)?,
            _ => {
                tables.read(name, content)?;
            }
        }
        Ok(matches!(name, b"mdia" | b"minf" | b"stbl" | b"edts"))
    })?;
    if track.timescale == 0 {
        return Err(Mp4Error::Timescale { track: track.number });
    }
    if let Some(file) = file {
        let samples = tables.samples(file).into_iter().map(|sample| {
            let shifted = sample.decode_time.saturating_sub(track.edit_start);
            Mp4Sample {
                dts: track.to_media_time(shifted),
                pts: track.to_media_time(shifted.saturating_add(sample.offset.into())),
                duration: track.to_media_time(sample.duration.into()),
                sync: sample.sync,
                payload: sample.payload,
            }
        });
        track.samples = samples.collect();
    }
    Ok(track)
}

/// The first edit that shows media; empty edits before it are not written by us.
fn read_edit_start(content: &Bytes) -> Result<i64, Mp4Error> {
    let mut fields = Fields::new("elst", content, 0);
    let long = fields.u32()? >> 24 == 1;
    for _ in 0..fields.u32()? {
        let start = if long {
            fields.u64()?;
            fields.u64()?.cast_signed()
        } else {
            fields.u32()?;
            fields.i32()?.into()
        };
        fields.u32()?;
        if start >= 0 {
            return Ok(start);
        }
    }
    Ok(0)
}

pub(super) fn find_box(content: &Bytes, mut at: usize, wanted: &[u8; 4]) -> Option<Bytes> {
    while let Some((name, found, end)) = next_box(content, at) {
        if &name == wanted {
            return Some(found);
        }
        at = end;
    }
    None
}

/// The box at `at`: name, content, end. None if it is not whole.
pub(super) fn next_box(file: &Bytes, at: usize) -> Option<([u8; 4], Bytes, usize)> {
    let header = file.get(at..at.checked_add(8)?)?;
    let size = u32::from_be_bytes(header.get(..4)?.try_into().ok()?) as usize;
    let name: [u8; 4] = header.get(4..)?.try_into().ok()?;
    let (start, end) = match size {
        0 => (at + 8, file.len()),
        1 => {
            let large = file.get(at + 8..at + 16)?;
            let size = u64::from_be_bytes(large.try_into().ok()?);
            (at + 16, at.checked_add(usize::try_from(size).ok()?)?)
        }
        size => (at + 8, at.checked_add(size)?),
    };
    (start <= end && end <= file.len()).then(|| (name, file.slice(start..end), end))
}

type Visit<'a> = dyn FnMut(&[u8; 4], &Bytes) -> Result<bool, Mp4Error> + 'a;

/// Calls `visit` for each box; goes into those for which it answers true.
fn for_each_box(content: &Bytes, depth: u8, visit: &mut Visit<'_>) -> Result<(), Mp4Error> {
    if depth > MAX_DEPTH {
        return Err(Mp4Error::TooDeep);
    }
    let mut at = 0;
    while let Some((name, inner, end)) = next_box(content, at) {
        if visit(&name, &inner)? {
            for_each_box(&inner, depth + 1, visit)?;
        }
        at = end;
    }
    Ok(())
}
