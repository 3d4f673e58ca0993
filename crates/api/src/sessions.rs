use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use serde::Deserialize;
use utoipa::IntoParams;
use waverant_house::report_of;
use waverant_model::{Listed, Session, SessionDetail, ShowReport, TurnedAway};
use waverant_relay::{TakeRecord, TakeState};
use waverant_show::Show;
use waverant_store::{SessionFilter, StoredTake};

use crate::input::{Path, Query};
use crate::rights::Sight;
use crate::{ApiError, ApiState, tell};

/// Rows in one answer.
const DEFAULT_LIMIT: u32 = 50;
const MAX_LIMIT: u32 = 500;

/// Which part of a list to answer.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct Page {
    /// Only of this channel.
    channel: Option<String>,
    /// Only what came before this cursor.
    before: Option<u64>,
    /// At most so many; 1 to 500, default 50.
    limit: Option<u32>,
}

impl Page {
    /// The newest of all channels.
    pub(crate) fn newest() -> Self {
        Self { channel: None, before: None, limit: Some(MAX_LIMIT) }
    }

    fn limit(&self) -> Result<u32, ApiError> {
        match self.limit.unwrap_or(DEFAULT_LIMIT) {
            limit @ 1..=MAX_LIMIT => Ok(limit),
            limit => Err(ApiError::invalid("limit", format!("{limit} is not between 1 and {MAX_LIMIT}"))),
        }
    }
}

/// A part of a list, the newest first.
fn listed<T>(items: Vec<T>, limit: u32, cursor: impl Fn(&T) -> u64) -> Listed<T> {
    let is_full = u32::try_from(items.len()).is_ok_and(|count| count >= limit);
    let next = items.last().filter(|_| is_full).map(cursor);
    Listed { items, next }
}

/// List sessions
#[utoipa::path(get, path = "/sessions", params(Page), responses((status = 200, body = Listed<Session>)))]
pub(super) async fn list_sessions(
    State(state): State<ApiState>,
    sight: Sight,
    Query(page): Query<Page>,
) -> Result<Json<Listed<Session>>, ApiError> {
    let (limit, channels) = (page.limit()?, sight.channels());
    let filter = SessionFilter { channel_name: page.channel, channels, before: page.before, limit };
    let sessions = state.house.store().sessions(&filter).await?.into_iter().map(tell::session);
    Ok(Json(listed(sessions.collect(), limit, |session| session.id)))
}

/// Show a session with its legs and takes
#[utoipa::path(get, path = "/sessions/{session}", params(("session" = u64, Path)), responses((status = 200, body = SessionDetail)))]
pub(super) async fn show_session(
    State(state): State<ApiState>,
    Path(id): Path<u64>,
) -> Result<Json<SessionDetail>, ApiError> {
    let store = state.house.store();
    let session = store.session(id).await?;
    let legs = store.legs(id).await?.into_iter().map(tell::leg_outcome).collect();
    let growing = growing_takes(&state);
    let takes = store.takes_of_session(id).await?.into_iter();
    let takes = takes.map(|take| tell::take(as_it_grows(&growing, take), None)).collect();
    Ok(Json(SessionDetail { session: tell::session(session), legs, takes }))
}

/// The report of a show: up to now, or as it was at its end
#[utoipa::path(get, path = "/sessions/{session}/report", params(("session" = u64, Path)), responses((status = 200, body = ShowReport)))]
pub(super) async fn show_report(
    State(state): State<ApiState>,
    Path(id): Path<u64>,
) -> Result<Json<ShowReport>, ApiError> {
    report_of_session(&state, id).await.map(Json)
}

/// The report of a show: up to now, or as it was at its end.
pub(crate) async fn report_of_session(state: &ApiState, id: u64) -> Result<ShowReport, ApiError> {
    if let Some(show) = state.house.shows().iter().find(|show| show.id() == id) {
        return Ok(report_of(&show.report()));
    }
    let missing = || ApiError::NotFound { kind: "report of session", name: id.to_string() };
    let kept = state.house.store().report(id).await?.ok_or_else(missing)?;
    serde_json::from_str(&kept).map_err(|error| {
        tracing::error!(session = id, %error, "a report cannot be read");
        ApiError::Internal
    })
}

/// The takes that are being written, with their present length.
pub(super) fn growing_takes(state: &ApiState) -> Vec<TakeRecord> {
    let newest = |show: &Arc<Show>| show.takes().newest();
    state.house.shows().iter().filter_map(newest).filter(|take| take.state == TakeState::Writing).collect()
}

/// The records know a growing take's length only at its end.
pub(super) fn as_it_grows(growing: &[TakeRecord], take: StoredTake) -> StoredTake {
    let is_same =
        |other: &&TakeRecord| (other.session_id, other.number) == (take.record.session_id, take.record.number);
    match growing.iter().find(is_same).cloned() {
        Some(record) => StoredTake { record, ..take },
        None => take,
    }
}

/// List publishers who were not let in
#[utoipa::path(get, path = "/turned-away", params(Page), responses((status = 200, body = Listed<TurnedAway>)))]
pub(super) async fn list_turned_away(
    State(state): State<ApiState>,
    Query(page): Query<Page>,
) -> Result<Json<Listed<TurnedAway>>, ApiError> {
    let limit = page.limit()?;
    let records = state.house.store().turned_away(page.before, limit).await?.into_iter().map(tell::turned_away);
    Ok(Json(listed(records.collect(), limit, |record| record.id)))
}
