//! A channel's rules for its recordings.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// When sessions are recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RecordingWhen {
    /// From the first packet on.
    Always,
    /// When somebody starts it.
    ByHand,
    /// Never.
    Off,
}

/// The form of recorded files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TakeFormat {
    /// Fragmented MP4.
    Mp4,
    /// Matroska.
    Matroska,
}

/// A channel's rules for its recordings.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Recording {
    /// When sessions are recorded.
    pub when: RecordingWhen,
    /// The form of the files.
    pub format: TakeFormat,
    /// A new take begins after so long; 0 for no limit.
    pub split_ms: u32,
    /// A new take begins after so many bytes; 0 for no limit.
    pub split_bytes: u64,
    /// Whether a new take begins when a lost encoder is back.
    pub split_at_return: bool,
    /// What takes are called, without an extension.
    pub names: String,
    /// How much of what was before goes into a recording started by hand.
    pub pre_roll_ms: u32,
    /// Takes that ended longer ago leave the disk; 0 for no limit.
    pub keep_s: u64,
    /// The newest so many stay on the disk; 0 for no limit.
    pub keep_count: u32,
    /// The newest so many bytes stay on the disk; 0 for no limit.
    pub keep_bytes: u64,
    /// The depot that finished takes are copied to.
    pub depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    pub removes_copied: bool,
}

/// What is to change of the rules; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeRecording {
    /// When sessions are recorded. Holds from the next session.
    pub when: Option<RecordingWhen>,
    /// The form of the files. This and what follows holds from the next take.
    pub format: Option<TakeFormat>,
    /// A new take begins after so long, a second at least; 0 for no limit.
    pub split_ms: Option<u32>,
    /// A new take begins after so many bytes, a million at least; 0 for no limit.
    pub split_bytes: Option<u64>,
    /// Whether a new take begins when a lost encoder is back.
    pub split_at_return: Option<bool>,
    /// What takes are called, without an extension: text with `{channel}`, `{date}`, `{time}`,
    /// `{session}` and `{take}`, and `/` between folders.
    pub names: Option<String>,
    /// How much of what was before goes into a recording started by hand; up to 20 seconds.
    pub pre_roll_ms: Option<u32>,
    /// Takes that ended longer ago leave the disk; 0 for no limit.
    pub keep_s: Option<u64>,
    /// The newest so many stay on the disk; 0 for no limit.
    pub keep_count: Option<u32>,
    /// The newest so many bytes stay on the disk; 0 for no limit.
    pub keep_bytes: Option<u64>,
    /// The depot that finished takes are copied to; empty for none.
    pub depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    pub removes_copied: Option<bool>,
}

/// A moment to point out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkMoment {
    /// What happens there.
    pub title: String,
}

/// A moment that was pointed out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkedMoment {
    /// The session.
    pub session: u64,
    /// The take that was being written.
    pub take: u32,
}
