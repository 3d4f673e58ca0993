use serde::Serialize;
use utoipa::ToSchema;
use waverant_relay::{LinePoint, LineQuality, advised_latency};

use super::live::millis;

/// A line over SRT: of an encoder to us, or of us to a destination. Shares are of the last ten
/// seconds, from 0 to 1.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveLine {
    /// Round trip time.
    rtt_ms: f64,
    /// The share of packets that were missing at first.
    loss_share: f64,
    /// The share of packets that were sent again.
    retransmit_share: f64,
    /// What waits for its time; to a destination, what waits to be acknowledged.
    buffered_ms: u64,
    /// How long what is lost is waited for, as both ends agreed.
    latency_ms: u64,
    /// The latency that round trip and loss ask for.
    advised_latency_ms: u64,
    /// Packets that did not come in time, since the connection was made.
    dropped_packet_count: u64,
    /// Packets that could not be decrypted.
    undecrypted_packet_count: u64,
    /// What is wrong with a line to a destination, in words that say what to do. Of an encoder's it
    /// stands among the session's findings.
    finding: Option<String>,
    /// The last two minutes, the oldest first.
    points: Vec<LiveLinePoint>,
}

/// A moment of a line.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveLinePoint {
    /// How long ago.
    age_ms: u64,
    /// Round trip time.
    rtt_ms: f64,
    /// The share of packets that were missing at first.
    loss_share: f64,
    /// Packets that did not come in time.
    dropped_packet_count: u64,
}

impl LiveLine {
    pub(super) fn new(quality: LineQuality, points: &[LinePoint], finding: Option<String>) -> Self {
        let points = points.iter().map(|point| LiveLinePoint {
            age_ms: millis(point.age),
            rtt_ms: point.rtt.as_secs_f64() * 1e3,
            loss_share: point.loss_share,
            dropped_packet_count: point.dropped_packets,
        });
        Self {
            rtt_ms: quality.rtt.as_secs_f64() * 1e3,
            loss_share: quality.loss_share,
            retransmit_share: quality.retransmit_share,
            buffered_ms: millis(quality.buffered),
            latency_ms: millis(quality.latency),
            advised_latency_ms: millis(advised_latency(quality.rtt, quality.loss_share)),
            dropped_packet_count: quality.dropped_packets,
            undecrypted_packet_count: quality.undecrypted_packets,
            finding,
            points: points.collect(),
        }
    }
}
