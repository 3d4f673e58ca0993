use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{MySql, Row};
use waverant_relay::RecordingMode;

use crate::StoreError;

fn mode_column(mode: RecordingMode) -> &'static str {
    match mode {
        RecordingMode::Always => "always",
        RecordingMode::ByHand => "by hand",
        RecordingMode::Off => "off",
    }
}

fn mode_from(column: &str) -> RecordingMode {
    match column {
        "off" => RecordingMode::Off,
        "by hand" => RecordingMode::ByHand,
        _ => RecordingMode::Always,
    }
}

/// What of a channel concerns its recordings. A limit of 0 is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordingSettings {
    /// When sessions are recorded.
    pub mode: RecordingMode,
    /// True for Matroska; else MP4.
    pub matroska: bool,
    /// The longest take, in milliseconds.
    pub split_ms: u32,
    /// The largest take, in bytes.
    pub split_bytes: u64,
    /// Whether a new take begins when a lost publisher is back.
    pub split_at_return: bool,
    /// What takes are called.
    pub names: String,
    /// How much of what was before goes into a recording started by hand, in milliseconds.
    pub pre_roll_ms: u32,
    /// How long a take stays on the disk, in seconds.
    pub keep_s: u64,
    /// How many takes stay on the disk.
    pub keep_count: u32,
    /// How many bytes of takes stay on the disk.
    pub keep_bytes: u64,
    /// Where finished takes are copied to.
    pub depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    pub removes_copied: bool,
}

impl Default for RecordingSettings {
    fn default() -> Self {
        Self {
            mode: RecordingMode::Always,
            matroska: false,
            split_ms: 0,
            split_bytes: 0,
            split_at_return: false,
            names: "{channel}/{date}_{time}_s{session}_take-{take}".to_owned(),
            pre_roll_ms: 0,
            keep_s: 0,
            keep_count: 0,
            keep_bytes: 0,
            depot: None,
            removes_copied: false,
        }
    }
}

/// The columns, in the order in which they are bound.
pub(super) const COLUMNS: [&str; 12] = [
    "recording",
    "take_format",
    "split_ms",
    "split_bytes",
    "split_at_return",
    "take_names",
    "pre_roll_ms",
    "keep_s",
    "keep_count",
    "keep_bytes",
    "depot",
    "removes_copied",
];

impl RecordingSettings {
    pub(super) fn from_row(row: &MySqlRow) -> Result<Self, StoreError> {
        Ok(Self {
            mode: mode_from(row.try_get("recording")?),
            matroska: row.try_get::<&str, _>("take_format")? == "matroska",
            split_ms: row.try_get("split_ms")?,
            split_bytes: row.try_get("split_bytes")?,
            split_at_return: row.try_get("split_at_return")?,
            names: row.try_get("take_names")?,
            pre_roll_ms: row.try_get("pre_roll_ms")?,
            keep_s: row.try_get("keep_s")?,
            keep_count: row.try_get("keep_count")?,
            keep_bytes: row.try_get("keep_bytes")?,
            depot: row.try_get("depot")?,
            removes_copied: row.try_get("removes_copied")?,
        })
    }

    /// Binds the settings in the order of their columns.
    pub(super) fn bind<'a>(&'a self, query: Query<'a, MySql, MySqlArguments>) -> Query<'a, MySql, MySqlArguments> {
        query
            .bind(mode_column(self.mode))
            .bind(if self.matroska { "matroska" } else { "mp4" })
            .bind(self.split_ms)
            .bind(self.split_bytes)
            .bind(self.split_at_return)
            .bind(&self.names)
            .bind(self.pre_roll_ms)
            .bind(self.keep_s)
            .bind(self.keep_count)
            .bind(self.keep_bytes)
            .bind(&self.depot)
            .bind(self.removes_copied)
    }
}
