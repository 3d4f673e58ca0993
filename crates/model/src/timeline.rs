//! Figures over time.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Severity;

/// Figures of shows, or of the machine, over a range of time, all in steps of the same length.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Timelines {
    /// How long a step is, in seconds.
    pub step_s: u32,
    /// Those that were asked for, in order.
    pub timelines: Vec<Timeline>,
}

/// Figures over a range of time. Seconds count from `began_at`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Timeline {
    /// The session; none for the machine.
    pub session: Option<u64>,
    /// Its channel.
    pub channel: Option<String>,
    /// When the show began; of the machine, when the range does.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// How long the show was, or is by now; of the machine, how long the range is.
    pub length_s: u32,
    /// The second of the first point.
    pub start_s: u32,
    /// Points in each series.
    pub count: usize,
    /// The figures.
    pub series: Vec<FigureSeries>,
    /// What happened, and what was found, in order.
    pub marks: Vec<TimelineMark>,
}

/// One figure over time. Where nothing was seen there is null.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FigureSeries {
    /// Which: a stable word of docs/timeline.md.
    pub figure: String,
    /// The number of a track, or the name of a destination or an interface; empty for the whole.
    pub of: String,
    /// Its unit; empty for what is counted, and for shares of one.
    pub unit: String,
    /// The mean of each step.
    pub mean: Vec<Option<f64>>,
    /// The lowest of each step; empty where a step is one second.
    pub low: Vec<Option<f64>>,
    /// The highest.
    pub high: Vec<Option<f64>>,
}

/// Something that happened or was found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TimelineMark {
    /// When, in milliseconds.
    pub at_ms: u64,
    /// Until when a finding stood; none if it stands, and for what happened at once.
    pub until_ms: Option<u64>,
    /// The finding's code; none for what happened.
    pub code: Option<String>,
    /// How bad it was.
    pub severity: Option<Severity>,
    /// What.
    pub text: String,
}
