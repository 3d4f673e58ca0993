//! Findings: what is wrong or odd, each with cause and advice.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Odd, and worth knowing.
    Note,
    /// Something suffers, or soon will.
    Warning,
    /// The show does not get where it should.
    Alarm,
}

/// A finding that stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What it is about, as a stable word of docs/findings.md.
    pub code: String,
    /// How bad.
    pub severity: Severity,
    /// Since when it is so; none before a show.
    #[serde(with = "time::serde::rfc3339::option")]
    pub since: Option<OffsetDateTime>,
    /// What was found, with the figures as they are now.
    pub cause: String,
    /// What to change.
    pub advice: String,
    /// What the house can do about it, if it is asked to.
    pub remedy: Option<FindingRemedy>,
    /// The track that it is of, where it is of one: even numbers for pictures, odd ones for sound.
    pub track: Option<u8>,
    /// The destination that it is of, where it is of one.
    pub destination: Option<String>,
    /// Destinations that suffer from it.
    pub destinations: Vec<String>,
    /// True if it is known, and not to be told for the rest of the show.
    pub is_muted: bool,
}

/// Something that the house can do about a finding. It is done only when somebody asks for it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingRemedy {
    /// A stable word: `add_silence`, `send_track`, `leg_latency` or `channel_latency`.
    pub kind: String,
    /// What would be done, and what it costs.
    pub text: String,
}

/// Which remedy to carry out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CarryOutRemedy {
    /// The finding's code.
    pub code: String,
    /// The destination that it is of; may be left out where it is of one alone.
    #[serde(default)]
    pub destination: Option<String>,
}

/// What was done about a finding.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RemedyDone {
    /// In words.
    pub done: String,
}

/// A finding of a show. Times count from its begin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingReport {
    /// What it was about.
    pub code: String,
    /// How bad.
    pub severity: Severity,
    /// Since when it was so.
    pub at_ms: u64,
    /// Until when; none if it stood at the end.
    pub until_ms: Option<u64>,
    /// What was found last.
    pub cause: String,
    /// What to change.
    pub advice: String,
    /// The track that it was of, where it was of one.
    pub track: Option<u8>,
    /// Destinations that suffered from it.
    pub destinations: Vec<String>,
}

/// What a code stands for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingMeaning {
    /// The stable word.
    pub code: String,
    /// How bad it is.
    pub severity: Severity,
    /// When it is told, and until when.
    pub when: String,
    /// How long it has to last before it is told.
    pub raised_after_s: u64,
    /// How long it has to be gone before it is no longer told.
    pub cleared_after_s: u64,
    /// What it usually means.
    pub means: String,
    /// What to do.
    pub advice: String,
}

/// What a platform complains of.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Complaint {
    /// In its own words; up to 500 bytes.
    pub complaint: String,
    /// Only this channel is looked at.
    pub channel: Option<String>,
}

/// What a complaint may be about.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ComplaintAnswer {
    /// The likeliest first; empty if no word of it is known.
    pub likely: Vec<LikelyFinding>,
    /// What stands on the channels that were looked at, whatever the complaint: the worst first.
    pub standing: Vec<ChannelFinding>,
}

/// What a complaint may be about, with what is seen here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LikelyFinding {
    /// What it stands for.
    pub meaning: FindingMeaning,
    /// Channels on which it stands now.
    pub stands_on: Vec<String>,
    /// What our figures say, a sentence for each channel on air.
    pub figures: Vec<String>,
}

/// A finding with its channel.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChannelFinding {
    /// The channel; none for the house.
    pub channel: Option<String>,
    /// The finding.
    pub finding: Finding,
}
