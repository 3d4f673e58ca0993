use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// What a payload was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum MarkKind {
    /// A video decoder configuration.
    VideoHeader,
    /// An audio decoder configuration.
    AudioHeader,
    /// A picture that decoding can start at.
    Keyframe,
    /// Another picture.
    Picture,
    /// An audio frame.
    Sound,
}

impl MarkKind {
    /// True for pictures of either sort.
    pub fn is_picture(self) -> bool {
        matches!(self, Self::Keyframe | Self::Picture)
    }
}

/// What is remembered of a payload that was sent or received.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// What it was.
    pub kind: MarkKind,
    /// The place of its track among those of its kind.
    #[serde(default)]
    pub track: u8,
    /// Its RTMP timestamp.
    pub timestamp_ms: u32,
    /// Presentation time less decode time.
    #[serde(default)]
    pub composition_ms: i64,
    /// The first 16 bytes of its SHA-256, in hexadecimal digits.
    pub digest: String,
}

impl Mark {
    /// Remembers a payload.
    pub fn new(kind: MarkKind, track: u8, timestamp_ms: u32, payload: &[u8]) -> Self {
        let digest = Sha256::digest(payload);
        let digest: String = digest.iter().take(16).map(|byte| format!("{byte:02x}")).collect();
        Self { kind, track, timestamp_ms, composition_ms: 0, digest }
    }

    /// The same with a composition time.
    #[must_use]
    pub fn with_composition(self, composition_ms: i64) -> Self {
        Self { composition_ms, ..self }
    }
}
