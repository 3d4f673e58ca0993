use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_model::{MarkMoment, MarkedMoment};

use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// Begin to record the session that is on air
#[utoipa::path(post, path = "/channels/{channel}/recording/start", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn start_recording(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.start_recording(&name, &caller.actor)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Stop recording the session that is on air; it goes on
#[utoipa::path(post, path = "/channels/{channel}/recording/stop", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn stop_recording(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.stop_recording(&name, &caller.actor)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Point out this moment in the take that is being written
#[utoipa::path(post, path = "/channels/{channel}/recording/marks", params(("channel" = String, Path)), request_body = MarkMoment, responses((status = 201, body = MarkedMoment)))]
pub(super) async fn mark_recording(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Body(form): Body<MarkMoment>,
) -> Result<(StatusCode, Json<MarkedMoment>), ApiError> {
    let (session, take) = state.house.mark_recording(&name, &form.title)?;
    Ok((StatusCode::CREATED, Json(MarkedMoment { session, take })))
}
