//! Fetching what a take holds: ranges, validators, digests.

use std::sync::Arc;

use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use futures_util::stream;
use http_range_header::parse_range_header;
use serde::Deserialize;
use utoipa::IntoParams;
use waverant_library::{TakeBytes, Variant};

use crate::{ApiError, ApiState};

/// Bytes that are read at once.
const CHUNK: u64 = 256 * 1024;

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
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    fetch(&state, (session, number), Variant::Recorded, purpose.download, &headers).await
}

/// Fetch a take, or a part of it, as plain MP4; byte ranges are served
#[utoipa::path(get, path = "/takes/{session}/{number}/mp4", params(("session" = u64, Path), ("number" = u32, Path), Span, Purpose), responses((status = 200, content_type = "video/mp4"), (status = 206)))]
pub(super) async fn fetch_progressive(
    State(state): State<ApiState>,
    Path((session, number)): Path<(u64, u32)>,
    Query(Span { from_ms, to_ms }): Query<Span>,
    Query(purpose): Query<Purpose>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    if from_ms.zip(to_ms).is_some_and(|(from, to)| from >= to) {
        return Err(ApiError::invalid("to_ms", "it is not later than from_ms"));
    }
    fetch(&state, (session, number), Variant::Progressive { from_ms, to_ms }, purpose.download, &headers).await
}

/// Fetch one sound of a take alone; byte ranges are served
#[utoipa::path(get, path = "/takes/{session}/{number}/sound/{place}", params(("session" = u64, Path), ("number" = u32, Path), ("place" = u8, Path, description = "Its place among the tracks of sound, counted from 1"), Purpose), responses((status = 200, content_type = "audio/mp4"), (status = 206)))]
pub(super) async fn fetch_sound(
    State(state): State<ApiState>,
    Path((session, number, place)): Path<(u64, u32, u8)>,
    Query(purpose): Query<Purpose>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    fetch(&state, (session, number), Variant::Sound(place), purpose.download, &headers).await
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
    asked: &HeaderMap,
) -> Result<Response, ApiError> {
    let take = state.house.library().take_here(session, number).await?;
    let bytes = state.house.library().bytes(&take, variant).await?;
    Ok(serve(Arc::new(bytes), download, asked))
}

/// Answers with all bytes, one range of them, or the news that nothing changed.
///
/// Source: RFC 9110, 13.2.2 and 14
fn serve(bytes: Arc<TakeBytes>, download: bool, asked: &HeaderMap) -> Response {
    let text = |name: HeaderName| asked.get(name).and_then(|value| value.to_str().ok());
    let has_tag = |tags: &str| bytes.etag.as_deref().is_some_and(|own| tags.split(',').any(|tag| tag.trim() == own));
    let headers = common_headers(&bytes, download);
    if text(header::IF_NONE_MATCH).is_some_and(|tags| tags.trim() == "*" || has_tag(tags)) {
        return (StatusCode::NOT_MODIFIED, headers).into_response();
    }
    // A part of another file than the one that was begun with would be of no use.
    let may_be_part = text(header::IF_RANGE).is_none_or(has_tag);
    let wanted = text(header::RANGE).filter(|_| may_be_part).and_then(|range| parse_range_header(range).ok());
    let Some(wanted) = wanted else {
        let body = body(bytes.clone(), 0, bytes.length);
        return (StatusCode::OK, headers, [(header::CONTENT_LENGTH, bytes.length)], body).into_response();
    };
    match wanted.validate(bytes.length) {
        Ok(ranges) if ranges.len() == 1 => {
            let (first, last) = (*ranges[0].start(), *ranges[0].end());
            let told = format!("bytes {first}-{last}/{}", bytes.length);
            let part = [(header::CONTENT_RANGE, told), (header::CONTENT_LENGTH, (last - first + 1).to_string())];
            (StatusCode::PARTIAL_CONTENT, headers, part, body(bytes, first, last + 1)).into_response()
        }
        // Several ranges may be answered with the whole.
        Ok(_) => {
            let body = body(bytes.clone(), 0, bytes.length);
            (StatusCode::OK, headers, [(header::CONTENT_LENGTH, bytes.length)], body).into_response()
        }
        Err(_) => {
            let told = format!("bytes */{}", bytes.length);
            (StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, told)]).into_response()
        }
    }
}

fn common_headers(bytes: &TakeBytes, download: bool) -> HeaderMap {
    let mut headers = HeaderMap::new();
    let mut set = |name: HeaderName, text: &str| {
        if let Ok(value) = HeaderValue::from_str(text) {
            headers.insert(name, value);
        }
    };
    set(header::CONTENT_TYPE, bytes.media_type);
    set(header::ACCEPT_RANGES, "bytes");
    match &bytes.etag {
        Some(etag) => {
            set(header::ETAG, etag);
            set(header::CACHE_CONTROL, "private, no-cache");
        }
        None => set(header::CACHE_CONTROL, "no-store"),
    }
    if let Some(digest) = &bytes.sha256 {
        // Source: RFC 9530, 3
        set(HeaderName::from_static("repr-digest"), &format!("sha-256=:{}:", STANDARD.encode(digest)));
    }
    set(header::CONTENT_DISPOSITION, &disposition(&bytes.file_name, download));
    headers
}

/// Names with other letters than those of ASCII are told twice.
///
/// Source: RFC 6266, 4.3 and RFC 8187, 3.2
fn disposition(name: &str, download: bool) -> String {
    let kind = if download { "attachment" } else { "inline" };
    let plain: String = name.chars().map(|letter| if letter.is_ascii() { letter } else { '_' }).collect();
    if plain == name {
        return format!("{kind}; filename=\"{plain}\"");
    }
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._".contains(&byte);
    let encoded: String = name
        .bytes()
        .map(|byte| if is_plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    format!("{kind}; filename=\"{plain}\"; filename*=UTF-8''{encoded}")
}

/// Reads piece by piece, off the runtime's threads, as fast as the client takes them.
fn body(bytes: Arc<TakeBytes>, from: u64, until: u64) -> Body {
    let pieces = stream::unfold(from, move |at| {
        let bytes = bytes.clone();
        async move {
            if at >= until {
                return None;
            }
            let next = (at + CHUNK).min(until);
            let read = tokio::task::spawn_blocking(move || {
                let mut piece = vec![0; usize::try_from(next - at).unwrap_or(0)];
                bytes.read_at(at, &mut piece).map(|()| Bytes::from(piece))
            });
            Some((read.await.map_err(std::io::Error::other).flatten(), next))
        }
    });
    Body::from_stream(pieces)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_told_to_old_and_new_browsers() {
        assert_eq!(disposition("a take.mp4", true), "attachment; filename=\"a take.mp4\"");
        let told = disposition("ruderhaus-fähre.mp4", false);
        assert_eq!(told, "inline; filename=\"ruderhaus-f_hre.mp4\"; filename*=UTF-8''ruderhaus-f%C3%A4hre.mp4");
    }
}
