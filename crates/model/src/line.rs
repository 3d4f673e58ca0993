//! A line over SRT at one moment.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A line over SRT: of an encoder to us, or of us to a destination. Shares are of the last ten
/// seconds, from 0 to 1.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveLine {
    /// Round trip time.
    pub rtt_ms: f64,
    /// The share of packets that were missing at first.
    pub loss_share: f64,
    /// The share of packets that were sent again.
    pub retransmit_share: f64,
    /// What waits for its time; to a destination, what waits to be acknowledged.
    pub buffered_ms: u64,
    /// How long what is lost is waited for, as both ends agreed.
    pub latency_ms: u64,
    /// The latency that round trip and loss ask for.
    pub advised_latency_ms: u64,
    /// Packets that did not come in time, since the connection was made.
    pub dropped_packet_count: u64,
    /// Packets that could not be decrypted.
    pub undecrypted_packet_count: u64,
    /// The last two minutes, the oldest first.
    pub points: Vec<LiveLinePoint>,
}

/// A moment of a line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveLinePoint {
    /// How long ago.
    pub age_ms: u64,
    /// Round trip time.
    pub rtt_ms: f64,
    /// The share of packets that were missing at first.
    pub loss_share: f64,
    /// Packets that did not come in time.
    pub dropped_packet_count: u64,
}
