//! Matroska as it comes: bytes cut anywhere, clusters without a length, and holes.

use std::collections::{BTreeMap, VecDeque};

use bytes::{Buf, Bytes, BytesMut};
use waverant_media::{CodecParameters, MediaTime, TrackKind};

use super::block::BlockHead;
use super::codec::{CodecKnown, read_from_frame};
use super::ebml::{ElementHead, HeadRead, children, read_head, read_text, read_uint};
use super::entry::{TrackEntry, block_time, from_nanoseconds};
use super::{TIMESTAMP_SCALE, ids};
use crate::parts::{DecodeOrder, MatroskaError};
use crate::stream::{ElementaryStream, StreamEvent};

/// The largest element that is held: a picture, or the tracks with their private data.
const MAX_ELEMENT: usize = 16 * 1024 * 1024;

/// Tracks that are read.
const MAX_TRACKS: usize = 32;

/// Live encoders keep at most this many pictures back for others that are shown before. Matroska
/// tells presentation times only: so many pictures are waited for to find when one is decoded.
const LIVE_REORDER: usize = 4;

/// Sounds that wait for pictures at most, so that the two come in the order of their times.
const MAX_SOUNDS: usize = 256;

/// Where reading can begin again: a cluster, or a new document.
const RESYNC_IDS: [u32; 2] = [ids::CLUSTER, ids::EBML];

/// Reads a Matroska document that comes as a stream of bytes (RFC 9559, 23: livestreaming).
#[derive(Debug, Default)]
pub struct MatroskaReader {
    /// What came and is not read yet.
    buffer: BytesMut,
    /// Bytes of an element that is of no interest.
    to_skip: usize,
    /// Looks for a place to begin again.
    is_lost: bool,
    lines: Vec<Line>,
    /// Sounds that came before the pictures they belong to could be handed on.
    sounds: VecDeque<(MediaTime, StreamEvent)>,
    scale: u64,
    cluster_timestamp: Option<u64>,
    /// The stream's number and name of codecs that we do not carry.
    uncarried: BTreeMap<u16, String>,
    damage_count: u64,
    last_problem: Option<String>,
}

#[derive(Debug)]
struct Line {
    entry: TrackEntry,
    number: u16,
    codec: Option<CodecParameters>,
    order: DecodeOrder<(bool, Bytes)>,
}

/// What came of looking at the front of the buffer.
enum Step {
    /// So many bytes are done with.
    Took(usize),
    /// More bytes are needed.
    Waits,
    /// What stands here belongs nowhere.
    Lost(String),
}

impl MatroskaReader {
    /// A reader at the start of a stream.
    pub fn new() -> Self {
        Self { scale: TIMESTAMP_SCALE, ..Self::default() }
    }

    /// True if a stream that begins so is Matroska; None if more bytes are needed to tell.
    pub fn recognises(start: &[u8]) -> Option<bool> {
        let wanted = ids::EBML.to_be_bytes();
        let length = start.len().min(wanted.len());
        if start[..length] != wanted[..length] {
            return Some(false);
        }
        (length == wanted.len()).then_some(true)
    }

    /// Takes bytes; what they tell is added to `events`.
    pub fn push(&mut self, bytes: &[u8], events: &mut Vec<StreamEvent>) {
        let skipped = self.to_skip.min(bytes.len());
        self.to_skip -= skipped;
        self.buffer.extend_from_slice(&bytes[skipped..]);
        while !(self.buffer.is_empty() || self.is_lost && !self.find_sync()) {
            match self.step(events) {
                Step::Took(length) => {
                    // The rest of an element that is of no interest may still come.
                    let here = length.min(self.buffer.len());
                    self.buffer.advance(here);
                    self.to_skip += length - here;
                }
                Step::Waits => break,
                Step::Lost(problem) => {
                    self.note_damage(problem);
                    self.is_lost = true;
                    // Not here again.
                    self.buffer.advance(1);
                }
            }
        }
    }

    /// Bytes are missing before those that come next: what was begun is given up.
    pub fn lose(&mut self) {
        self.buffer.clear();
        (self.to_skip, self.is_lost) = (0, true);
        self.note_damage("bytes of the stream are missing".to_owned());
    }

    /// The stream is at its end: what waits is handed on.
    pub fn finish(&mut self, events: &mut Vec<StreamEvent>) {
        let mut pictures = Vec::new();
        for line in &mut self.lines {
            let number = line.number;
            line.order.finish(&mut |dts, pts, (random_access, payload)| {
                pictures.push(StreamEvent::Frame { number, pts, dts, random_access, payload });
            });
        }
        self.hand_on(pictures, events);
        events.extend(self.sounds.drain(..).map(|(_, sound)| sound));
    }

    /// Pictures wait to be put in order; sounds wait with them.
    fn hand_on(&mut self, frames: Vec<StreamEvent>, events: &mut Vec<StreamEvent>) {
        let reorders = self.lines.iter().any(|line| line.codec.as_ref().is_some_and(is_reordered));
        for frame in frames {
            let StreamEvent::Frame { number, dts, .. } = &frame else {
                events.push(frame);
                continue;
            };
            let is_picture = self.lines.iter().any(|line| {
                line.number == *number && line.codec.as_ref().is_some_and(|codec| codec.kind() == TrackKind::Video)
            });
            if reorders && !is_picture {
                let place = self.sounds.partition_point(|(time, _)| time <= dts);
                self.sounds.insert(place, (*dts, frame));
                if self.sounds.len() > MAX_SOUNDS {
                    events.extend(self.sounds.pop_front().map(|(_, sound)| sound));
                }
                continue;
            }
            // Of the same time the picture is first: shows begin with one.
            let earlier = self.sounds.partition_point(|(time, _)| time < dts);
            events.extend(self.sounds.drain(..earlier).map(|(_, sound)| sound));
            events.push(frame);
        }
    }

    /// Elements that could not be read, and holes.
    pub fn damage_count(&self) -> u64 {
        self.damage_count
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        self.last_problem.as_deref()
    }

    /// Streams that are not carried, by their names.
    pub fn uncarried(&self) -> &BTreeMap<u16, String> {
        &self.uncarried
    }

    fn note_damage(&mut self, problem: String) {
        self.damage_count += 1;
        self.last_problem = Some(problem);
        self.cluster_timestamp = None;
    }

    /// Goes on to a place to begin again; false if none is there yet.
    fn find_sync(&mut self) -> bool {
        let is_sync = |bytes: &[u8]| RESYNC_IDS.iter().any(|id| id.to_be_bytes() == bytes);
        let found = self.buffer.windows(4).position(is_sync);
        self.buffer.advance(found.unwrap_or_else(|| self.buffer.len().saturating_sub(3)));
        self.is_lost = found.is_none();
        found.is_some()
    }

    /// Reads the element at the front, or goes into it.
    fn step(&mut self, events: &mut Vec<StreamEvent>) -> Step {
        let head = match read_head(&self.buffer) {
            HeadRead::Found(head) => head,
            HeadRead::Incomplete => return Step::Waits,
            HeadRead::Illegal => return Step::Lost("the stream has bytes that belong to no element".to_owned()),
        };
        let is_held = matches!(
            head.id,
            ids::EBML | ids::INFO | ids::TRACKS | ids::TIMESTAMP | ids::SIMPLE_BLOCK | ids::BLOCK_GROUP
        );
        let size = head.size.and_then(|size| usize::try_from(size).ok()).filter(|size| *size <= MAX_ELEMENT);
        match (head.id, size) {
            (ids::SEGMENT, _) => Step::Took(head.length),
            (ids::CLUSTER, _) => {
                self.cluster_timestamp = None;
                Step::Took(head.length)
            }
            (_, Some(size)) if is_held => self.take_whole(&head, size, events),
            (_, Some(size)) if is_skipped(head.id) => Step::Took(head.length + size),
            (id, _) => {
                let length = head.size.map_or("no length".to_owned(), |size| format!("{size} bytes"));
                Step::Lost(format!("an element {id:x} with {length} was found where none can be"))
            }
        }
    }

    fn take_whole(&mut self, head: &ElementHead, size: usize, events: &mut Vec<StreamEvent>) -> Step {
        if self.buffer.len() < head.length + size {
            return Step::Waits;
        }
        self.buffer.advance(head.length);
        let content = self.buffer.split_to(size).freeze();
        let read = match head.id {
            ids::EBML => check_document(&content),
            ids::INFO => {
                self.read_info(&content);
                Ok(())
            }
            ids::TRACKS => self.read_tracks(&content, events),
            ids::TIMESTAMP => {
                self.cluster_timestamp = Some(read_uint(&content));
                Ok(())
            }
            ids::SIMPLE_BLOCK => self.read_block(&content, None, events),
            _ => self.read_block_group(&content, events),
        };
        if let Err(problem) = read {
            self.damage_count += 1;
            self.last_problem = Some(problem);
        }
        Step::Took(0)
    }

    fn read_info(&mut self, content: &[u8]) {
        let scale = children(content).find(|(id, _)| *id == ids::INFO_TIMESTAMP_SCALE);
        self.scale = scale.map_or(TIMESTAMP_SCALE, |(_, content)| read_uint(content).max(1));
    }

    /// A new set of tracks; a stream that begins anew has one too.
    fn read_tracks(&mut self, content: &[u8], events: &mut Vec<StreamEvent>) -> Result<(), String> {
        self.finish(events);
        self.lines.clear();
        self.uncarried.clear();
        let (mut configs, mut fault) = (Vec::new(), None);
        for (_, entry) in children(content).filter(|(id, _)| *id == ids::TRACK_ENTRY).take(MAX_TRACKS) {
            let entry = match TrackEntry::read(entry) {
                Ok(entry) => entry,
                Err(error) => {
                    fault = Some(error.to_string());
                    continue;
                }
            };
            let number = u16::try_from(entry.number).unwrap_or(u16::MAX);
            let codec = match &entry.known {
                CodecKnown::Whole(codec) => {
                    configs.push(StreamEvent::Config { number, codec: codec.clone() });
                    Some(codec.clone())
                }
                CodecKnown::FromFrame => None,
                CodecKnown::Foreign => {
                    self.uncarried.insert(number, entry.codec_id.clone());
                    continue;
                }
            };
            self.lines.push(Line { entry, number, codec, order: DecodeOrder::with_depth(LIVE_REORDER) });
        }
        let streams = self.lines.iter().map(|line| ElementaryStream {
            number: line.number,
            // Of the codecs that tell themselves by a frame all are sound.
            kind: line.codec.as_ref().map_or(TrackKind::Audio, CodecParameters::kind),
            language: line.entry.language.clone(),
            name: line.entry.name.clone(),
        });
        events.push(StreamEvent::Program(streams.collect()));
        events.append(&mut configs);
        fault.map_or(Ok(()), Err)
    }

    fn read_block_group(&mut self, content: &Bytes, events: &mut Vec<StreamEvent>) -> Result<(), String> {
        let (mut block, mut duration, mut refers) = (None, None, false);
        for (id, child) in children(content) {
            match id {
                ids::BLOCK => block = Some(content.slice_ref(child)),
                ids::BLOCK_DURATION => {
                    duration = Some(from_nanoseconds(read_uint(child).saturating_mul(self.scale)));
                }
                ids::REFERENCE_BLOCK => refers = true,
                _ => {}
            }
        }
        block.map_or(Ok(()), |block| self.read_block(&block, Some((duration, !refers)), events))
    }

    /// `group` is what the block's group tells: how long its frames last, and whether they are sync
    /// samples.
    fn read_block(
        &mut self,
        block: &Bytes,
        group: Option<(Option<MediaTime>, bool)>,
        events: &mut Vec<StreamEvent>,
    ) -> Result<(), String> {
        let timestamp = self.cluster_timestamp.ok_or("a block before the time of its cluster")?;
        let head = BlockHead::read(block).ok_or("a block without a head")?;
        let frames = head.frames(block).ok_or("a block with damaged lacing")?;
        let Some(line) = self.lines.iter_mut().find(|line| line.entry.number == head.track) else {
            return if self.uncarried.contains_key(&u16::try_from(head.track).unwrap_or(u16::MAX)) {
                Ok(())
            } else {
                Err(format!("a block of track {}, which there is not", head.track))
            };
        };
        let mut pts = block_time(timestamp, head.offset, self.scale);
        let told = group.and_then(|(duration, _)| duration);
        let told = told.map(|told| MediaTime::from_ticks(told.ticks() / i64::try_from(frames.len()).unwrap_or(1)));
        let is_sync = group.map_or(head.is_keyframe, |(_, is_sync)| is_sync);
        let mut ready = Vec::new();
        for (at, length) in frames {
            let frame = block.slice(at..at + length);
            pts = pts + line.take_frame(frame, pts, is_sync, told, &mut ready);
        }
        self.hand_on(ready, events);
        Ok(())
    }
}

impl Line {
    /// Takes a frame; returns how long it lasts.
    fn take_frame(
        &mut self,
        frame: Bytes,
        pts: MediaTime,
        is_sync: bool,
        told: Option<MediaTime>,
        events: &mut Vec<StreamEvent>,
    ) -> MediaTime {
        let number = self.number;
        if self.codec.is_none() {
            self.codec = read_from_frame(&self.entry.codec_id, &frame);
            events.extend(self.codec.clone().map(|codec| StreamEvent::Config { number, codec }));
        }
        let Some(codec) = &self.codec else { return MediaTime::ZERO };
        let duration = self.entry.frame_duration(codec, &frame, told);
        let mut tell = |dts, pts, (random_access, payload)| {
            events.push(StreamEvent::Frame { number, pts, dts, random_access, payload });
        };
        match codec {
            codec if is_reordered(codec) => self.order.push(pts, (is_sync, frame), &mut tell),
            _ => tell(pts, pts, (is_sync || codec.kind() == TrackKind::Audio, frame)),
        }
        duration
    }
}

/// True if pictures may be decoded in another order than they are shown in.
fn is_reordered(codec: &CodecParameters) -> bool {
    matches!(codec, CodecParameters::H264(_) | CodecParameters::Hevc(_))
}

/// Elements that may stand in a segment or a cluster, and tell nothing that is needed.
fn is_skipped(id: u32) -> bool {
    matches!(
        id,
        ids::VOID
            | ids::CRC_32
            | ids::SEEK_HEAD
            | ids::CUES
            | ids::CHAPTERS
            | ids::TAGS
            | ids::ATTACHMENTS
            | ids::POSITION
            | ids::PREV_SIZE
            | ids::SILENT_TRACKS
    )
}

fn check_document(content: &[u8]) -> Result<(), String> {
    for (id, content) in children(content) {
        match id {
            ids::DOC_TYPE if !matches!(content, b"matroska" | b"webm") => {
                return Err(MatroskaError::DocType { found: read_text(content) }.to_string());
            }
            ids::DOC_TYPE_READ_VERSION if read_uint(content) > 4 => {
                return Err(MatroskaError::Version { found: read_uint(content) }.to_string());
            }
            _ => {}
        }
    }
    Ok(())
}

#[cfg(test)]
#[path = "live_tests.rs"]
mod tests;
