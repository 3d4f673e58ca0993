//! Playlists, manifests and pieces.
//!
//! Source: RFC 8216bis, 6.2; ISO/IEC 23009-1, 5.3

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use axum::Extension;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use waverant_container::PieceName;
use waverant_media::{TrackId, TrackKind};
use waverant_relay::{Found, Way};
use waverant_show::{Packaging, Told, Waited};

use crate::access::Access;
use crate::piece_body::PieceBody;
use crate::take_body::in_chunks;
use crate::{Fault, ViewingState};

pub(crate) const PLAYLIST: &str = "application/vnd.apple.mpegurl";
const MANIFEST: &str = "application/dash+xml";
pub(crate) const VIDEO: &str = "video/mp4";
pub(crate) const AUDIO: &str = "audio/mp4";

/// What changes with each segment, and what never does.
const SHORT: &str = "public, max-age=1";
const FOR_GOOD: &str = "public, max-age=3600, immutable";

/// So long a player is kept waiting for what will come: three of the longest segments.
const PATIENCE: Duration = Duration::from_secs(30);

/// So long the first viewer waits for the first segment.
const BEGIN_PATIENCE: Duration = Duration::from_secs(12);

pub(crate) async fn multivariant(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
) -> Result<Response, Fault> {
    let packaging = begun(&state, &access).await?;
    let text = packaging.multivariant().ok_or(Fault::OffAir)?;
    Ok(told(PLAYLIST, SHORT, &text))
}

pub(crate) async fn manifest(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
) -> Result<Response, Fault> {
    let packaging = begun(&state, &access).await?;
    let text = packaging.manifest().ok_or(Fault::OffAir)?;
    Ok(told(MANIFEST, SHORT, &text))
}

/// What a player asks of a playlist.
///
/// Source: RFC 8216bis, 6.2.5
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Directives {
    #[serde(rename = "_HLS_msn")]
    segment: Option<u64>,
    #[serde(rename = "_HLS_part")]
    part: Option<u32>,
    #[serde(rename = "_HLS_skip")]
    skip: Option<String>,
}

pub(crate) async fn playlist(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    Path((_, run, track)): Path<(String, u64, u8)>,
    directives: Result<Query<Directives>, axum::extract::rejection::QueryRejection>,
    headers: HeaderMap,
) -> Result<Response, Fault> {
    let packaging = this_run(&state, &access, run)?;
    let Query(asked) = directives.map_err(|error| Fault::Wrong(error.body_text()))?;
    let track = TrackId(track);
    match (asked.segment, asked.part) {
        (Some(segment), part) => match packaging.wait_for(track, segment, part, PATIENCE).await {
            Waited::There => {}
            Waited::Late => return Err(Fault::Late),
            Waited::Wrong => {
                let told = "_HLS_msn is further ahead than the next two segments, or the track is none";
                return Err(Fault::Wrong(told.to_owned()));
            }
        },
        (None, Some(_)) => return Err(Fault::Wrong("_HLS_part is given without _HLS_msn".to_owned())),
        (None, None) => packaging.wait_to_begin(BEGIN_PATIENCE).await,
    }
    require_still(&state, &access)?;
    let skips = matches!(asked.skip.as_deref(), Some("YES" | "v2"));
    let playlist = packaging.playlist(track, skips).ok_or(Fault::Gone)?;
    Ok(told_playlist(&playlist, &headers))
}

/// A playlist, compressed for who takes that; nothing for who has this version.
fn told_playlist(playlist: &Told, headers: &HeaderMap) -> Response {
    let asked = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    // Weak: packed or not, it says the same.
    let tag = format!("W/\"{}\"", playlist.tag);
    let fixed = [
        (header::CACHE_CONTROL, SHORT.to_owned()),
        (header::VARY, "accept-encoding".to_owned()),
        (header::ETAG, tag.clone()),
    ];
    if asked(header::IF_NONE_MATCH).split(',').any(|known| known.trim() == tag) {
        return (StatusCode::NOT_MODIFIED, fixed).into_response();
    }
    let media_type = [(header::CONTENT_TYPE, PLAYLIST)];
    // `gzip;q=0` is no wish, and rare enough to be read plainly.
    let takes_packed = asked(header::ACCEPT_ENCODING).split(',').any(|coding| coding.trim() == "gzip");
    if takes_packed {
        return (fixed, media_type, [(header::CONTENT_ENCODING, "gzip")], playlist.packed()).into_response();
    }
    (fixed, media_type, playlist.plain.clone()).into_response()
}

pub(crate) async fn piece(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    Path((_, run, track, name)): Path<(String, u64, u8, String)>,
    headers: HeaderMap,
) -> Result<Response, Fault> {
    let name: PieceName = name.parse().map_err(|_| Fault::Gone)?;
    let packaging = this_run(&state, &access, run)?;
    let track = TrackId(track);
    let found = match packaging.find(track, name) {
        Found::NotYet => {
            let found = packaging.wait_to_find(track, name, PATIENCE).await;
            require_still(&state, &access)?;
            found
        }
        found => found,
    };
    let body = match found {
        Found::OnDisk(_) => return stored(&packaging, track, name, &headers).await,
        Found::Header(header) => PieceBody::new(std::iter::once(header)),
        Found::Piece(piece) => PieceBody::new(piece.segments().cloned()),
        Found::NotYet => return Err(Fault::Late),
        Found::Absent => return Err(Fault::Gone),
    };
    let size = body.len();
    let send = |range: Option<&RangeInclusive<u64>>| match range {
        Some(range) => Body::new(body.cut(range)),
        None => Body::new(body),
    };
    Ok(sent(media_type(track), size, &headers, send))
}

/// A segment that lies on the disk: it is read as its viewer takes it.
async fn stored(
    packaging: &Arc<Packaging>,
    track: TrackId,
    name: PieceName,
    headers: &HeaderMap,
) -> Result<Response, Fault> {
    let PieceName::Segment(number) = name else { return Err(Fault::Gone) };
    let packaging = packaging.clone();
    let found = tokio::task::spawn_blocking(move || packaging.find_stored(track, number)).await;
    // Removed just now, or the disk is gone.
    let segment = Arc::new(found.map_err(|_| Fault::Gone)?.map_err(|_| Fault::Gone)?);
    let size = segment.size_bytes;
    let send = |range: Option<&RangeInclusive<u64>>| {
        let (from, until) = range.map_or((0, size), |range| (*range.start(), *range.end() + 1));
        in_chunks(from, until, move |at, into: &mut [u8]| segment.read_at(at, into))
    };
    Ok(sent(media_type(track), size, headers, send))
}

fn media_type(track: TrackId) -> &'static str {
    if track.kind() == TrackKind::Video { VIDEO } else { AUDIO }
}

/// The packaging of a channel, with something to play.
async fn begun(state: &ViewingState, access: &Access) -> Result<Arc<Packaging>, Fault> {
    let packaging = state.screens.of(&state.house, access)?;
    access.seat_fetcher(&state.house)?;
    packaging.wait_to_begin(BEGIN_PATIENCE).await;
    Ok(packaging)
}

/// The packaging that an address was told by. One of another run has other pieces.
fn this_run(state: &ViewingState, access: &Access, run: u64) -> Result<Arc<Packaging>, Fault> {
    let packaging = state.screens.of(&state.house, access)?;
    if packaging.run() != run {
        return Err(Fault::Gone);
    }
    access.seat_fetcher(&state.house)?;
    Ok(packaging)
}

/// Who was kept waiting may have lost its right meanwhile.
fn require_still(state: &ViewingState, access: &Access) -> Result<(), Fault> {
    if access.may_go_on(&state.house, Way::Segments) { Ok(()) } else { Err(Fault::NotOpen) }
}

fn told(media_type: &'static str, caching: &'static str, text: &str) -> Response {
    ([(header::CONTENT_TYPE, media_type), (header::CACHE_CONTROL, caching)], text.to_owned()).into_response()
}

/// A piece, or the range of it that is asked for.
fn sent(
    media_type: &'static str,
    size: u64,
    headers: &HeaderMap,
    send: impl FnOnce(Option<&RangeInclusive<u64>>) -> Body,
) -> Response {
    let asked = headers.get(header::RANGE).and_then(|range| range.to_str().ok());
    let ranges =
        asked.map(|range| http_range_header::parse_range_header(range).and_then(|ranges| ranges.validate(size)));
    let fixed = [
        (header::CONTENT_TYPE, HeaderValue::from_static(media_type)),
        (header::CACHE_CONTROL, HeaderValue::from_static(FOR_GOOD)),
        (header::ACCEPT_RANGES, HeaderValue::from_static("bytes")),
    ];
    match ranges {
        Some(Ok(ranges)) if ranges.len() == 1 => {
            let range = &ranges[0];
            let place = format!("bytes {}-{}/{size}", range.start(), range.end());
            let told = [(header::CONTENT_RANGE, place), (header::CONTENT_LENGTH, length_of(range))];
            (StatusCode::PARTIAL_CONTENT, fixed, told, send(Some(range))).into_response()
        }
        Some(Err(_)) => {
            let place = format!("bytes */{size}");
            let fixed = [(header::CONTENT_RANGE, place), (header::CACHE_CONTROL, "no-store".to_owned())];
            (StatusCode::RANGE_NOT_SATISFIABLE, fixed).into_response()
        }
        // Several ranges at once are answered with the whole, as a server may.
        Some(Ok(_)) | None => (fixed, [(header::CONTENT_LENGTH, size)], send(None)).into_response(),
    }
}

fn length_of(range: &RangeInclusive<u64>) -> String {
    (range.end() - range.start() + 1).to_string()
}
