//! Plain MP4 files made of others without copying them: a head, and where in the other file the
//! payloads lie.

use std::io;

use bytes::Bytes;
use waverant_media::{CodecParameters, MediaTime, TICKS_PER_SECOND, TrackId, TrackKind};

use crate::file::FileReader;
use crate::mp4::{Init, InitTrack, MOVIE_TIMESCALE, PlainTables, SampleClock, write_plain_init};
use crate::parts::{FileError, FileTrack, SampleRef};
use crate::source::Source;

/// Brands of a file with pictures, and of one with AAC alone.
const PLAIN: &[&[u8; 4]] = &[b"isom", b"isom", b"iso4", b"mp41"];
const SOUND_ALONE: &[&[u8; 4]] = &[b"M4A ", b"M4A ", b"isom", b"iso4", b"mp42"];

/// Beyond this chunk offsets take 64 bits. The head is far shorter than what is left to 4 GiB.
const LARGE: u64 = 3 << 30;

/// Pictures have no length in some files; the last one then lasts this long.
const LONE_PICTURE: MediaTime = MediaTime::from_millis(33);

/// What of a file is wanted.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// The tracks; all if none are named.
    pub tracks: Vec<TrackId>,
    /// Where to begin: at the last keyframe that is not later.
    pub from: Option<MediaTime>,
    /// Where to end: before the first keyframe that is not earlier.
    pub to: Option<MediaTime>,
    /// When the first packet of the whole file came, in milliseconds since 1970.
    pub began_ms: Option<i64>,
}

/// A run of bytes of the other file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Extent {
    /// Where it is in the new file.
    pub at: u64,
    /// Where it is in the other one.
    pub offset: u64,
    /// How long it is.
    pub length: u64,
}

/// A file that is a head and pieces of another one.
#[derive(Clone, Debug)]
pub struct Layout {
    /// All that comes before the payloads.
    pub head: Bytes,
    /// The payloads, without a gap.
    pub extents: Vec<Extent>,
    /// Length of the new file.
    pub size_bytes: u64,
    /// How long it plays.
    pub duration: MediaTime,
    /// Its tracks are all sound.
    pub is_sound: bool,
}

impl Layout {
    /// Fills `buffer` with the bytes of the new file at `offset`; `source` is the other file.
    ///
    /// # Errors
    /// [`io::ErrorKind::UnexpectedEof`] beyond the end, or what the medium says.
    pub fn read_at(&self, source: &impl Source, mut offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let mut rest = buffer;
        let head_length = self.head.len() as u64;
        if let Some(start) = usize::try_from(offset).ok().filter(|_| offset < head_length) {
            let piece = &self.head[start..];
            let (now, later) = rest.split_at_mut(rest.len().min(piece.len()));
            now.copy_from_slice(&piece[..now.len()]);
            offset += now.len() as u64;
            rest = later;
        }
        let mut place = self.extents.partition_point(|extent| extent.at + extent.length <= offset);
        while !rest.is_empty() {
            let extent = self.extents.get(place).ok_or(io::ErrorKind::UnexpectedEof)?;
            let within = offset - extent.at;
            let length = usize::try_from(extent.length - within).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = rest.split_at_mut(length);
            source.read_at(extent.offset + within, now)?;
            offset += length as u64;
            rest = later;
            place += 1;
        }
        Ok(())
    }
}

/// A track of the new file while it is planned.
struct Planned {
    /// Its place in the other file.
    place: usize,
    file_track: FileTrack,
    clock: SampleClock,
    tables: PlainTables,
    first_decode_time: i64,
    last_decode_time: Option<i64>,
    last_duration: i64,
    picture_size: (u32, u32),
    /// True between the cuts.
    is_open: bool,
}

impl Planned {
    fn new(place: usize, file_track: &FileTrack, is_open: bool) -> Self {
        let codec = &file_track.track.codec;
        let sound = codec.sound();
        Self {
            place,
            clock: SampleClock::new(sound.map_or(MOVIE_TIMESCALE, |sound| sound.sample_rate)),
            last_duration: sound.map_or(LONE_PICTURE.ticks(), |sound| sound.samples_per_frame.into()),
            picture_size: codec.picture_size().unwrap_or_default(),
            file_track: file_track.clone(),
            tables: PlainTables::default(),
            first_decode_time: 0,
            last_decode_time: None,
            is_open,
        }
    }

    fn is_video(&self) -> bool {
        self.file_track.track.codec.kind() == TrackKind::Video
    }

    /// True if the sample is between the cuts. Pictures are cut at keyframes, and those that would
    /// be shown before the first one are left out.
    fn takes(&mut self, sample: &SampleRef, bounds: &Bounds) -> bool {
        let begins_in = bounds.start.is_none_or(|start| sample.pts >= start);
        let ends_in = bounds.end.is_none_or(|end| sample.pts < end);
        if !self.is_video() {
            return begins_in && ends_in;
        }
        if sample.sync {
            self.is_open = begins_in && ends_in;
        }
        self.is_open && begins_in
    }

    fn add(&mut self, sample: &SampleRef, origin: MediaTime) {
        let scale = self.clock.timescale;
        let told = sample.duration.in_timescale(scale);
        let frame_length = (!self.is_video() && told > 0).then_some(told);
        let decode_time = self.clock.place(sample.dts - origin, frame_length);
        match self.last_decode_time.replace(decode_time) {
            Some(last) => self.tables.end_sample(decode_time.saturating_sub(last)),
            None => self.first_decode_time = decode_time,
        }
        if told > 0 {
            self.last_duration = told;
        }
        let offset = (sample.pts - sample.dts).in_timescale(scale).clamp(i32::MIN.into(), i32::MAX.into());
        self.tables.begin_sample(sample.size, i32::try_from(offset).unwrap_or(0), sample.sync);
    }

    fn finish(&mut self) {
        if self.last_decode_time.is_some() {
            self.tables.end_sample(self.last_duration);
        }
    }
}

/// Where the new file begins and ends, on the timeline of the other one.
#[derive(Default)]
struct Bounds {
    start: Option<MediaTime>,
    end: Option<MediaTime>,
}

/// Plans a plain MP4 file of what `selection` wants of `source`. Nothing but heads is read.
///
/// # Errors
/// [`FileError`] if the file cannot be read.
pub fn plan_progressive(source: &impl Source, selection: &Selection) -> Result<Layout, FileError> {
    let mut reader = FileReader::open(source)?;
    let is_wanted = |track: &FileTrack| selection.tracks.is_empty() || selection.tracks.contains(&track.track.id);
    let wanted = reader.tracks().iter().enumerate().filter(|(_, track)| is_wanted(track));
    let mut planned: Vec<Planned> =
        wanted.map(|(place, track)| Planned::new(place, track, selection.from.is_none())).collect();
    let bounds = find_bounds(source, selection, planned.iter().find(|track| track.is_video()))?;
    let (mut extents, mut data_length) = (Vec::<Extent>::new(), 0);
    let (mut origin, mut start, mut end) = (None, MediaTime::ZERO, MediaTime::ZERO);
    while let Some(group) = reader.next_group()? {
        let mut kept: Vec<Vec<SampleRef>> = Vec::new();
        for track in &mut planned {
            let place = track.place;
            let own = group.iter().filter(|sample| sample.track == place);
            kept.push(own.filter(|sample| track.takes(sample, &bounds)).copied().collect());
        }
        let all = || kept.iter().flatten();
        let (Some(first), Some(shown)) = (all().map(|sample| sample.dts).min(), all().map(|sample| sample.pts).min())
        else {
            continue;
        };
        if origin.is_none() {
            start = shown;
        }
        let origin = *origin.get_or_insert(first.min(shown));
        end = all().map(|sample| sample.pts + sample.duration).max().map_or(end, |last| end.max(last));
        for (track, samples) in planned.iter_mut().zip(&kept) {
            if samples.is_empty() {
                continue;
            }
            if track.picture_size == (0, 0) && track.is_video() {
                track.picture_size = read_picture_size(source, track, &samples[0])?;
            }
            track.tables.begin_chunk(data_length, samples.len());
            for sample in samples {
                track.add(sample, origin);
                append(&mut extents, data_length, sample);
                data_length += u64::from(sample.size);
            }
        }
    }
    planned.iter_mut().for_each(Planned::finish);
    planned.retain(|track| !track.tables.is_empty());
    let shift = start - origin.unwrap_or_default();
    let cut_off = bounds.start.map_or(0, MediaTime::millis);
    let plan =
        Plan { shift, duration: end - start, began_ms: selection.began_ms.map(|began| began.saturating_add(cut_off)) };
    Ok(lay_out(planned, extents, data_length, &plan))
}

fn append(extents: &mut Vec<Extent>, at: u64, sample: &SampleRef) {
    let length = u64::from(sample.size);
    match extents.last_mut() {
        Some(last) if last.offset + last.length == sample.offset => last.length += length,
        _ => extents.push(Extent { at, offset: sample.offset, length }),
    }
}

fn read_picture_size(source: &impl Source, track: &Planned, sample: &SampleRef) -> Result<(u32, u32), FileError> {
    let mut start = [0; 16];
    let length = start.len().min(sample.size as usize);
    source.read_at(sample.offset, &mut start[..length])?;
    Ok(track.file_track.track.codec.picture_size_in(&start[..length]).unwrap_or_default())
}

/// Moves the wanted times to keyframes, if there are pictures.
fn find_bounds(source: &impl Source, selection: &Selection, video: Option<&Planned>) -> Result<Bounds, FileError> {
    let mut bounds = Bounds { start: selection.from, end: selection.to };
    let (Some(video), true) = (video, selection.from.is_some() || selection.to.is_some()) else { return Ok(bounds) };
    let (mut start, mut end, mut first) = (None, None, None);
    let mut reader = FileReader::open(source)?;
    while let Some(group) = reader.next_group()? {
        for key in group.iter().filter(|sample| sample.track == video.place && sample.sync) {
            first = first.or(Some(key.pts));
            if selection.from.is_some_and(|from| key.pts <= from) {
                start = Some(key.pts);
            }
            if end.is_none() && selection.to.is_some_and(|to| key.pts >= to) {
                end = Some(key.pts);
            }
        }
        if end.is_some() {
            break;
        }
    }
    bounds.start = selection.from.and(start.or(first));
    bounds.end = end;
    Ok(bounds)
}

/// What the head tells beside the tables.
struct Plan {
    shift: MediaTime,
    duration: MediaTime,
    began_ms: Option<i64>,
}

fn lay_out(mut planned: Vec<Planned>, mut extents: Vec<Extent>, data_length: u64, plan: &Plan) -> Layout {
    let is_sound = planned.iter().all(|track| !track.is_video());
    for track in &mut planned {
        track.tables.set_large(data_length > LARGE);
    }
    // The places of the chunks do not change the length of the head.
    let head_length = write_head(&planned, data_length, plan, is_sound).len() as u64;
    for track in &mut planned {
        track.tables.set_data_at(head_length);
    }
    let head = write_head(&planned, data_length, plan, is_sound);
    for extent in &mut extents {
        extent.at += head_length;
    }
    let size_bytes = head_length + data_length;
    Layout { head: head.into(), extents, size_bytes, duration: plan.duration, is_sound }
}

fn write_head(planned: &[Planned], data_length: u64, plan: &Plan, is_sound: bool) -> Vec<u8> {
    let is_aac = |track: &Planned| matches!(track.file_track.track.codec, CodecParameters::Aac(_));
    let has_default = |kind| planned.iter().any(|track| track.file_track.is_default && track.is_video() == kind);
    let tracks = planned.iter().map(|track| InitTrack {
        number: u32::from(track.file_track.track.id.0) + 1,
        timescale: track.clock.timescale,
        codec: &track.file_track.track.codec,
        picture_size: track.picture_size,
        language: track.file_track.track.language.as_deref(),
        name: track.file_track.track.name.as_deref(),
        // What was chosen is to be heard.
        is_default: track.file_track.is_default || !has_default(track.is_video()),
        // In the tables every track begins at zero; the edit list puts it where it belongs.
        edit_start: plan.shift.in_timescale(track.clock.timescale).saturating_sub(track.first_decode_time),
        sets_in_stream: true,
        tables: Some(&track.tables),
    });
    let mut head = write_plain_init(&Init {
        began_ms: plan.began_ms,
        tracks: tracks.collect(),
        brands: if is_sound && planned.iter().all(is_aac) { SOUND_ALONE } else { PLAIN },
        duration: u64::try_from(plan.duration.ticks()).unwrap_or(0),
    });
    match u32::try_from(data_length + 8) {
        Ok(size) => {
            head.extend(size.to_be_bytes());
            head.extend(b"mdat");
        }
        Err(_) => {
            head.extend(1u32.to_be_bytes());
            head.extend(b"mdat");
            head.extend((data_length + 16).to_be_bytes());
        }
    }
    head
}

const _: () = assert!(MOVIE_TIMESCALE as i64 == TICKS_PER_SECOND, "durations go into the head as they are");
