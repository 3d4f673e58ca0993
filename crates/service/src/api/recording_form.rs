//! A channel's rules for its recordings, as calls give and answer them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_relay::{HubLimits, NameTemplate};
use waverant_store::{RecordingChoice, RecordingSettings};

use super::ApiError;

/// The shortest take that a rule may make, and the smallest.
const MIN_SPLIT_MS: u32 = 1_000;
const MIN_SPLIT_BYTES: u64 = 1_000_000;

/// When sessions are recorded.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum RecordingWhen {
    /// From the first packet on.
    Always,
    /// When somebody starts it.
    ByHand,
    /// Never.
    Off,
}

/// The form of recorded files.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum TakeFormat {
    /// Fragmented MP4.
    Mp4,
    /// Matroska.
    Matroska,
}

/// A channel's rules for its recordings.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Recording {
    /// When sessions are recorded.
    pub(crate) when: RecordingWhen,
    /// The form of the files.
    pub(crate) format: TakeFormat,
    /// A new take begins after so long; 0 for no limit.
    pub(crate) split_ms: u32,
    /// A new take begins after so many bytes; 0 for no limit.
    pub(crate) split_bytes: u64,
    /// Whether a new take begins when a lost encoder is back.
    pub(crate) split_at_return: bool,
    /// What takes are called, without an extension.
    pub(crate) names: String,
    /// How much of what was before goes into a recording started by hand.
    pub(crate) pre_roll_ms: u32,
    /// Takes that ended longer ago leave the disk; 0 for no limit.
    pub(crate) keep_s: u64,
    /// The newest so many stay on the disk; 0 for no limit.
    pub(crate) keep_count: u32,
    /// The newest so many bytes stay on the disk; 0 for no limit.
    pub(crate) keep_bytes: u64,
    /// The depot that finished takes are copied to.
    pub(crate) depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    pub(crate) removes_copied: bool,
}

/// What is to change of the rules; what is left out stays.
#[derive(Debug, Default, Deserialize, ToSchema)]
pub(crate) struct ChangeRecording {
    /// When sessions are recorded. Holds from the next session.
    when: Option<RecordingWhen>,
    /// The form of the files. This and what follows holds from the next take.
    format: Option<TakeFormat>,
    /// A new take begins after so long, a second at least; 0 for no limit.
    split_ms: Option<u32>,
    /// A new take begins after so many bytes, a million at least; 0 for no limit.
    split_bytes: Option<u64>,
    /// Whether a new take begins when a lost encoder is back.
    split_at_return: Option<bool>,
    /// What takes are called, without an extension: text with `{channel}`, `{date}`, `{time}`,
    /// `{session}` and `{take}`, and `/` between folders.
    names: Option<String>,
    /// How much of what was before goes into a recording started by hand; up to 20 seconds.
    pre_roll_ms: Option<u32>,
    /// Takes that ended longer ago leave the disk; 0 for no limit.
    keep_s: Option<u64>,
    /// The newest so many stay on the disk; 0 for no limit.
    keep_count: Option<u32>,
    /// The newest so many bytes stay on the disk; 0 for no limit.
    keep_bytes: Option<u64>,
    /// The depot that finished takes are copied to; empty for none.
    depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    removes_copied: Option<bool>,
}

impl From<RecordingSettings> for Recording {
    fn from(from: RecordingSettings) -> Self {
        Self {
            when: match from.choice {
                RecordingChoice::Always => RecordingWhen::Always,
                RecordingChoice::ByHand => RecordingWhen::ByHand,
                RecordingChoice::Off => RecordingWhen::Off,
            },
            format: if from.matroska { TakeFormat::Matroska } else { TakeFormat::Mp4 },
            split_ms: from.split_ms,
            split_bytes: from.split_bytes,
            split_at_return: from.split_at_return,
            names: from.names,
            pre_roll_ms: from.pre_roll_ms,
            keep_s: from.keep_s,
            keep_count: from.keep_count,
            keep_bytes: from.keep_bytes,
            depot: from.depot,
            removes_copied: from.removes_copied,
        }
    }
}

impl ChangeRecording {
    /// The settings after the change.
    pub(crate) fn apply(self, present: RecordingSettings) -> Result<RecordingSettings, ApiError> {
        let choice = self.when.map_or(present.choice, |when| match when {
            RecordingWhen::Always => RecordingChoice::Always,
            RecordingWhen::ByHand => RecordingChoice::ByHand,
            RecordingWhen::Off => RecordingChoice::Off,
        });
        let settings = RecordingSettings {
            choice,
            matroska: self.format.map_or(present.matroska, |format| matches!(format, TakeFormat::Matroska)),
            split_ms: self.split_ms.unwrap_or(present.split_ms),
            split_bytes: self.split_bytes.unwrap_or(present.split_bytes),
            split_at_return: self.split_at_return.unwrap_or(present.split_at_return),
            names: self.names.unwrap_or(present.names),
            pre_roll_ms: self.pre_roll_ms.unwrap_or(present.pre_roll_ms),
            keep_s: self.keep_s.unwrap_or(present.keep_s),
            keep_count: self.keep_count.unwrap_or(present.keep_count),
            keep_bytes: self.keep_bytes.unwrap_or(present.keep_bytes),
            depot: self.depot.map_or(present.depot, |depot| (!depot.is_empty()).then_some(depot)),
            removes_copied: self.removes_copied.unwrap_or(present.removes_copied),
        };
        check(&settings)?;
        Ok(settings)
    }
}

fn check(settings: &RecordingSettings) -> Result<(), ApiError> {
    let invalid = |field: &'static str, text: String| Err(ApiError::invalid(field, text));
    if (1..MIN_SPLIT_MS).contains(&settings.split_ms) {
        return invalid(
            "recording.split_ms",
            format!("{} is less than {MIN_SPLIT_MS}; 0 is no limit", settings.split_ms),
        );
    }
    if (1..MIN_SPLIT_BYTES).contains(&settings.split_bytes) {
        let text = format!("{} is less than {MIN_SPLIT_BYTES}; 0 is no limit", settings.split_bytes);
        return invalid("recording.split_bytes", text);
    }
    let most = u32::try_from(HubLimits::default().max_length.millis()).unwrap_or(u32::MAX);
    if settings.pre_roll_ms > most {
        return invalid("recording.pre_roll_ms", format!("{} is more than {most}", settings.pre_roll_ms));
    }
    if settings.removes_copied && settings.depot.is_none() {
        return invalid("recording.removes_copied", "it needs a depot that takes are copied to".to_owned());
    }
    match settings.names.parse::<NameTemplate>() {
        Ok(_) => Ok(()),
        Err(error) => invalid("recording.names", error.to_string()),
    }
}
