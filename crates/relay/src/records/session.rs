use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// A session that begins.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewSession {
    /// The session's number, given by the house so that a show can begin without the database.
    pub id: u64,
    /// The channel's number.
    pub channel_id: u64,
    /// The channel's name.
    pub channel_name: String,
    /// Label of the key that opened the gate.
    pub key_label: String,
    /// Where the publisher came from.
    pub publisher_address: String,
    /// What the encoder calls itself.
    pub encoder: String,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// True if it is fed by the test picture.
    pub is_rehearsal: bool,
}

/// How a session ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionEnd {
    /// The session's number.
    pub id: u64,
    /// When.
    pub ended_at: OffsetDateTime,
    /// Why, in words.
    pub reason: String,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// The report of the show, as JSON.
    pub report: String,
}
