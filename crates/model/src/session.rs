//! Sessions, and who was not let in.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{LegState, Take};

/// A session.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The session's number.
    pub id: u64,
    /// The channel's name.
    pub channel: String,
    /// Label of the key that opened the gate.
    pub key_label: String,
    /// Where the publisher came from.
    pub publisher_address: String,
    /// What the encoder calls itself.
    pub encoder: String,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// When it ended.
    #[serde(with = "time::serde::rfc3339::option")]
    pub ended_at: Option<OffsetDateTime>,
    /// Why it ended.
    pub end_reason: Option<String>,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// True if it was fed by the test picture.
    pub is_rehearsal: bool,
}

/// What a leg did in a session.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LegOutcome {
    /// The destination's name.
    pub destination: String,
    /// Where the leg stood last.
    pub state: LegState,
    /// Why its last connection ended.
    pub reason: Option<String>,
    /// Pictures sent.
    pub sent_frame_count: u64,
    /// Payload bytes sent.
    pub sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub dropped_frame_count: u64,
    /// How much of the show they were.
    pub dropped_ms: u64,
    /// How often it dialed again.
    pub redial_count: u32,
}

/// A session with what became of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionDetail {
    /// The session.
    pub session: Session,
    /// Its legs by destination.
    pub legs: Vec<LegOutcome>,
    /// Its takes in order.
    pub takes: Vec<Take>,
}

/// A publisher who was not let in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TurnedAway {
    /// The group's number.
    pub id: u64,
    /// When the first of them came.
    #[serde(with = "time::serde::rfc3339")]
    pub first_at: OffsetDateTime,
    /// When the last of them came.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// How many there were.
    pub count: u64,
    /// From where; none if from many addresses. Of IPv6 it is a network of 64 bits.
    pub address: Option<String>,
    /// By what they came, as in `srt`; none where that was not known.
    pub protocol: Option<String>,
    /// What they call themselves, as far as they said.
    pub encoder: Option<String>,
    /// The reason's stable word.
    pub reason: String,
    /// The reason in words.
    pub detail: String,
    /// The public part of the key that was presented last.
    pub key_prefix: Option<String>,
    /// The channel, if the key was one of its keys.
    pub channel: Option<String>,
}

/// A part of a list, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Listed<T> {
    /// The rows.
    pub items: Vec<T>,
    /// Send this as `before` for the next part; none at the end.
    pub next: Option<u64>,
}
