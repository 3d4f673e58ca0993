//! Fetching what a take holds: ranges, validators, digests.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use utoipa::IntoParams;
use waverant_library::Variant;
use waverant_viewing::serve_take;

use crate::input::{Path, Query};
use crate::rights::Leave;
use crate::{ApiError, ApiState};

/// Stills do not change; what a player asked for may be kept for a while.
const STILL_CACHING: &str = "private, max-age=3600";

/// From when to when.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct Span {
    /// Begin at the last keyframe that is not later.
    from_ms: Option<u64>,
    /// End before the first keyframe that is not earlier.
    to_ms: Option<u64>,
}

/// Whether the browser is to show it or to keep it.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct Purpose {
    /// True to make a browser keep it as a file.
    #[serde(default)]
    download: bool,
}

/// When.
#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct Moment {
    /// From the begin of the take.
    #[serde(default)]
    at_ms: u64,
}

/// Fetch a take as it was recorded; byte ranges are served
#[utoipa::path(get, path = "/takes/{session}/{number}/file", params(("session" = u64, Path), ("number" = u32, Path), Purpose), responses((status = 200, content_type = "video/mp4"), (status = 206)))]
pub(super) async fn fetch_take(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Query(purpose): Query<Purpose>,
    leave: Leave,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    fetch(&state, (session, number), Variant::Recorded, purpose.download, leave, &headers).await
}

/// Fetch a take, or a part of it, as plain MP4; byte ranges are served
#[utoipa::path(get, path = "/takes/{session}/{number}/mp4", params(("session" = u64, Path), ("number" = u32, Path), Span, Purpose), responses((status = 200, content_type = "video/mp4"), (status = 206)))]
pub(super) async fn fetch_progressive(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Query(Span { from_ms, to_ms }): Query<Span>,
    Query(purpose): Query<Purpose>,
    leave: Leave,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    if from_ms.zip(to_ms).is_some_and(|(from, to)| from >= to) {
        return Err(ApiError::invalid("to_ms", "it is not later than from_ms"));
    }
    fetch(&state, (session, number), Variant::Progressive { from_ms, to_ms }, purpose.download, leave, &headers).await
}

/// Fetch one sound of a take alone; byte ranges are served
#[utoipa::path(get, path = "/takes/{session}/{number}/sound/{place}", params(("session" = u64, Path), ("number" = u32, Path), ("place" = u8, Path, description = "Its place among the tracks of sound, counted from 1"), Purpose), responses((status = 200, content_type = "audio/mp4"), (status = 206)))]
pub(super) async fn fetch_sound(
    State(state): State<ApiState>,
    Path((session, number, place)): Path<(u64, u32, u8)>,
    Query(purpose): Query<Purpose>,
    leave: Leave,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    fetch(&state, (session, number), Variant::Sound(place), purpose.download, leave, &headers).await
}

/// Fetch five stills of a take side by side
#[utoipa::path(get, path = "/takes/{session}/{number}/strip", params(("session" = u64, Path), ("number" = u32, Path)), responses((status = 200, content_type = "image/jpeg")))]
pub(super) async fn fetch_strip(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
) -> Result<Response, ApiError> {
    let take = state.house.library().ended_take(session, number).await?;
    Ok(jpeg(state.house.library().strip(&take).await?))
}

/// Fetch the picture that is shown at a time, or the keyframe before it
#[utoipa::path(get, path = "/takes/{session}/{number}/still", params(("session" = u64, Path), ("number" = u32, Path), Moment), responses((status = 200, content_type = "image/jpeg")))]
pub(super) async fn fetch_still(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Query(moment): Query<Moment>,
) -> Result<Response, ApiError> {
    let take = state.house.library().take_here(session, number).await?;
    Ok(jpeg(state.house.library().still(&take, moment.at_ms).await?))
}

fn jpeg(bytes: Vec<u8>) -> Response {
    let headers = [(header::CONTENT_TYPE, "image/jpeg"), (header::CACHE_CONTROL, STILL_CACHING)];
    (headers, bytes).into_response()
}

async fn fetch(
    state: &ApiState,
    (session, number): (u64, u32),
    variant: Variant,
    download: bool,
    leave: Leave,
    asked: &HeaderMap,
) -> Result<Response, ApiError> {
    let take = state.house.library().take_here(session, number).await?;
    let bytes = state.house.library().bytes(&take, variant).await?;
    Ok(leave.keep(state.clone(), serve_take(Arc::new(bytes), download, asked)))
}
