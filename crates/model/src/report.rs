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
    /// The tracks of sound at the end, as they were heard.
    #[serde(default)]
    pub sounds: Vec<SoundReport>,
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

/// A track of sound of a show. Loudness is in LUFS (EBU R 128), from the begin of the track on, silence left out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SoundReport {
    /// Its number.
    pub track: u8,
    /// Its codec.
    pub codec: String,
    /// What the stream calls it, or its language.
    pub name: Option<String>,
    /// The integrated loudness; none if nothing was heard.
    pub loudness: Option<f64>,
    /// The loudness range, in LU.
    pub range: Option<f64>,
    /// The largest true peak, in dBTP.
    pub true_peak: Option<f64>,
    /// How much of it was listened to.
    pub heard_ms: u64,
    /// Why it was not listened to.
    pub not_heard: Option<String>,
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
