use bytes::Bytes;
use waverant_media::{MediaTime, Packet, Track, TrackKind, Tracks};

use super::block::write_block_head;
use super::ebml::{Elements, eight_byte_size};
use super::head::{
    CHAPTER_ROOM, Cue, HeadTrack, Places, fill_chapter_room, write_chapters, write_cues, write_duration, write_head,
    write_seek_head,
};
use super::ids;
use crate::cutting::{Cutter, Fragment, Patch, WriterError, without_delimiter};
use crate::parts::{FileHead, FileMark, MAX_MARKS, shortened};

/// Assumed length of the only picture of a take.
const LONE_PICTURE: MediaTime = MediaTime::from_millis(33);

/// Writes packets as a Matroska file, one cluster per group of pictures or per half a second,
/// whichever is shorter.
///
/// The segment has no length until the end, so whatever clusters are whole can be played. Memory
/// is bounded by one cluster, and by some bytes a cluster for the index.
#[derive(Debug)]
pub struct ClusterWriter {
    head: FileHead,
    tracks: Vec<TrackWriter>,
    has_video: bool,
    cutter: Cutter,
    blocks: Vec<Waiting>,
    places: Option<Places>,
    written: u64,
    presentation_start: Option<MediaTime>,
    end: MediaTime,
    cues: Vec<Cue>,
    /// Marks on the file's own timeline.
    marks: Vec<FileMark>,
    /// Marks that go out with the next cluster, on the packets' timeline.
    new_marks: Vec<(MediaTime, String)>,
}

#[derive(Debug)]
struct TrackWriter {
    track: Track,
    number: u64,
    is_default: bool,
    picture_size: (u32, u32),
    last_dts: Option<MediaTime>,
    frame_length: MediaTime,
}

#[derive(Debug)]
struct Waiting {
    place: usize,
    pts: MediaTime,
    random_access: bool,
    payload: Bytes,
}

/// A time in ticks of the file, which are milliseconds.
fn ticks(time: MediaTime) -> i64 {
    time.in_timescale(1000)
}

impl TrackWriter {
    fn new(track: &Track, is_default: bool) -> Self {
        let frame_length = track.codec.sound().map_or(LONE_PICTURE, |sound| {
            let ticks = i64::from(sound.samples_per_frame) * waverant_media::TICKS_PER_SECOND;
            MediaTime::from_ticks(ticks / i64::from(sound.sample_rate.max(1)))
        });
        Self {
            track: track.clone(),
            // A file counts from 1; so the session's number can be read back.
            number: u64::from(track.id.0) + 1,
            is_default,
            picture_size: track.codec.picture_size().unwrap_or_default(),
            last_dts: None,
            frame_length,
        }
    }

    fn note(&mut self, packet: &Packet) {
        if packet.kind != TrackKind::Video {
            return;
        }
        if packet.random_access && self.picture_size == (0, 0) {
            self.picture_size = self.track.codec.picture_size_in(&packet.payload).unwrap_or_default();
        }
        if let Some(last) = self.last_dts.replace(packet.dts).filter(|last| *last < packet.dts) {
            self.frame_length = packet.dts - last;
        }
    }
}

impl ClusterWriter {
    /// A writer for a file with `tracks`.
    ///
    /// # Errors
    /// [`WriterError::NoTracks`] if the set is empty.
    pub fn new(tracks: &Tracks, head: &FileHead) -> Result<Self, WriterError> {
        if tracks.is_empty() {
            return Err(WriterError::NoTracks);
        }
        let is_first = |track: &Track| tracks.first(track.codec.kind()).is_some_and(|first| first.id == track.id);
        Ok(Self {
            head: head.clone(),
            tracks: tracks.iter().map(|track| TrackWriter::new(track, is_first(track))).collect(),
            has_video: tracks.has(TrackKind::Video),
            cutter: Cutter::new(tracks),
            blocks: Vec::new(),
            places: None,
            written: 0,
            presentation_start: None,
            end: MediaTime::ZERO,
            cues: Vec::new(),
            marks: Vec::new(),
            new_marks: Vec::new(),
        })
    }

    /// Takes a packet; returns a cluster when the packet completes one.
    ///
    /// # Errors
    /// [`WriterError::UnknownTrack`]; the packet is not taken then.
    pub fn push(&mut self, packet: &Packet) -> Result<Option<Fragment>, WriterError> {
        let place = self.tracks.iter().position(|track| track.track.id == packet.track);
        let place = place.ok_or(WriterError::UnknownTrack(packet.track))?;
        let cluster = if self.cutter.cuts_before(packet) { self.cut() } else { None };
        self.cutter.count(packet);
        let track = &mut self.tracks[place];
        track.note(packet);
        let skipped = packet.payload.len() - without_delimiter(&track.track.codec, &packet.payload).len();
        self.end = self.end.max(packet.pts + track.frame_length);
        let payload = packet.payload.slice(skipped..);
        self.blocks.push(Waiting { place, pts: packet.pts, random_access: packet.random_access, payload });
        Ok(cluster)
    }

    /// Points out the moment `at` of the packets' timeline; it goes out with the next cluster.
    pub fn mark(&mut self, at: MediaTime, title: &str) {
        if self.marks.len() + self.new_marks.len() < MAX_MARKS {
            self.new_marks.push((at, shortened(title)));
        }
    }

    /// Ends the file: the last cluster with the index, and what goes into the head.
    pub fn finish(&mut self) -> (Option<Fragment>, Vec<Patch>) {
        let mut last = self.cut();
        let Some(places) = self.places else { return (last, Vec::new()) };
        let fragment = last.get_or_insert_default();
        let mut entries = vec![(ids::INFO, places.info), (ids::TRACKS, places.tracks)];
        let mut append = |id: u32, bytes: Vec<u8>| {
            entries.push((id, self.written));
            self.written += bytes.len() as u64;
            fragment.size_bytes += bytes.len() as u64;
            fragment.segments.push(bytes.into());
        };
        if !self.cues.is_empty() {
            append(ids::CUES, write_cues(&self.cues));
        }
        if !self.marks.is_empty() && fill_chapter_room(&self.marks).is_none() {
            append(ids::CHAPTERS, write_chapters(&self.marks));
            let mut room = Elements::default();
            room.void(CHAPTER_ROOM);
            fragment.patches.push(Patch { offset: places.chapter_room, bytes: room.into_bytes().into() });
        } else if !self.marks.is_empty() {
            entries.push((ids::CHAPTERS, places.chapter_room));
        }
        let relative: Vec<(u32, u64)> = entries.iter().map(|(id, at)| (*id, at - places.segment_start)).collect();
        let patches = closing_patches(&places, &relative, self.written, self.duration());
        (last, patches)
    }

    /// Length of the presentation so far, up to the end of the last packet.
    pub fn duration(&self) -> MediaTime {
        self.presentation_start.map_or(MediaTime::ZERO, |start| self.end - start)
    }

    /// What of the packets' timeline is zero in the file; none before the first cluster.
    pub(crate) fn presentation_start(&self) -> Option<MediaTime> {
        self.presentation_start
    }

    fn cut(&mut self) -> Option<Fragment> {
        let first = self.blocks.iter().map(|block| block.pts).min()?;
        self.cutter.cut();
        let start = *self.presentation_start.get_or_insert(first);
        let mut fragment = Fragment::default();
        let places = match self.places {
            Some(places) => places,
            None => {
                let tracks: Vec<HeadTrack<'_>> = self.tracks.iter().map(TrackWriter::described).collect();
                let (head, places) = write_head(&self.head, &tracks);
                fragment.segments.push(head.into());
                *self.places.insert(places)
            }
        };
        fragment.patches.extend(self.take_marks(start, &places));
        let before: u64 = fragment.segments.iter().map(|segment| segment.len() as u64).sum();
        self.note_cue(start, self.written + before - places.segment_start);
        fragment.video_frame_count = self.count_pictures();
        fragment.segments.extend(self.write_cluster(start, first));
        fragment.size_bytes = fragment.segments.iter().map(|segment| segment.len() as u64).sum();
        self.written += fragment.size_bytes;
        Some(fragment)
    }

    fn count_pictures(&self) -> u64 {
        let is_picture = |block: &&Waiting| self.tracks[block.place].track.codec.kind() == TrackKind::Video;
        self.blocks.iter().filter(is_picture).count() as u64
    }

    /// The chapters with the new marks, as long as there is room for them before the end.
    fn take_marks(&mut self, start: MediaTime, places: &Places) -> Option<Patch> {
        if self.new_marks.is_empty() {
            return None;
        }
        let new = self.new_marks.drain(..);
        self.marks.extend(new.map(|(at, title)| FileMark { at: (at - start).max(MediaTime::ZERO), title }));
        let bytes = fill_chapter_room(&self.marks)?;
        Some(Patch { offset: places.chapter_room, bytes: bytes.into() })
    }

    fn note_cue(&mut self, start: MediaTime, cluster: u64) {
        let starts = |block: &&Waiting| {
            let is_picture = self.tracks[block.place].track.codec.kind() == TrackKind::Video;
            block.random_access && is_picture == self.has_video
        };
        if let Some(block) = self.blocks.iter().find(starts) {
            let time = u64::try_from(ticks(block.pts - start)).unwrap_or(0);
            self.cues.push(Cue { time, track: self.tracks[block.place].number, cluster });
        }
    }

    /// Writes the cluster's head and its blocks; the heads of all blocks share one piece of memory.
    fn write_cluster(&mut self, start: MediaTime, first: MediaTime) -> Vec<Bytes> {
        let timestamp = ticks(first - start).max(0);
        let mut heads = Elements::default();
        heads.uint(ids::TIMESTAMP, timestamp.cast_unsigned());
        let mut ends = Vec::with_capacity(self.blocks.len());
        for block in &self.blocks {
            let offset = ticks(block.pts - start) - timestamp;
            let offset = i16::try_from(offset).unwrap_or(if offset < 0 { i16::MIN } else { i16::MAX });
            let mut head = Elements::default();
            write_block_head(self.tracks[block.place].number, offset, block.random_access, &mut head);
            heads.id(ids::SIMPLE_BLOCK).size((head.len() + block.payload.len()) as u64).raw(&head.into_bytes());
            ends.push(heads.len());
        }
        let payload: usize = self.blocks.iter().map(|block| block.payload.len()).sum();
        let mut cluster = Elements::default();
        cluster.id(ids::CLUSTER).raw(&eight_byte_size((heads.len() + payload) as u64));
        let mut segments = vec![Bytes::from(cluster.into_bytes())];
        let mut heads = Bytes::from(heads.into_bytes());
        let mut before = 0;
        for (block, end) in self.blocks.drain(..).zip(ends) {
            segments.extend([heads.split_to(end - before), block.payload]);
            before = end;
        }
        segments
    }
}

impl TrackWriter {
    fn described(&self) -> HeadTrack<'_> {
        HeadTrack { track: &self.track, is_default: self.is_default, picture_size: self.picture_size }
    }
}

/// What goes into the head of a file of `length` bytes once it is known.
pub(super) fn closing_patches(places: &Places, entries: &[(u32, u64)], length: u64, duration: MediaTime) -> Vec<Patch> {
    let size = eight_byte_size(length - places.segment_start);
    vec![
        Patch { offset: places.segment_size, bytes: Bytes::copy_from_slice(&size) },
        Patch { offset: places.seek_room, bytes: write_seek_head(entries).into() },
        Patch { offset: places.duration, bytes: write_duration(ticks(duration)).into() },
    ]
}
