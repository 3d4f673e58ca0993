use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use waverant_relay::RecordingMode;

use super::auth::SignedIn;
use super::channels::channel_id;
use super::error::Body;
use super::{ApiError, ApiState};
use crate::show::Show;

/// The longest title of a mark.
const MAX_TITLE: usize = 160;

/// A moment to point out.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct MarkMoment {
    /// What happens there.
    title: String,
}

/// A moment that was pointed out.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct MarkedMoment {
    /// The session.
    session: u64,
    /// The take that was being written.
    take: u32,
}

fn running(state: &ApiState, name: &str) -> Result<Arc<Show>, ApiError> {
    let id = channel_id(state, name)?;
    let show = state.house.show(id).filter(|show| !show.is_over());
    show.ok_or_else(|| ApiError::Conflict(format!("The channel `{name}` is not on air.")))
}

/// Begin to record the session that is on air
#[utoipa::path(post, path = "/channels/{channel}/recording/start", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn start_recording(
    State(state): State<ApiState>,
    SignedIn(user): SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let show = running(&state, &name)?;
    let rules = show.rules().recording;
    if show.is_rehearsal() || rules.mode == RecordingMode::Off {
        return Err(ApiError::Conflict(format!(
            "Nothing is recorded on `{name}`: its rule is `off`, or this is a rehearsal. Change the rule first."
        )));
    }
    if !show.recorder.start(rules.pre_roll) {
        return Err(ApiError::Conflict(format!("The session on `{name}` is being recorded already.")));
    }
    show.note_event(format!("{} began to record", user.name));
    Ok(StatusCode::NO_CONTENT)
}

/// Stop recording the session that is on air; it goes on
#[utoipa::path(post, path = "/channels/{channel}/recording/stop", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn stop_recording(
    State(state): State<ApiState>,
    SignedIn(user): SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let show = running(&state, &name)?;
    if !show.recorder.stop() {
        return Err(ApiError::Conflict(format!("The session on `{name}` is not being recorded.")));
    }
    show.note_event(format!("{} stopped the recording", user.name));
    Ok(StatusCode::NO_CONTENT)
}

/// Point out this moment in the take that is being written
#[utoipa::path(post, path = "/channels/{channel}/recording/marks", params(("channel" = String, Path)), request_body = MarkMoment, responses((status = 201, body = MarkedMoment)))]
pub(super) async fn mark_recording(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    Body(form): Body<MarkMoment>,
) -> Result<(StatusCode, Json<MarkedMoment>), ApiError> {
    let length = form.title.trim().chars().count();
    if length == 0 || length > MAX_TITLE {
        let told = format!("it has {length} characters; 1 to {MAX_TITLE} are allowed");
        return Err(ApiError::invalid("title", told));
    }
    let show = running(&state, &name)?;
    let not_recorded = || ApiError::Conflict(format!("The session on `{name}` is not being recorded."));
    let at = show.feed.newest().ok_or_else(not_recorded)?;
    let take = show.takes.lock().last().map(|take| take.number).ok_or_else(not_recorded)?;
    if !show.recorder.mark(at, form.title.trim().to_owned()) {
        return Err(not_recorded());
    }
    Ok((StatusCode::CREATED, Json(MarkedMoment { session: show.id, take })))
}
