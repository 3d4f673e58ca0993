use std::collections::VecDeque;

use bytes::Bytes;
use waverant_container::PieceName;
use waverant_media::MediaTime;

use super::segment::{Piece, Segment, ShelfPart};

/// What there is under a name.
#[derive(Clone, Debug)]
pub enum Found {
    /// A header.
    Header(Bytes),
    /// A segment or a part.
    Piece(Piece),
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
        let segment = self.retired.iter().chain(&self.told).find(|segment| segment.number == number);
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
