use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// Where a take stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum TakeState {
    /// It is being written.
    Writing,
    /// It was ended in order.
    Complete,
    /// The service or the disk failed while it was written; it plays up to there.
    CutOff,
}

impl TakeState {
    /// The state's name in the records.
    pub fn name(self) -> &'static str {
        match self {
            Self::Writing => "writing",
            Self::Complete => "complete",
            Self::CutOff => "cut off",
        }
    }

    /// The state of this name; what is not known was cut off.
    pub fn from_name(name: &str) -> Self {
        match name {
            "complete" => Self::Complete,
            "writing" => Self::Writing,
            _ => Self::CutOff,
        }
    }
}

/// A moment of a take.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakeMark {
    /// From the take's begin, in milliseconds.
    pub at_ms: u64,
    /// Why.
    pub title: String,
}

/// One recorded file, as the recorder knows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakeRecord {
    /// The session that it records.
    pub session_id: u64,
    /// Its place in the session, counted from 1.
    pub number: u32,
    /// Where it lies within the recordings folder.
    pub path: String,
    /// Where it stands.
    pub state: TakeState,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// How long it plays, in milliseconds.
    pub duration_ms: u64,
    /// How much it takes, in bytes.
    pub size_bytes: u64,
    /// How often a part of the show is missing because the disk was too slow.
    pub gap_count: u32,
    /// How much of the show that is, in milliseconds.
    pub gap_ms: u64,
    /// Moments that were pointed out.
    pub marks: Vec<TakeMark>,
    /// What was done to a take that was not ended in order.
    pub repair: Option<String>,
}
