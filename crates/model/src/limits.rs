//! What destinations accept.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to do about a stream that a destination does not accept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SheetAction {
    /// Send it, and say so.
    #[default]
    Warn,
    /// Do not send it while it is so.
    DoNotSend,
}

/// What to do for a destination that demands sound when a show has none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MissingSound {
    /// Nothing: it does without.
    #[default]
    Ignore,
    /// Send it as it is, and say so.
    Warn,
    /// Add silence.
    Add,
}

impl MissingSound {
    fn is_ignored(&self) -> bool {
        *self == Self::Ignore
    }
}

/// What a destination accepts. What is left out limits nothing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SheetForm {
    /// Only encrypted connections.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub needs_tls: bool,
    /// Video codecs, such as `H.264`. They are sent even if the platform does not say that it takes
    /// them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub video_codecs: Vec<String>,
    /// Audio codecs, such as `AAC`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub audio_codecs: Vec<String>,
    /// Bits per second, all tracks together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_bitrate_bps: Option<u64>,
    /// Pixels of the long side of the picture.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_long_side: Option<u32>,
    /// Pixels of the short side.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_short_side: Option<u32>,
    /// Pictures per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_frame_rate: Option<f64>,
    /// Distance between keyframes, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_keyframe_spacing_ms: Option<u32>,
    /// Tracks of sound.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_audio_tracks: Option<u8>,
    /// Profiles of the pictures, such as `High`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub video_profiles: Vec<String>,
    /// Only groups of pictures that need nothing of the group before.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub needs_closed_groups: bool,
    /// Only the usual range of light (SDR).
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub standard_range_only: bool,
    /// What to do when there is no sound. Default `ignore`.
    #[serde(skip_serializing_if = "MissingSound::is_ignored")]
    pub missing_sound: MissingSound,
    /// What to do about a stream that is not accepted. Default `warn`.
    pub on_breach: SheetAction,
}
