//! What the writers of both containers share: where a fragment ends, and what one is.

use bytes::Bytes;
use thiserror::Error;
use waverant_media::{CodecParameters, MediaTime, Packet, TICKS_PER_SECOND, TrackId, TrackKind, Tracks};

/// A fragment ends at the next keyframe, or when it is this long: what a killed writer loses.
pub(crate) const MAX_FRAGMENT: MediaTime = MediaTime::from_ticks(TICKS_PER_SECOND / 2);

/// The most samples that one fragment collects, whatever their timestamps say.
const MAX_SAMPLES: usize = 4096;

/// Timestamps within one fragment are no further apart than this: Matroska counts 16 bits of
/// milliseconds from the begin of a cluster.
const MAX_SPREAD: MediaTime = MediaTime::from_millis(30_000);

/// Why a packet cannot go into the file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum WriterError {
    /// The packet's track is not one the file was begun with.
    #[error("track {} is not part of this file", .0.0)]
    UnknownTrack(TrackId),
    /// A file needs at least one track.
    #[error("no track to write")]
    NoTracks,
}

/// A piece of file that is to be appended.
#[derive(Clone, Debug, Default)]
pub struct Fragment {
    /// Headers and payloads in file order; payloads are the packets' own memory.
    pub segments: Vec<Bytes>,
    /// Sum of the segments' lengths.
    pub size_bytes: u64,
    /// Pictures in the fragment.
    pub video_frame_count: u64,
    /// To be written over what was appended before, once this piece is.
    pub patches: Vec<Patch>,
}

/// Bytes to write over what was appended before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Patch {
    /// Where in the file.
    pub offset: u64,
    /// What to put there.
    pub bytes: Bytes,
}

/// Decides where a fragment ends.
#[derive(Debug)]
pub(crate) struct Cutter {
    has_video: bool,
    first: Option<Packet>,
    sample_count: usize,
}

impl Cutter {
    pub(crate) fn new(tracks: &Tracks) -> Self {
        Self { has_video: tracks.has(TrackKind::Video), first: None, sample_count: 0 }
    }

    /// True if a fragment ends before this packet. Only a picture may cut, so that the length of
    /// the last picture is always known.
    pub(crate) fn cuts_before(&self, packet: &Packet) -> bool {
        let Some(first) = &self.first else { return false };
        let cutting_kind = !self.has_video || packet.kind == TrackKind::Video;
        let full = packet.dts - first.dts >= MAX_FRAGMENT;
        let spread = (packet.pts - first.pts).max(first.pts - packet.pts);
        self.sample_count >= MAX_SAMPLES || spread >= MAX_SPREAD || cutting_kind && (full || packet.is_keyframe())
    }

    pub(crate) fn count(&mut self, packet: &Packet) {
        self.sample_count += 1;
        if self.first.is_none() {
            self.first = Some(Packet { payload: Bytes::new(), ..packet.clone() });
        }
    }

    pub(crate) fn cut(&mut self) {
        self.first = None;
        self.sample_count = 0;
    }
}

/// An AV1 temporal delimiter OBU with its size of 0.
const TEMPORAL_DELIMITER: [u8; 2] = [0x12, 0];

/// The payload as files hold it: they say by their samples what a temporal delimiter says in a stream.
///
/// Source: AV1 Codec ISO Media File Format Binding, 2.4; Matroska codec mappings, AV1
pub(crate) fn without_delimiter<'a>(codec: &CodecParameters, payload: &'a [u8]) -> &'a [u8] {
    match codec {
        CodecParameters::Av1(_) => payload.strip_prefix(&TEMPORAL_DELIMITER).unwrap_or(payload),
        _ => payload,
    }
}
