//! Takes.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// One recorded file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Take {
    /// The channel's name.
    pub channel: String,
    /// The session that it records.
    pub session: u64,
    /// Its place in the session.
    pub number: u32,
    /// Where it lies within the recordings folder.
    pub path: String,
    /// Where it stands.
    pub state: TakeState,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// How long it plays.
    pub duration_ms: u64,
    /// How much it takes.
    pub size_bytes: u64,
    /// How often a part of the show is missing because the disk was too slow.
    pub gap_count: u32,
    /// How much of the show that is.
    pub gap_ms: u64,
    /// Moments that were pointed out.
    pub marks: Vec<Mark>,
    /// What was done to a take that was not ended in order.
    pub repair: Option<String>,
    /// What people call it.
    pub title: Option<String>,
    /// What people wrote about it.
    pub note: Option<String>,
    /// True if no rule may remove it.
    pub is_locked: bool,
    /// The number of the take that it was cut from.
    pub cut_from: Option<u32>,
    /// When it was removed, if it was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub removed_at: Option<OffsetDateTime>,
    /// SHA-256 of the file; none until it was read through once.
    pub sha256: Option<String>,
    /// True if the file is on this disk.
    pub is_here: bool,
    /// Its copy in a depot.
    pub copy: Option<TakeCopy>,
    /// Its tracks of sound in order; only where one take is asked for, and its file is here.
    pub sounds: Vec<TakeSound>,
}

/// A track of sound of a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakeSound {
    /// Codec.
    pub codec: String,
    /// As RFC 5646 has it.
    pub language: Option<String>,
    /// What the publisher called it.
    pub name: Option<String>,
}

/// A moment of a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Mark {
    /// From the begin of the take.
    pub at_ms: u64,
    /// Why.
    pub title: String,
}

/// A take's copy in a depot.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakeCopy {
    /// The depot's name.
    pub depot: String,
    /// What the object is called there.
    pub object_key: String,
    /// Where it stands.
    pub state: CopyState,
    /// How much of it is there.
    pub sent_bytes: u64,
    /// How often it was tried in vain.
    pub attempt_count: u32,
    /// Why the last try was in vain.
    pub error: Option<String>,
}

/// A part of the list of takes, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListedTakes {
    /// The takes.
    pub items: Vec<Take>,
    /// Send this as `before` for the next part; none at the end.
    pub next: Option<String>,
}

/// What is to change of a take; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeTake {
    /// What people call it; empty for nothing.
    pub title: Option<String>,
    /// What people write about it; empty for nothing.
    pub note: Option<String>,
    /// Whether no rule may remove it.
    pub is_locked: Option<bool>,
}

/// A take that was removed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RemovedTake {
    /// Until then it can be had back.
    #[serde(with = "time::serde::rfc3339")]
    pub gone_at: OffsetDateTime,
}

/// A piece to be cut from a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CutTake {
    /// Begin at the last keyframe that is not later.
    pub from_ms: u64,
    /// End before the first keyframe that is not earlier; at the end if left out.
    pub to_ms: Option<u64>,
    /// What people call the new take.
    pub title: Option<String>,
}

/// Where to copy a take.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CopyTake {
    /// The depot; that of the channel if left out.
    pub depot: Option<String>,
}

/// A link to a copy of a take.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakeLink {
    /// Anybody who has this can fetch the copy.
    pub link: String,
    /// Until then it is valid.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
}

/// Where a take stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum TakeState {
    /// It is being written.
    #[serde(rename = "writing")]
    Writing,
    /// It was ended in order.
    #[serde(rename = "complete")]
    Complete,
    /// The service or the disk failed while it was written; it plays up to there.
    #[serde(rename = "cut off")]
    CutOff,
}

/// Where a copy of a take stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CopyState {
    /// It waits for its turn.
    Waiting,
    /// It is being sent.
    Sending,
    /// It is there, whole.
    There,
    /// It failed, and is tried again.
    Failing,
}
