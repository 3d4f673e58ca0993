use bytes::Bytes;

use crate::{MediaTime, TrackId, TrackKind};

/// One coded picture or audio frame of a track, in its canonical form.
///
/// The payload is: for H.264 and HEVC, length-prefixed NAL units as the track's decoder
/// configuration record says; for AV1, the OBUs of a temporal unit; for VP9, a frame; for AAC, one
/// raw access unit without an ADTS header; for other sound, one packet or frame of the codec.
/// Cloning shares the payload.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Packet {
    /// The track the packet belongs to.
    pub track: TrackId,
    /// What the track carries; kept here so that readers need no look-up.
    pub kind: TrackKind,
    /// When the packet is to be decoded. Never decreases within a track.
    pub dts: MediaTime,
    /// When the packet is to be presented; not before `dts` in well-formed streams.
    pub pts: MediaTime,
    /// True if decoding can start here: a video keyframe, or any audio frame.
    pub random_access: bool,
    /// The coded bytes.
    pub payload: Bytes,
}

impl Packet {
    /// True for a video packet at which a decoder can start.
    pub fn is_keyframe(&self) -> bool {
        self.kind == TrackKind::Video && self.random_access
    }
}
