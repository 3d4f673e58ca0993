use std::fmt;

use crate::{AudioSpecificConfig, AvcDecoderConfig};

/// The number of a track within its session.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TrackId(pub u8);

impl TrackId {
    /// The video track of a source that has only one.
    pub const VIDEO: Self = Self(0);
    /// The first audio track.
    pub const AUDIO: Self = Self(1);
}

/// Whether a track is seen or heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TrackKind {
    /// Pictures.
    Video,
    /// Sound.
    Audio,
}

/// A track's codec with what a decoder must know before the first packet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CodecParameters {
    /// H.264 (ISO/IEC 14496-10).
    H264(AvcDecoderConfig),
    /// AAC (ISO/IEC 14496-3).
    Aac(AudioSpecificConfig),
}

impl CodecParameters {
    /// Whether the codec is one for pictures or for sound.
    pub fn kind(&self) -> TrackKind {
        match self {
            Self::H264(_) => TrackKind::Video,
            Self::Aac(_) => TrackKind::Audio,
        }
    }

    /// The codec's name as people write it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::H264(_) => "H.264",
            Self::Aac(_) => "AAC",
        }
    }
}

/// One elementary stream of a session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Track {
    /// The track's number; unique within the session.
    pub id: TrackId,
    /// Codec and decoder configuration.
    pub codec: CodecParameters,
}

/// The tracks of a session as they are at one moment.
///
/// A publisher may change parameters in mid-show; then a new set takes the place of the old one
/// and readers tell the two apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tracks(Vec<Track>);

impl Tracks {
    /// An empty set.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds a track, or replaces the one with the same number.
    pub fn set(&mut self, track: Track) {
        match self.0.iter_mut().find(|old| old.id == track.id) {
            Some(old) => *old = track,
            None => {
                self.0.push(track);
                self.0.sort_by_key(|track| track.id);
            }
        }
    }

    /// The tracks by rising number.
    pub fn iter(&self) -> impl Iterator<Item = &Track> {
        self.0.iter()
    }

    /// The track with number `id`.
    pub fn get(&self, id: TrackId) -> Option<&Track> {
        self.0.iter().find(|track| track.id == id)
    }

    /// How many tracks there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// True if no track is known yet.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// True if any track is of `kind`.
    pub fn has(&self, kind: TrackKind) -> bool {
        self.0.iter().any(|track| track.codec.kind() == kind)
    }

    /// The first video track's H.264 parameters.
    pub fn h264(&self) -> Option<&AvcDecoderConfig> {
        self.0.iter().find_map(|track| match &track.codec {
            CodecParameters::H264(config) => Some(config),
            CodecParameters::Aac(_) => None,
        })
    }

    /// The first audio track's AAC parameters.
    pub fn aac(&self) -> Option<&AudioSpecificConfig> {
        self.0.iter().find_map(|track| match &track.codec {
            CodecParameters::Aac(config) => Some(config),
            CodecParameters::H264(_) => None,
        })
    }
}

impl fmt::Display for Tracks {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, track) in self.0.iter().enumerate() {
            if place > 0 {
                out.write_str(" + ")?;
            }
            out.write_str(track.codec.name())?;
        }
        Ok(())
    }
}
