use serde::{Deserialize, Serialize};

use crate::LegPhase;

/// What a leg did in a session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LegRecord {
    /// The session's number.
    pub session_id: u64,
    /// The destination's number.
    pub destination_id: u64,
    /// The destination's name.
    pub destination_name: String,
    /// Where the leg stood last.
    pub state: LegPhase,
    /// Why its last connection ended.
    pub reason: Option<String>,
    /// Pictures sent.
    pub sent_frame_count: u64,
    /// Payload bytes sent.
    pub sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub dropped_frame_count: u64,
    /// How much of the show they were, in milliseconds.
    pub dropped_ms: u64,
    /// How often it dialed again.
    pub redial_count: u32,
}
