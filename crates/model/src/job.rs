//! Long work on takes, and what comes of it.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobReport {
    /// The job's number.
    pub id: u64,
    /// What it does.
    pub kind: JobKind,
    /// The take's session.
    pub session: u64,
    /// The take's number.
    pub take: u32,
    /// When it was asked for.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// Where it stands.
    pub state: JobState,
    /// How much of the work is done, from 0 to 1.
    pub progress: f64,
    /// Why it failed.
    pub error: Option<String>,
    /// What came of it.
    pub result: Option<JobResult>,
}

/// What a job does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobKind {
    /// It checks a take.
    Check,
    /// It cuts a piece of a take into a take of its own.
    Cut,
    /// It brings a take back from its depot.
    Restore,
}

/// Where a job stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// It waits for its turn.
    Waiting,
    /// It works.
    Running,
    /// It is done.
    Done,
    /// It failed.
    Failed,
}

/// What came of a job: of a check what was found, of the others a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum JobResult {
    /// What was found of a take.
    Check(Box<TakeCheck>),
    /// A take that is there now.
    Made(MadeTake),
}

/// A take that a job made or brought back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeTake {
    /// Its session.
    pub session: u64,
    /// Its number.
    pub take: u32,
    /// How long it plays; of a cut.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration_ms: Option<u64>,
    /// How much it takes.
    pub size_bytes: u64,
}

/// What was found of a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakeCheck {
    /// True if nothing is wrong.
    pub is_good: bool,
    /// What is wrong, in words.
    pub findings: Vec<String>,
    /// The form of the file.
    pub format: FileForm,
    /// How long it plays.
    pub duration_ms: i64,
    /// How long its head says that it plays.
    pub told_duration_ms: Option<i64>,
    /// Whether there is an index for seeking.
    pub has_index: bool,
    /// Bytes at the end that belong to nothing whole.
    pub loose_bytes: u64,
    /// Its length in bytes.
    pub size_bytes: u64,
    /// The tracks in file order.
    pub tracks: Vec<TrackCheck>,
    /// Moments that were pointed out.
    pub marks: Vec<CheckedMark>,
    /// The digest of the file.
    pub sha256: String,
    /// Whether it is that of the records; none if there is none.
    pub digest_matches: Option<bool>,
}

/// The form of a take's file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum FileForm {
    /// Fragmented MP4.
    #[serde(rename = "MP4")]
    Mp4,
    /// Matroska.
    Matroska,
}

/// What a track carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TrackKind {
    /// Pictures.
    Video,
    /// Sound.
    Audio,
}

/// A track of the take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrackCheck {
    /// What it carries.
    pub kind: TrackKind,
    /// Codec.
    pub codec: String,
    /// As RFC 5646 has it.
    pub language: Option<String>,
    /// What the publisher called it.
    pub name: Option<String>,
    /// Whether it is played where nobody chooses.
    pub is_default: bool,
    /// Pictures or frames of sound.
    pub sample_count: u64,
    /// Those at which decoding can start.
    pub sync_count: u64,
    /// Bytes of payload.
    pub size_bytes: u64,
    /// When the first sample is presented.
    pub start_ms: i64,
    /// When the last one ends.
    pub end_ms: i64,
    /// Where something is missing; the first hundred.
    pub gaps: Vec<CheckedGap>,
    /// How often something is missing.
    pub gap_count: u64,
    /// Samples whose timestamps go back or lie before the begin.
    pub timestamp_error_count: u64,
}

/// A time in which a track has nothing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckedGap {
    /// When it begins.
    pub at_ms: i64,
    /// How long it lasts.
    pub length_ms: i64,
}

/// A moment of the take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckedMark {
    /// When.
    pub at_ms: i64,
    /// Why.
    pub title: String,
}
