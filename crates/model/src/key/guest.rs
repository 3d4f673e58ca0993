use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use super::{EncoderFields, KeyRight, KeyRules, KeyState};
use crate::Hidden;

/// What stands in a guest's link behind the `#`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuestToken {
    /// The text.
    pub token: Hidden,
}

/// Whether a guest is seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GuestState {
    /// Nobody uses the key.
    NotHere,
    /// An encoder is connected, and nothing of it was understood yet.
    Connected,
    /// Its stream is received, and waits as a backup or for its turn.
    Received,
    /// Its stream is the show.
    OnAir,
    /// A player watches.
    Watching,
}

/// What is seen of a guest's encoder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuestSeen {
    /// Whether it is seen.
    pub state: GuestState,
    /// What it calls itself.
    pub encoder: Option<String>,
    /// From where it comes.
    pub address: Option<String>,
    /// Its tracks, in words.
    pub stream: Option<String>,
    /// What comes in, in bits per second.
    pub bitrate_bps: Option<u64>,
}

/// Why somebody with the key was turned away.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuestRefusal {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// From where it came.
    pub address: String,
    /// Why, and what to do.
    pub reason: String,
}

/// What a guest's link shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuestPage {
    /// What the channel is called.
    pub title: String,
    /// For whom the key was made.
    pub label: String,
    /// What it opens the channel for.
    pub right: KeyRight,
    /// What to paste.
    pub encoder: EncoderFields,
    /// When and how it opens.
    #[serde(flatten)]
    pub rules: KeyRules,
    /// Whether it opens now.
    pub state: KeyState,
    /// When that changes by itself, if so.
    #[serde(with = "time::serde::rfc3339::option")]
    pub turns_at: Option<OffsetDateTime>,
    /// When the link ends.
    #[serde(with = "time::serde::rfc3339")]
    pub link_until: OffsetDateTime,
    /// Whether the guest is seen.
    pub seen: GuestSeen,
    /// Why it was turned away last, in the last ten minutes.
    pub turned_away: Option<GuestRefusal>,
}
