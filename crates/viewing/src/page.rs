//! The page on which a channel is watched, and what it asks while it is open.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;
use serde::Serialize;
use waverant_relay::{Nearness, SessionState};

use crate::open::{open_channel, show_on_air};
use crate::{Fault, ViewingState};

/// The page as it was built; absent in a build without it.
#[derive(RustEmbed)]
#[folder = "../../console/dist-watch"]
#[allow_missing = true]
struct Files;

/// Scripts, styles and the show come from here only.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
    font-src 'self'; media-src 'self' blob:; connect-src 'self'; base-uri 'none'; form-action 'none'; \
    frame-ancestors 'none'";

/// What stands for the channel's title in the page as it was built.
const TITLE: &str = "%TITLE%";

/// What a channel is at one moment, for who watches it.
#[derive(Debug, Serialize)]
pub(crate) struct ToldState {
    title: String,
    state: ViewedState,
    /// The way to begin with.
    way: &'static str,
    /// Counts up from session to session.
    session: Option<u64>,
}

#[derive(Clone, Copy, Debug, Serialize)]
#[serde(rename_all = "snake_case")]
enum ViewedState {
    OffAir,
    OnAir,
    /// The encoder is lost, and expected back.
    Holding,
}

pub(crate) async fn state(State(state): State<ViewingState>, Path(channel): Path<String>) -> Result<Response, Fault> {
    let rules = open_channel(&state.house, &channel)?;
    let show = show_on_air(&state.house, &rules);
    let told = ToldState {
        title: rules.title.clone(),
        state: match show.as_ref().map(|show| show.state()) {
            Some(SessionState::OnAir) => ViewedState::OnAir,
            Some(SessionState::Holding { .. }) => ViewedState::Holding,
            Some(SessionState::Over) | None => ViewedState::OffAir,
        },
        way: match rules.viewing.nearness {
            Nearness::Nearest => "pictures",
            Nearness::Near => "near",
            Nearness::Steady => "plain",
        },
        session: show.map(|show| show.id()),
    };
    Ok(([(header::CACHE_CONTROL, "public, max-age=1")], Json(told)).into_response())
}

pub(crate) async fn page(State(state): State<ViewingState>, Path(channel): Path<String>) -> Result<Response, Fault> {
    let rules = open_channel(&state.house, &channel)?;
    let built = Files::get("index.html").ok_or(Fault::Gone)?;
    let text = String::from_utf8_lossy(&built.data).replace(TITLE, &escaped(&rules.title));
    let fixed: [(HeaderName, HeaderValue); 3] = [
        (header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8")),
        (header::CACHE_CONTROL, HeaderValue::from_static("no-cache")),
        (header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(CONTENT_POLICY)),
    ];
    Ok((fixed, text).into_response())
}

pub(crate) async fn file(Path(path): Path<String>) -> Result<Response, Fault> {
    let file = Files::get(&path).filter(|_| path != "index.html").ok_or(Fault::Gone)?;
    let media_type = match path.rsplit('.').next() {
        Some("js") => "text/javascript",
        Some("css") => "text/css",
        Some("svg") => "image/svg+xml",
        _ => "application/octet-stream",
    };
    // Their names change with their content.
    let fixed = [(header::CONTENT_TYPE, media_type), (header::CACHE_CONTROL, "public, max-age=31536000, immutable")];
    Ok((fixed, file.data).into_response())
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
