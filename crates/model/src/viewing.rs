//! How a channel is watched.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Who may watch a channel without an account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Audience {
    /// Nobody.
    #[default]
    Nobody,
    /// Everybody who knows the address.
    Everybody,
}

/// What is more important to viewers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Nearness {
    /// As near to the moment as it can be: a picture at a time where the player can.
    Nearest,
    /// Some seconds behind, in parts of segments.
    #[default]
    Near,
    /// Some segments behind, whole ones alone: for lines that stutter.
    Steady,
}

/// How a channel is watched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Viewing {
    /// Who may.
    pub audience: Audience,
    /// How near to the moment.
    pub nearness: Nearness,
    /// How far back one can go.
    pub back_ms: u32,
    /// Whether segments are made while nobody watches.
    pub is_always_ready: bool,
    /// Where it is watched, by who may.
    pub addresses: ViewingAddresses,
}

/// Where a channel is watched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ViewingAddresses {
    /// The page for people.
    pub page: String,
    /// For players of HLS.
    pub hls: String,
    /// For players of DASH.
    pub dash: String,
    /// For players that take a continuous MPEG transport stream over HTTP.
    pub transport_stream: String,
    /// For pages that take a picture at a time over a WebSocket.
    pub pictures: String,
}

/// What is to change of how a channel is watched; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeViewing {
    /// Who may; holds at once, also for who is watching.
    pub audience: Option<Audience>,
    /// How near to the moment; holds from the next session.
    pub nearness: Option<Nearness>,
    /// How far back one can go, 10000 to 120000; holds from the next session.
    pub back_ms: Option<u32>,
    /// Whether segments are made while nobody watches; holds from the next session.
    pub is_always_ready: Option<bool>,
}
