//! The slates that channels upload.

use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::extract::rejection::BytesRejection;
use axum::http::StatusCode;
use waverant_library::MAX_SLATE_BYTES;
use waverant_model::UploadedSlate;

use crate::input::Path;
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell};

/// Upload a slate (MP4) and use it; one that does not match a show on air is refused
#[utoipa::path(put, path = "/channels/{channel}/slate", params(("channel" = String, Path)), request_body(content = Vec<u8>, content_type = "video/mp4"), responses((status = 200, body = UploadedSlate)))]
pub(super) async fn upload_slate(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    body: Result<Bytes, BytesRejection>,
) -> Result<Json<UploadedSlate>, ApiError> {
    let body = body.map_err(|rejected| {
        let most = MAX_SLATE_BYTES / (1024 * 1024);
        ApiError::invalid("slate", format!("it could not be taken ({rejected}); up to {most} MiB are"))
    })?;
    let slate = state.house.upload_slate(&name, body, &caller.actor).await?;
    Ok(Json(tell::slate(&slate)))
}

/// Show the uploaded slate of a channel
#[utoipa::path(get, path = "/channels/{channel}/slate", params(("channel" = String, Path)), responses((status = 200, body = UploadedSlate)))]
pub(super) async fn show_slate(
    State(state): State<ApiState>,
    Path(name): Path<String>,
) -> Result<Json<UploadedSlate>, ApiError> {
    Ok(Json(tell::slate(&state.house.slate(&name).await?)))
}

/// Remove the uploaded slate of a channel; the built-in one is used again
#[utoipa::path(delete, path = "/channels/{channel}/slate", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_slate(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_slate(&name, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}
