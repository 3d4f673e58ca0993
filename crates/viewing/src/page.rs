//! The page on which a channel is watched, and what it asks while it is open.

use std::sync::Arc;

use axum::extract::{Path, State};
use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use rust_embed::RustEmbed;
use serde::Serialize;
use waverant_relay::{Nearness, SessionState, Site};

use crate::access::Access;
use crate::fault::escaped;
use crate::{Fault, ViewingState};

/// The page as it was built; absent in a build without it.
#[derive(RustEmbed)]
#[folder = "../../console/dist-watch"]
#[allow_missing = true]
struct Files;

/// Scripts, styles and the show come from here only. Who may frame it is added.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
    font-src 'self'; media-src 'self' blob:; connect-src 'self'; base-uri 'none'; form-action 'none'; \
    frame-ancestors";

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
    /// Whether there is a seat for who asks.
    has_seat: bool,
}

#[derive(Clone, Copy, Debug, Serialize)]
#[serde(rename_all = "snake_case")]
enum ViewedState {
    OffAir,
    OnAir,
    /// The encoder is lost, and expected back.
    Holding,
}

pub(crate) async fn state(State(state): State<ViewingState>, Extension(access): Extension<Arc<Access>>) -> Response {
    let (rules, show) = (&access.rules, access.show_on_air(&state.house));
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
        has_seat: access.has_seat(&state.house),
    };
    // Whether there is a seat is for who asks.
    ([(header::CACHE_CONTROL, "no-store")], Json(told)).into_response()
}

/// The page for people; no other page frames it.
pub(crate) async fn page(Extension(access): Extension<Arc<Access>>) -> Result<Response, Fault> {
    built("index.html", &access, "'none'")
}

/// The player alone, for pages of other sites.
pub(crate) async fn embed(Extension(access): Extension<Arc<Access>>) -> Result<Response, Fault> {
    let sites: Vec<&str> = access.sites().iter().map(Site::as_str).collect();
    built("embed.html", &access, if sites.is_empty() { "*".to_owned() } else { sites.join(" ") }.as_str())
}

fn built(name: &str, access: &Access, framed_by: &str) -> Result<Response, Fault> {
    let built = Files::get(name).ok_or(Fault::Gone)?;
    let text = String::from_utf8_lossy(&built.data).replace(TITLE, &escaped(&access.rules.title));
    let policy = HeaderValue::try_from(format!("{CONTENT_POLICY} {framed_by}"));
    let policy =
        policy.map_err(|_| Fault::Wrong("the sites of this channel cannot be told to a browser".to_owned()))?;
    let fixed: [(HeaderName, HeaderValue); 4] = [
        (header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8")),
        (header::CACHE_CONTROL, HeaderValue::from_static("no-cache")),
        (header::CONTENT_SECURITY_POLICY, policy),
        // So that what the page fetches can be told from what pages of other sites do; nobody else learns of it.
        (header::REFERRER_POLICY, HeaderValue::from_static("same-origin")),
    ];
    Ok((fixed, text).into_response())
}

pub(crate) async fn file(Path(path): Path<String>) -> Result<Response, Fault> {
    let file = Files::get(&path).filter(|_| !path.ends_with(".html")).ok_or(Fault::Gone)?;
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
