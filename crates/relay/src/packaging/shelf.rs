use std::collections::VecDeque;

use bytes::Bytes;
use waverant_container::PieceName;
use waverant_media::MediaTime;

use super::segment::{Kept, Piece, Segment, ShelfPart};

/// What there is under a name.
#[derive(Clone, Debug)]
pub enum Found {
    /// A header.
    Header(Bytes),
    /// A segment or a part.
    Piece(Piece),
    /// A segment that lies on a disk, and how much it is in bytes.
    OnDisk(u64),
    /// It is the next part or segment: it will come.
    NotYet,
    /// It is not there, and will not come.
    Absent,
}

/// The segments of a track that can be fetched: those that playlists tell, and for a while those they told.
#[derive(Debug, Default)]
pub(super) struct Shelf {
    /// Numbers of headers with their bytes; those that no segment uses go with the segments.
    headers: VecDeque<(u64, Bytes)>,
    /// Segments that were told; a player may still fetch them.
    retired: VecDeque<Segment>,
    /// Segments that are told; the last may grow.
    pub(super) told: VecDeque<Segment>,
    is_last_open: bool,
    bytes: u64,
    /// The number of the segment that is to go to a disk next.
    next_to_keep: u64,
    /// Numbers of segments on a disk that are of no use any more.
    useless: Vec<u64>,
}

impl Shelf {
    /// Adds a header.
    pub(super) fn add_header(&mut self, number: u64, header: Bytes) {
        self.bytes += header.len() as u64;
        self.headers.push_back((number, header));
    }

    /// Begins a segment; parts go to it from now on.
    pub(super) fn begin_segment(&mut self, segment: Segment) {
        self.told.push_back(segment);
        self.is_last_open = true;
    }

    /// Adds a part to the segment that grows.
    pub(super) fn add_part(&mut self, part: ShelfPart) {
        self.bytes += part.piece.size_bytes;
        if let Some(segment) = self.told.back_mut() {
            segment.parts.push(part);
        }
    }

    /// Ends the segment that grows.
    pub(super) fn close_segment(&mut self) {
        self.is_last_open = false;
    }

    /// The segment that grows.
    pub(super) fn open(&self) -> Option<&Segment> {
        self.told.back().filter(|_| self.is_last_open)
    }

    /// The segments that are whole.
    pub(super) fn whole(&self) -> impl DoubleEndedIterator<Item = &Segment> {
        self.told.iter().take(self.told.len() - usize::from(self.is_last_open && !self.told.is_empty()))
    }

    /// The next segment that is to go to a disk.
    pub(super) fn to_keep(&self) -> Option<&Segment> {
        let place = self.told.partition_point(|segment| segment.number < self.next_to_keep);
        self.told.get(place).filter(|_| place < self.told.len() - usize::from(self.is_last_open))
    }

    /// A segment is on the disk, or will never be.
    pub(super) fn note_kept(&mut self, number: u64, is_there: bool) {
        self.next_to_keep = self.next_to_keep.max(number + 1);
        if !is_there {
            return;
        }
        match self.retired.iter_mut().chain(&mut self.told).find(|segment| segment.number == number) {
            Some(segment) => segment.kept = Kept::OnDiskToo,
            // It was forgotten while it was written.
            None => self.useless.push(number),
        }
    }

    /// Lets go of the oldest bytes that lie on a disk as well and that end before `moment`; false if there are none.
    pub(super) fn leave_oldest_to_disk(&mut self, moment: MediaTime) -> bool {
        let newest = self.told.back().map(|segment| segment.number);
        let mut candidates = self.retired.iter_mut().chain(&mut self.told);
        let oldest = candidates.find(|segment| segment.kept == Kept::OnDiskToo);
        let oldest = oldest.filter(|segment| segment.end_time() < moment && Some(segment.number) != newest);
        let left = oldest.map_or(0, Segment::leave_to_disk);
        self.bytes -= left;
        left > 0
    }

    /// Numbers of segments on a disk that nobody has use for any more.
    pub(super) fn take_useless(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.useless)
    }

    /// Memory held.
    pub(super) fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Does not tell the oldest segment any more.
    pub(super) fn retire_oldest(&mut self) {
        self.retired.extend(self.told.pop_front());
    }

    /// Forgets the oldest segment that is not told any more; false if there is none.
    pub(super) fn forget_oldest(&mut self) -> bool {
        let Some(segment) = self.retired.pop_front() else { return false };
        self.bytes -= segment.size_bytes();
        if segment.kept != Kept::InMemory {
            self.useless.push(segment.number);
        }
        let oldest = self.retired.front().or(self.told.front()).map_or(u64::MAX, |segment| segment.header);
        while self.headers.len() > 1 && self.headers.front().is_some_and(|(number, _)| *number < oldest) {
            if let Some((_, header)) = self.headers.pop_front() {
                self.bytes -= header.len() as u64;
            }
        }
        true
    }

    /// How many segments are there that are not told any more.
    pub(super) fn retired_count(&self) -> usize {
        self.retired.len()
    }

    /// When what is forgotten next ended, on the pieces' clock.
    pub(super) fn oldest_retired_end(&self) -> Option<MediaTime> {
        self.retired.front().map(Segment::end_time)
    }

    /// What there is under `name`; `next` is the number of the segment after the last, `has_ended` says that none
    /// follows.
    pub(super) fn find(&self, name: PieceName, next: u64, has_ended: bool) -> Found {
        let (number, part) = match name {
            PieceName::Header(number) => {
                let header = self.headers.iter().find(|(known, _)| *known == number);
                return header.map_or(Found::Absent, |(_, header)| Found::Header(header.clone()));
            }
            PieceName::Segment(number) => (number, None),
            PieceName::Part(number, part) => (number, Some(part as usize)),
        };
        let is_open = |segment: &Segment| self.open().is_some_and(|open| open.number == segment.number);
        let found =
            |segments: &VecDeque<Segment>| segments.binary_search_by_key(&number, |segment| segment.number).ok();
        let told = found(&self.told).and_then(|place| self.told.get(place));
        let segment = told.or_else(|| self.retired.get(found(&self.retired)?));
        if let Some(Segment { kept: Kept::OnDisk(facts), .. }) = segment {
            return if part.is_none() { Found::OnDisk(facts.size_bytes) } else { Found::Absent };
        }
        match (segment, part) {
            (Some(segment), None) if !is_open(segment) => Found::Piece(segment.piece()),
            (Some(segment), Some(part)) => match segment.parts.get(part) {
                Some(part) => Found::Piece(Piece { parts: vec![part.piece.clone()] }),
                // The hint was for a part that is not: the segment ended before.
                None if is_open(segment) && part == segment.parts.len() && !has_ended => Found::NotYet,
                None => Found::Absent,
            },
            (Some(_), None) if !has_ended => Found::NotYet,
            (None, None | Some(0)) if number == next && !has_ended => Found::NotYet,
            _ => Found::Absent,
        }
    }
}
