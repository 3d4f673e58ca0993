//! What both ends of an SRT connection keep.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Hidden;

/// What both ends of an SRT connection are to keep.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Srt {
    /// How long what is lost is waited for; the other end may ask for more.
    pub latency_ms: u16,
    /// Whether a passphrase is asked for; the passphrase itself is in no answer.
    pub has_passphrase: bool,
}

/// What is to change; what is left out stays. Holds from the next connection.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeSrt {
    /// How long what is lost is waited for, 20 to 65535; about four round trips.
    pub latency_ms: Option<u16>,
    /// The passphrase, 10 to 79 bytes; an empty text takes it away.
    pub passphrase: Option<Hidden>,
}
