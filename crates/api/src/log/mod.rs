//! The log from afar: its newest lines, and which lines there are.

mod ring;

use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use parking_lot::Mutex;
use serde::Deserialize;
use utoipa::IntoParams;
use waverant_house::House;
use waverant_model::{LogLines, LogSetting};

pub use ring::{LogLevel, LogLine, LogRing};

use crate::act_detail::Detail;
use crate::input::{Body, Query};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// Lines that are answered at most, and if nobody says.
const MOST: usize = 1000;
const USUAL: usize = 200;

/// The longest filter for lines.
const LONGEST_FILTER: usize = 400;

type Change = dyn Fn(&str) -> Result<(), String> + Send + Sync;

/// The log, as it can be read and changed while the service runs.
pub struct LogDesk {
    ring: Arc<LogRing>,
    /// Which lines there are, as it was set last.
    level: Mutex<String>,
    change: Box<Change>,
}

impl fmt::Debug for LogDesk {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("LogDesk").field("level", &self.level).finish_non_exhaustive()
    }
}

impl LogDesk {
    /// What lines there are now.
    pub(crate) fn level(&self) -> String {
        self.level.lock().clone()
    }

    /// A desk for the lines in `ring`, of which `level` are there; `change` makes it others, or says why it cannot.
    pub fn new(
        ring: Arc<LogRing>,
        level: String,
        change: impl Fn(&str) -> Result<(), String> + Send + Sync + 'static,
    ) -> Self {
        Self { ring, level: Mutex::new(level), change: Box::new(change) }
    }
}

/// Which lines are wanted.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Wanted {
    /// Only lines behind this number; 0, the default, is all that are kept.
    #[serde(default)]
    after: u64,
    /// At most so many, the newest; up to 1000, default 200.
    limit: Option<usize>,
    /// Only lines at least as bad: `error`, `warn`, `info`, `debug`, `trace`.
    level: Option<String>,
    /// Only lines of this channel.
    channel: Option<String>,
    /// Only lines of this session.
    session: Option<u64>,
    /// Only lines with this in their text, their target or a field, whatever the case.
    text: Option<String>,
}

impl Wanted {
    fn level(&self) -> Result<LogLevel, ApiError> {
        match self.level.as_deref() {
            None | Some("trace") => Ok(LogLevel::Trace),
            Some("debug") => Ok(LogLevel::Debug),
            Some("info") => Ok(LogLevel::Info),
            Some("warn") => Ok(LogLevel::Warn),
            Some("error") => Ok(LogLevel::Error),
            Some(other) => {
                let told = format!("`{other}` is none of `error`, `warn`, `info`, `debug`, `trace`");
                Err(ApiError::invalid("level", told))
            }
        }
    }
}

/// The newest lines of the log
#[utoipa::path(get, path = "/log", params(Wanted), responses((status = 200, body = LogLines)))]
pub(super) async fn read_log(
    State(state): State<ApiState>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<LogLines>, ApiError> {
    let (least, channels) = (wanted.level()?, channels(&state.house));
    let text = wanted.text.as_deref().map(str::to_lowercase);
    let session = wanted.session.map(|session| session.to_string());
    let channel_of = |line: &LogLine| {
        let named = line.field("channel").map(str::to_owned);
        named.or_else(|| channels.get(line.field("session")?).cloned())
    };
    let has = |line: &LogLine, part: &str| {
        let mut texts = [&line.text, &line.target].into_iter().chain(line.fields.iter().map(|(_, value)| value));
        texts.any(|text| text.to_lowercase().contains(part))
    };
    let is_wanted = |line: &LogLine| {
        line.level <= least
            && session.as_deref().is_none_or(|session| line.field("session") == Some(session))
            && wanted.channel.as_ref().is_none_or(|channel| channel_of(line).as_ref() == Some(channel))
            && text.as_deref().is_none_or(|part| has(line, part))
    };
    let desk = &state.log;
    // Read before: what comes meanwhile is told the next time.
    let last = desk.ring.last();
    let lines = desk.ring.newest(wanted.after, wanted.limit.unwrap_or(USUAL).min(MOST), is_wanted);
    let level = desk.level();
    let items = lines.into_iter().map(|line| told(channel_of(&line), line)).collect();
    Ok(Json(LogLines { items, last: last.max(wanted.after), level }))
}

/// All lines that are kept.
pub(crate) fn all(state: &ApiState) -> Vec<waverant_model::LogLine> {
    let lines = state.log.ring.newest(0, usize::MAX, |_| true).into_iter();
    lines.map(|line| told(line.field("channel").map(str::to_owned), line)).collect()
}

/// The channels of running sessions, by the session's number.
fn channels(house: &House) -> HashMap<String, String> {
    let shows = house.shows().into_iter();
    shows.map(|show| (show.id().to_string(), show.rules().name.to_string())).collect()
}

fn told(channel: Option<String>, line: LogLine) -> waverant_model::LogLine {
    let level = match line.level {
        LogLevel::Error => "error",
        LogLevel::Warn => "warn",
        LogLevel::Info => "info",
        LogLevel::Debug => "debug",
        LogLevel::Trace => "trace",
    };
    waverant_model::LogLine {
        number: line.number,
        at: line.at,
        level: level.to_owned(),
        channel,
        session: line.field("session").and_then(|session| session.parse().ok()),
        destination: line.field("destination").map(str::to_owned),
        target: line.target,
        text: line.text,
        fields: line.fields.into_iter().collect(),
    }
}

/// Say which lines there are from now on, until the next start
#[utoipa::path(put, path = "/log/level", request_body = LogSetting, responses((status = 200, body = LogSetting)))]
pub(super) async fn set_log_level(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<LogSetting>,
) -> Result<(Detail, Json<LogSetting>), ApiError> {
    let level = form.level.trim();
    if level.is_empty() || level.len() > LONGEST_FILTER {
        let told = format!("it has {} bytes; 1 to {LONGEST_FILTER} are read", level.len());
        return Err(ApiError::invalid("level", told));
    }
    (state.log.change)(level).map_err(|told| ApiError::invalid("level", told))?;
    let before = LogSetting { level: std::mem::replace(&mut state.log.level.lock(), level.to_owned()) };
    tracing::warn!(level, by = %caller.actor, "the level of the log is changed");
    let after = LogSetting { level: level.to_owned() };
    Ok((Detail::changed(&before, &after), Json(after)))
}
