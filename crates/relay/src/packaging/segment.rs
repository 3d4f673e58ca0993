use std::sync::Arc;

use bytes::Bytes;
use waverant_container::{CmafPiece, CmafSample, write_cmaf_piece};
use waverant_media::{MediaTime, TrackKind};

/// What is sent for one name: the payloads are the packets' own memory.
#[derive(Clone, Debug, Default)]
pub struct Piece {
    /// What is sent, in order.
    pub parts: Vec<Arc<CmafPiece>>,
}

impl Piece {
    /// How much it is, in bytes.
    pub fn size_bytes(&self) -> u64 {
        self.parts.iter().map(|part| part.size_bytes).sum()
    }

    /// Its bytes, in order.
    pub fn segments(&self) -> impl Iterator<Item = &Bytes> {
        self.parts.iter().flat_map(|part| &part.segments)
    }
}

/// A part as it lies on the shelf.
#[derive(Clone, Debug)]
pub(super) struct ShelfPart {
    pub(super) piece: Arc<CmafPiece>,
    pub(super) start: u64,
    pub(super) end: u64,
    pub(super) independent: bool,
}

impl ShelfPart {
    pub(super) fn length(&self, timescale: u32) -> MediaTime {
        span(self.start, self.end, timescale)
    }
}

/// A segment of a track, whole or growing.
#[derive(Clone, Debug)]
pub(super) struct Segment {
    pub(super) number: u64,
    /// The stretch between two discontinuities that it belongs to.
    pub(super) period: u64,
    pub(super) header: u64,
    /// Ticks per second of its parts.
    pub(super) timescale: u32,
    /// None once its bytes are on a disk alone.
    pub(super) parts: Vec<ShelfPart>,
    pub(super) kept: Kept,
}

/// Where the bytes of a segment are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Kept {
    /// In memory alone.
    #[default]
    InMemory,
    /// On a disk as well.
    OnDiskToo,
    /// On a disk alone; this is what is known of it.
    OnDisk(Facts),
}

/// What is known of a segment without its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Facts {
    start: u64,
    end: u64,
    length: MediaTime,
    starts_clean: bool,
    pub(super) size_bytes: u64,
}

impl Segment {
    /// An empty one.
    pub(super) fn new((number, period, header): (u64, u64, u64), timescale: u32) -> Self {
        Self { number, period, header, timescale, parts: Vec::new(), kept: Kept::default() }
    }

    /// When it begins, in ticks; zero while it is empty.
    pub(super) fn start(&self) -> u64 {
        self.facts().map_or_else(|| self.parts.first().map_or(0, |part| part.start), |facts| facts.start)
    }

    /// When what there is of it ends, in ticks.
    pub(super) fn end(&self) -> u64 {
        self.facts().map_or_else(|| self.parts.last().map_or(0, |part| part.end), |facts| facts.end)
    }

    fn facts(&self) -> Option<Facts> {
        if let Kept::OnDisk(facts) = self.kept { Some(facts) } else { None }
    }

    /// Lets go of bytes that lie on a disk as well; how many, in bytes.
    pub(super) fn leave_to_disk(&mut self) -> u64 {
        if self.kept != Kept::OnDiskToo {
            return 0;
        }
        let size_bytes = self.size_bytes();
        let (start, end, length, starts_clean) = (self.start(), self.end(), self.length(), self.starts_clean());
        self.kept = Kept::OnDisk(Facts { start, end, length, starts_clean, size_bytes });
        self.parts = Vec::new();
        size_bytes
    }

    /// When it begins, on the pieces' clock.
    pub(super) fn start_time(&self) -> MediaTime {
        in_time(self.start(), self.timescale)
    }

    /// When what there is of it ends, on the pieces' clock.
    pub(super) fn end_time(&self) -> MediaTime {
        in_time(self.end(), self.timescale)
    }

    /// How long it is: as long as its parts together.
    pub(super) fn length(&self) -> MediaTime {
        let of_parts = || self.parts.iter().fold(MediaTime::ZERO, |sum, part| sum + part.length(self.timescale));
        self.facts().map_or_else(of_parts, |facts| facts.length)
    }

    /// Memory held.
    pub(super) fn size_bytes(&self) -> u64 {
        self.parts.iter().map(|part| part.piece.size_bytes).sum()
    }

    pub(super) fn piece(&self) -> Piece {
        Piece { parts: self.parts.iter().map(|part| part.piece.clone()).collect() }
    }

    /// Whether decoding can begin with it.
    pub(super) fn starts_clean(&self) -> bool {
        let of_parts = || self.parts.first().is_some_and(|part| part.independent);
        self.facts().map_or_else(of_parts, |facts| facts.starts_clean)
    }
}

/// The part that is being collected.
#[derive(Debug, Default)]
pub(super) struct OpenPart {
    samples: Vec<CmafSample>,
}

impl OpenPart {
    pub(super) fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    pub(super) fn push(&mut self, sample: CmafSample) {
        self.samples.push(sample);
    }

    pub(super) fn sample_count(&self) -> usize {
        self.samples.len()
    }

    /// Its payloads together.
    pub(super) fn bytes(&self) -> u64 {
        self.samples.iter().map(|sample| sample.payload.len() as u64).sum()
    }

    /// How long it is, in ticks.
    pub(super) fn length(&self) -> u64 {
        self.samples.iter().map(|sample| u64::from(sample.duration)).sum()
    }

    pub(super) fn start(&self) -> Option<u64> {
        Some(self.samples.first()?.decode_time)
    }

    /// How far `sample` is from where the part ends, in ticks. Within a part each sample begins where the one before
    /// it ends.
    pub(super) fn hole_before(&self, sample: &CmafSample) -> u64 {
        self.samples.last().map_or(0, |last| last.end().abs_diff(sample.decode_time))
    }

    /// The part as it is sent; none if nothing was collected.
    pub(super) fn close(&mut self, kind: TrackKind, sequence: u32) -> Option<ShelfPart> {
        let start = self.start()?;
        let part = ShelfPart {
            piece: Arc::new(write_cmaf_piece(kind, sequence, &self.samples)),
            start,
            end: start + self.length(),
            independent: self.samples.iter().any(|sample| sample.sync),
        };
        self.samples.clear();
        Some(part)
    }
}

/// Ticks of a track's clock as a time, so that lengths add up however often they are rounded.
pub(super) fn span(start: u64, end: u64, timescale: u32) -> MediaTime {
    in_time(end, timescale) - in_time(start, timescale)
}

pub(super) fn in_time(ticks: u64, timescale: u32) -> MediaTime {
    let scaled = i128::from(ticks) * i128::from(waverant_media::TICKS_PER_SECOND) / i128::from(timescale.max(1));
    MediaTime::from_ticks(i64::try_from(scaled).unwrap_or(i64::MAX))
}
