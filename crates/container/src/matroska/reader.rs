//! Matroska files of any size: elements are found one after the other, frames stay where they are.

use bytes::Bytes;
use waverant_media::{MediaTime, Track, TrackId, TrackKind};

use super::block::{BlockHead, MAX_BLOCK_HEAD};
use super::codec::{CodecKnown, read_from_frame};
use super::ebml::{ElementHead, HeadRead, MAX_HEAD, children, read_float, read_head, read_text, read_uint};
use super::entry::{TrackEntry, block_time, from_nanoseconds};
use super::head::{Cue, Places};
use super::{TIMESTAMP_SCALE, ids};
use crate::parts::{
    DecodeOrder, FileError, FileMark, FileTrack, Known, MAX_MARKS, MatroskaError, SampleRef, shortened,
};
use crate::source::{Source, read_span};

/// The largest element that is read into memory: tracks with their private data, chapters, laced blocks.
const MAX_ELEMENT: u64 = 16 * 1024 * 1024;

/// Tracks of one file; more are left out.
const MAX_TRACKS: usize = 64;

/// Samples in one group.
const GROUP: usize = 512;

/// Blocks that are looked at to find the first frame of a track whose frames tell its codec.
const MAX_LOOK_AHEAD: usize = 2000;

/// Bytes of a frame that tell its codec or its length.
const FRAME_START: usize = 64;

/// Where a reader is in a file.
#[derive(Debug)]
pub(crate) struct ClusterReader {
    pub(crate) known: Known,
    lines: Vec<Line>,
    /// Nanoseconds in a tick.
    scale: u64,
    at: u64,
    /// Where the clusters begin.
    first_cluster: u64,
    cluster: Option<Cluster>,
    /// Samples whose times are known.
    ready: Vec<SampleRef>,
    is_at_end: bool,
    /// For mending: what was found where.
    places: Places,
    cues: Vec<Cue>,
    /// A cluster that ends beyond the file: where its length stands, and where its content begins.
    cut_cluster: Option<(u64, u64)>,
}

/// A track of the file.
#[derive(Debug)]
struct Line {
    entry: TrackEntry,
    /// Its place among the tracks; none if we do not carry its codec.
    place: Option<usize>,
    order: DecodeOrder<SampleRef>,
}

#[derive(Clone, Copy, Debug)]
struct Cluster {
    timestamp: u64,
    /// Where it begins, and where it ends if it says so.
    at: u64,
    end: Option<u64>,
}

/// An element as it lies in the file.
struct Found {
    id: u32,
    at: u64,
    start: u64,
    /// Where it ends; none if it does not say so.
    end: Option<u64>,
}

impl ClusterReader {
    pub(crate) fn open(source: &impl Source) -> Result<Self, FileError> {
        let mut reader = Self {
            known: Known::default(),
            lines: Vec::new(),
            scale: TIMESTAMP_SCALE,
            at: 0,
            first_cluster: 0,
            cluster: None,
            ready: Vec::new(),
            is_at_end: false,
            places: Places::default(),
            cues: Vec::new(),
            cut_cluster: None,
        };
        reader.read_document(source)?;
        reader.read_segment_head(source)?;
        reader.complete_codecs(source)?;
        Ok(reader)
    }

    /// Where things are that are filled in at the end.
    pub(super) fn places(&self) -> &Places {
        &self.places
    }

    /// Where a player can start, as found up to here.
    pub(super) fn cues(&self) -> &[Cue] {
        &self.cues
    }

    pub(super) fn cut_cluster(&self) -> Option<(u64, u64)> {
        self.cut_cluster
    }

    pub(crate) fn next_group(&mut self, source: &impl Source) -> Result<Option<Vec<SampleRef>>, FileError> {
        while self.ready.len() < GROUP && !self.is_at_end {
            if !self.step(source)? {
                self.is_at_end = true;
                for line in &mut self.lines {
                    line.order.finish(&mut |dts, pts, sample| self.ready.push(SampleRef { dts, pts, ..sample }));
                }
            }
        }
        Ok((!self.ready.is_empty()).then(|| std::mem::take(&mut self.ready)))
    }

    fn read_document(&mut self, source: &impl Source) -> Result<(), FileError> {
        let missing = || MatroskaError::Missing("EBML header");
        let header = element(source, 0)?.filter(|found| found.id == ids::EBML).ok_or_else(missing)?;
        let content = read_content(source, &header)?;
        for (id, content) in children(&content) {
            match id {
                ids::DOC_TYPE if !matches!(content, b"matroska" | b"webm") => {
                    return Err(MatroskaError::DocType { found: read_text(content) }.into());
                }
                ids::DOC_TYPE_READ_VERSION if read_uint(content) > 4 => {
                    return Err(MatroskaError::Version { found: read_uint(content) }.into());
                }
                _ => {}
            }
        }
        self.at = header.end.unwrap_or(header.start);
        Ok(())
    }

    /// Reads up to the first cluster.
    fn read_segment_head(&mut self, source: &impl Source) -> Result<(), FileError> {
        let mut has_tracks = false;
        while let Some(found) = element(source, self.at)? {
            let end = match found.id {
                ids::SEGMENT => {
                    self.places.segment_start = found.start;
                    self.places.segment_size = found.start.saturating_sub(8);
                    found.start
                }
                ids::CLUSTER => break,
                _ => match found.end.filter(|end| *end <= source.len()) {
                    Some(end) => end,
                    None => break,
                },
            };
            has_tracks |= found.id == ids::TRACKS;
            self.read_segment_element(source, &found)?;
            self.at = end;
        }
        if !has_tracks {
            return Err(MatroskaError::Missing("tracks").into());
        }
        (self.first_cluster, self.known.whole_end) = (self.at, self.at);
        Ok(())
    }

    /// Reads what stands in a segment beside clusters.
    fn read_segment_element(&mut self, source: &impl Source, found: &Found) -> Result<(), FileError> {
        match found.id {
            ids::INFO => {
                self.places.info = found.at;
                self.read_info(&read_content(source, found)?, found.start);
            }
            ids::TRACKS => {
                self.places.tracks = found.at;
                let content = read_content(source, found)?;
                for (_, entry) in children(&content).filter(|(id, _)| *id == ids::TRACK_ENTRY).take(MAX_TRACKS) {
                    self.read_track(entry)?;
                }
            }
            ids::CHAPTERS => {
                self.places.chapter_room = found.at;
                self.read_chapters(&read_content(source, found)?);
            }
            ids::CUES => self.known.has_index = true,
            ids::VOID | ids::SEEK_HEAD if self.places.info == 0 && self.places.seek_room == 0 => {
                self.places.seek_room = found.at
            }
            _ => {}
        }
        Ok(())
    }

    fn read_info(&mut self, content: &[u8], start: u64) {
        let mut duration = None;
        for (id, value) in children(content) {
            // Where it lies, from its place in memory.
            let at = start + (value.as_ptr() as usize - content.as_ptr() as usize) as u64;
            match id {
                ids::INFO_TIMESTAMP_SCALE => self.scale = read_uint(value).max(1),
                ids::DURATION => {
                    duration = Some(read_float(value));
                    // Only where ours would be: a header of three bytes before eight.
                    if value.len() == 8 {
                        self.places.duration = at.saturating_sub(3);
                    }
                }
                // What stands for it at first.
                ids::VOID if value.len() == 9 => self.places.duration = at.saturating_sub(2),
                _ => {}
            }
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "floats saturate")]
        let ticks = duration.map(|ticks| (ticks * self.scale as f64 * 9.0 / 100_000.0) as i64);
        self.known.told_duration = ticks.filter(|ticks| *ticks > 0).map(MediaTime::from_ticks);
    }

    fn read_track(&mut self, entry: &[u8]) -> Result<(), MatroskaError> {
        let entry = TrackEntry::read(entry)?;
        let mut place = None;
        if let CodecKnown::Whole(codec) = &entry.known {
            let track = Track {
                language: entry.language.as_deref().map(Into::into),
                name: entry.name.as_deref().map(Into::into),
                ..Track::new(track_id(entry.number), codec.clone())
            };
            place = Some(self.known.tracks.len());
            self.known.tracks.push(FileTrack { track, is_default: entry.is_default });
        }
        self.lines.push(Line { entry, place, order: DecodeOrder::default() });
        Ok(())
    }

    fn read_chapters(&mut self, content: &[u8]) {
        let of = |content: &'_ [u8], wanted: u32| -> Vec<Vec<u8>> {
            children(content).filter(|(id, _)| *id == wanted).map(|(_, content)| content.to_vec()).collect()
        };
        self.known.marks.clear();
        for edition in of(content, ids::EDITION_ENTRY) {
            for atom in of(&edition, ids::CHAPTER_ATOM).into_iter().take(MAX_MARKS) {
                let start = of(&atom, ids::CHAPTER_TIME_START).first().map_or(0, |start| read_uint(start));
                let display = of(&atom, ids::CHAPTER_DISPLAY).into_iter().next().unwrap_or_default();
                let title = of(&display, ids::CHAP_STRING).first().map(|text| read_text(text)).unwrap_or_default();
                self.known.marks.push(FileMark { at: from_nanoseconds(start), title: shortened(&title) });
            }
        }
    }

    /// Looks for the first frame of each track whose frames tell its codec.
    fn complete_codecs(&mut self, source: &impl Source) -> Result<(), FileError> {
        let waits = |line: &Line| line.place.is_none() && matches!(line.entry.known, CodecKnown::FromFrame);
        if !self.lines.iter().any(waits) {
            return Ok(());
        }
        let (mut at, mut looked_at) = (self.first_cluster, 0);
        while let Some(found) = element(source, at)?
            && looked_at < MAX_LOOK_AHEAD
        {
            looked_at += 1;
            let inside = matches!(found.id, ids::CLUSTER | ids::BLOCK_GROUP);
            if matches!(found.id, ids::SIMPLE_BLOCK | ids::BLOCK) {
                let (head, start) = read_block_start(source, &found)?;
                if let Some(head) = head
                    && let Some(line) =
                        self.lines.iter_mut().find(|line| line.entry.number == head.track && waits(line))
                    && let Some(codec) = read_from_frame(&line.entry.codec_id, &start[head.length..])
                {
                    line.place = Some(self.known.tracks.len());
                    let track = Track::new(track_id(line.entry.number), codec);
                    self.known.tracks.push(FileTrack { track, is_default: true });
                }
            }
            if !self.lines.iter().any(waits) {
                break;
            }
            at = match found.end {
                Some(end) if !inside => end,
                _ => found.start,
            };
        }
        Ok(())
    }

    /// Goes on by one element. False at the end of what is whole.
    fn step(&mut self, source: &impl Source) -> Result<bool, FileError> {
        if self.cluster.is_some_and(|cluster| cluster.end.is_some_and(|end| self.at >= end)) {
            self.cluster = None;
        }
        let Some(found) = element(source, self.at)? else { return Ok(false) };
        if found.id == ids::CLUSTER {
            self.begin_cluster(source, &found);
            return Ok(true);
        }
        // Within a cluster all elements have a length.
        let Some(end) = found.end.filter(|end| *end <= source.len()) else { return Ok(false) };
        match (&mut self.cluster, found.id) {
            (Some(cluster), ids::TIMESTAMP) => cluster.timestamp = read_uint(&read_content(source, &found)?),
            (Some(_), ids::SIMPLE_BLOCK) => self.read_block(source, &found, None)?,
            (Some(_), ids::BLOCK_GROUP) => self.read_block_group(source, &found)?,
            (_, id) if ids::is_segment_level(id) => {
                self.cluster = None;
                self.read_segment_element(source, &found)?;
            }
            _ => {}
        }
        (self.at, self.known.whole_end) = (end, end);
        Ok(true)
    }

    fn begin_cluster(&mut self, source: &impl Source, found: &Found) {
        self.cluster = Some(Cluster { timestamp: 0, at: found.at, end: found.end });
        if found.end.is_some_and(|end| end > source.len()) {
            self.cut_cluster = Some((found.at, found.start));
        }
        self.at = found.start;
    }

    fn read_block_group(&mut self, source: &impl Source, group: &Found) -> Result<(), FileError> {
        let (mut block, mut duration, mut refers) = (None, None, false);
        let end = group.end.unwrap_or(group.start);
        let mut at = group.start;
        while at < end
            && let Some(found) = element(source, at)?
        {
            let Some(inner_end) = found.end.filter(|inner| *inner <= end) else { break };
            match found.id {
                ids::BLOCK_DURATION => {
                    let ticks = read_uint(&read_content(source, &found)?);
                    duration = Some(from_nanoseconds(ticks.saturating_mul(self.scale)));
                }
                ids::REFERENCE_BLOCK => refers = true,
                ids::BLOCK => block = Some(found),
                _ => {}
            }
            at = inner_end;
        }
        match block {
            Some(block) => self.read_block(source, &block, Some((duration, !refers))),
            None => Ok(()),
        }
    }

    /// `group` is what the block's group tells: how long its frames last, and whether they are sync
    /// samples.
    fn read_block(
        &mut self,
        source: &impl Source,
        found: &Found,
        group: Option<(Option<MediaTime>, bool)>,
    ) -> Result<(), FileError> {
        let (Some(head), start) = read_block_start(source, found)? else { return Ok(()) };
        let Some(line) = self.lines.iter().position(|line| line.entry.number == head.track) else { return Ok(()) };
        let Some(place) = self.lines[line].place else { return Ok(()) };
        let Some(cluster) = self.cluster else { return Ok(()) };
        let size = found.end.unwrap_or(found.start) - found.start;
        let frames = if head.is_laced() {
            head.frames(&read_content(source, found)?)
        } else {
            usize::try_from(size).ok().and_then(|size| Some(vec![(head.length, size.checked_sub(head.length)?)]))
        };
        let mut pts = block_time(cluster.timestamp, head.offset, self.scale);
        let codec = self.known.tracks[place].track.codec.clone();
        let is_picture = codec.kind() == TrackKind::Video;
        let sync = group.map_or(head.is_keyframe, |(_, sync)| sync) || !is_picture;
        let told = group.and_then(|(duration, _)| duration);
        let frames = frames.unwrap_or_default();
        for (at, length) in &frames {
            let (Ok(size), offset) = (u32::try_from(*length), found.start + *at as u64) else { continue };
            let first_bytes = start.get(*at..(at + length).min(start.len())).unwrap_or_default();
            let told = told.map(|told| MediaTime::from_ticks(told.ticks() / i64::try_from(frames.len()).unwrap_or(1)));
            let duration = self.lines[line].entry.frame_duration(&codec, first_bytes, told);
            let sample = SampleRef { track: place, dts: pts, pts, duration, sync, offset, size };
            if is_picture {
                self.note_cue(&cluster, head.track, pts, sync);
                let ready = &mut self.ready;
                let mut each = |dts, pts, sample: SampleRef| ready.push(SampleRef { dts, pts, ..sample });
                self.lines[line].order.push(pts, sample, &mut each);
            } else {
                self.ready.push(sample);
                if self.known.tracks.iter().all(|track| track.track.codec.kind() == TrackKind::Audio) {
                    self.note_cue(&cluster, head.track, pts, true);
                }
            }
            pts = pts + duration;
        }
        Ok(())
    }

    /// One place to start for each cluster.
    fn note_cue(&mut self, cluster: &Cluster, track: u64, pts: MediaTime, sync: bool) {
        let cluster = cluster.at.saturating_sub(self.places.segment_start);
        if sync && self.cues.last().is_none_or(|last| last.cluster != cluster) {
            let nanoseconds = i128::from(pts.ticks()) * 100_000 / 9;
            let time = u64::try_from(nanoseconds / i128::from(self.scale)).unwrap_or(0);
            self.cues.push(Cue { time, track, cluster });
        }
    }
}

/// Our files number tracks as sessions do, counted from 1.
fn track_id(number: u64) -> TrackId {
    TrackId(u8::try_from(number.saturating_sub(1)).unwrap_or(u8::MAX))
}

/// The element at `at`; none if its header is not whole.
fn element(source: &impl Source, at: u64) -> Result<Option<Found>, FileError> {
    let left = source.len().saturating_sub(at);
    let length = usize::try_from(left).unwrap_or(usize::MAX).min(MAX_HEAD);
    let mut bytes = [0; MAX_HEAD];
    source.read_at(at, &mut bytes[..length])?;
    match read_head(&bytes[..length]) {
        HeadRead::Incomplete => Ok(None),
        HeadRead::Illegal => Err(MatroskaError::Damaged { at }.into()),
        HeadRead::Found(ElementHead { id, size, length }) => {
            let start = at + length as u64;
            let end = size.map(|size| start.saturating_add(size));
            Ok(Some(Found { id, at, start, end }))
        }
    }
}

fn read_content(source: &impl Source, found: &Found) -> Result<Bytes, FileError> {
    let end = found.end.filter(|end| *end <= source.len()).ok_or(MatroskaError::Damaged { at: found.at })?;
    let size = end - found.start;
    let too_large = || FileError::TooLarge { name: format!("element {:x}", found.id), size, limit: MAX_ELEMENT };
    let length = usize::try_from(size).ok().filter(|_| size <= MAX_ELEMENT).ok_or_else(too_large)?;
    Ok(read_span(source, found.start, length)?)
}

/// A block's head, with the bytes it was read from and the first ones of its frame.
fn read_block_start(source: &impl Source, found: &Found) -> Result<(Option<BlockHead>, Vec<u8>), FileError> {
    let size = found.end.unwrap_or(found.start).min(source.len()).saturating_sub(found.start);
    let length = usize::try_from(size).unwrap_or(usize::MAX).min(MAX_BLOCK_HEAD + FRAME_START);
    let mut bytes = vec![0; length];
    source.read_at(found.start, &mut bytes)?;
    Ok((BlockHead::read(&bytes), bytes))
}
