use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// That somebody was let in by a stream key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyUse {
    /// The key's number.
    pub key_id: u64,
    /// When.
    pub used_at: OffsetDateTime,
    /// From where.
    pub address: String,
    /// What the encoder or player calls itself.
    pub encoder: String,
    /// By what it came, as in `srt`.
    pub protocol: String,
}
