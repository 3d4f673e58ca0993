//! The report of a show. Times count from its begin.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{FindingReport, LegState};

/// What is known of a show, during it or at its end. Times count from its begin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShowReport {
    /// How long it lasted, the time that it held included.
    pub length_ms: u64,
    /// The incoming stream.
    pub source: SourceReport,
    /// What was wrong or odd, in the order in which it ended; what stood at the end comes last.
    #[serde(default)]
    pub findings: Vec<FindingReport>,
    /// How many findings more there were.
    #[serde(default)]
    pub more_finding_count: u64,
    /// The legs by destination.
    pub legs: Vec<LegReport>,
    /// What happened, in order.
    pub events: Vec<EventReport>,
    /// How many events more there were.
    pub more_event_count: u64,
}

/// The incoming stream of a show.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceReport {
    /// Codecs and size at the end.
    pub stream: String,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// Messages that could not be used.
    pub unusable_count: u64,
    /// Times when the encoder's clock jumped or ran back.
    pub clock_fault_count: u64,
    /// What was wrong or odd, in words, in reports of before there were codes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<String>,
}

/// What a destination got.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LegReport {
    /// The destination's name.
    pub destination: String,
    /// Where the leg stood last.
    pub state: LegState,
    /// Why its last connection ended.
    pub reason: Option<String>,
    /// What of the stream it did not get.
    pub note: Option<String>,
    /// When it got its first picture; none if it never did.
    pub began_at_ms: Option<u64>,
    /// How long it got the show.
    pub carried_ms: u64,
    /// How long it got nothing though it was to.
    pub lost_ms: u64,
    /// How often that was.
    pub gap_count: u32,
    /// The first of those times.
    pub gaps: Vec<GapReport>,
    /// Pictures sent.
    pub sent_frame_count: u64,
    /// Payload bytes sent.
    pub sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub dropped_frame_count: u64,
    /// How much of the show they were.
    pub dropped_ms: u64,
    /// How often it was dialed again.
    pub redial_count: u32,
    /// The delay that it was given.
    pub delay_ms: u64,
    /// The most that it was behind the source beyond that.
    pub most_behind_ms: u64,
    /// Limits of its sheet that were not kept, in reports of before there were codes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub breaches: Vec<String>,
}

/// A time in which a destination got nothing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GapReport {
    /// When it began.
    pub at_ms: u64,
    /// How long it lasted.
    pub length_ms: u64,
    /// Why.
    pub reason: String,
}

/// Something that happened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EventReport {
    /// When.
    pub at_ms: u64,
    /// What.
    pub text: String,
}
