//! The log of the service.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A part of the log.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogLines {
    /// The lines, the oldest first.
    pub items: Vec<LogLine>,
    /// The number of the newest line, wanted or not: what to send as `after` the next time.
    pub last: u64,
    /// Which lines there are.
    pub level: String,
}

/// A line of the log.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogLine {
    /// Counted from 1 since the start.
    pub number: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// `error`, `warn`, `info`, `debug` or `trace`.
    pub level: String,
    /// The channel that it belongs to, if it belongs to one.
    pub channel: Option<String>,
    /// The session.
    pub session: Option<u64>,
    /// The destination of the leg.
    pub destination: Option<String>,
    /// The part of the service that says it.
    pub target: String,
    /// What.
    pub text: String,
    /// All that is told beside it.
    pub fields: BTreeMap<String, String>,
}

/// Which lines there are: a level, or a filter such as `info,waverant_show=debug`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogSetting {
    /// The level or filter.
    pub level: String,
}
