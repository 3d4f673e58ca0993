//! Pieces of one picture or frame each, made once for all who take them.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use waverant_container::{CmafPiece, CmafTimeline, write_cmaf_piece};
use waverant_media::{CodecParameters, MediaTime, Packet, Track, TrackId};

use crate::hub::Entry;

/// The zero of the pieces' clock lies so much before the first packet: sound may come behind pictures.
const BEFORE_FIRST: MediaTime = MediaTime::from_millis(10_000);

/// What was made is kept for viewers that are behind: for longer than they may be, and so many pieces of a track.
const KEPT: MediaTime = MediaTime::from_millis(6_000);
const MAX_KEPT: usize = 2_048;

/// A picture, or a frame of sound, as all viewers get it.
#[derive(Debug)]
pub struct SharedPiece {
    /// Its track.
    pub track: TrackId,
    /// Its bytes.
    pub piece: CmafPiece,
    on_the_wire: OnceLock<Vec<Bytes>>,
}

impl SharedPiece {
    fn new(track: TrackId, piece: CmafPiece) -> Arc<Self> {
        Arc::new(Self { track, piece, on_the_wire: OnceLock::new() })
    }

    /// The messages that it is sent in; made by who needs them first.
    pub fn on_the_wire(&self, make: impl FnOnce(&Self) -> Vec<Bytes>) -> &[Bytes] {
        self.on_the_wire.get_or_init(|| make(self))
    }
}

/// Makes the pieces of one show, for as long as somebody takes them.
#[derive(Debug, Default)]
pub struct PicturePress {
    origin: Option<MediaTime>,
    tracks: BTreeMap<TrackId, PressTrack>,
}

#[derive(Debug)]
struct PressTrack {
    line: PieceLine,
    made: VecDeque<Made>,
}

#[derive(Debug)]
struct Made {
    dts: MediaTime,
    /// By which the packet is known.
    payload: Bytes,
    piece: Arc<SharedPiece>,
}

/// One track's pieces, one behind the other.
#[derive(Debug)]
pub(super) struct PieceLine {
    pub(super) timeline: CmafTimeline,
    sequence: u32,
}

impl PieceLine {
    pub(super) fn new(track: &Track, origin: MediaTime) -> Self {
        Self { timeline: CmafTimeline::new(track, origin), sequence: 0 }
    }

    pub(super) fn piece(&mut self, packet: &Packet) -> Arc<SharedPiece> {
        let sample = self.timeline.place(packet);
        self.sequence = self.sequence.wrapping_add(1);
        let piece = write_cmaf_piece(packet.kind, self.sequence, std::slice::from_ref(&sample));
        SharedPiece::new(packet.track, piece)
    }
}

impl PicturePress {
    /// The moment that is zero on the pieces' clock; that of the first packet it is asked about says it.
    pub(super) fn origin(&mut self, packet: &Packet) -> MediaTime {
        *self.origin.get_or_insert(packet.dts - BEFORE_FIRST)
    }

    /// The piece of a packet. None for one that is older than what is kept, or was passed over: who takes it makes
    /// its own.
    pub(super) fn piece(&mut self, entry: &Entry) -> Option<Arc<SharedPiece>> {
        let packet = &entry.packet;
        let origin = self.origin(packet);
        let source = entry.tracks.get(packet.track)?;
        let known = self.tracks.entry(packet.track).or_insert_with(|| PressTrack::new(source, origin));
        match known.made.back() {
            Some(newest) if packet.dts <= newest.dts => return known.find(packet),
            _ => {}
        }
        if !known.is_for(&source.codec) {
            *known = PressTrack::new(source, origin);
        }
        Some(known.make(packet))
    }
}

impl PressTrack {
    fn new(source: &Track, origin: MediaTime) -> Self {
        Self { line: PieceLine::new(source, origin), made: VecDeque::new() }
    }

    fn is_for(&self, codec: &CodecParameters) -> bool {
        self.line.timeline.codec() == codec
    }

    fn find(&self, packet: &Packet) -> Option<Arc<SharedPiece>> {
        let place = self.made.partition_point(|made| made.dts < packet.dts);
        let same = self.made.iter().skip(place).take_while(|made| made.dts == packet.dts);
        let mut same = same.filter(|made| made.payload.as_ptr() == packet.payload.as_ptr());
        same.next().map(|made| made.piece.clone())
    }

    fn make(&mut self, packet: &Packet) -> Arc<SharedPiece> {
        let piece = self.line.piece(packet);
        self.made.push_back(Made { dts: packet.dts, payload: packet.payload.clone(), piece: piece.clone() });
        let oldest = packet.dts - KEPT;
        while self.made.len() > MAX_KEPT || self.made.front().is_some_and(|made| made.dts < oldest) {
            self.made.pop_front();
        }
        piece
    }
}
