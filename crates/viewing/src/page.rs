//! The page on which a channel is watched, and what it asks while it is open.

use std::sync::Arc;

use axum::extract::{Path, State};
use axum::http::uri::Scheme;
use axum::http::{HeaderMap, HeaderName, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use rust_embed::RustEmbed;
use serde::Serialize;
use waverant_house::House;
use waverant_relay::{ChannelRules, Nearness, SessionState, Site, Way, Ways};

use crate::about::{self, allowed_slot, plain_text};
use crate::access::Access;
use crate::fault::escaped;
use crate::publishing::wanted_depot;
use crate::{Fault, ViewingState};

/// The page as it was built; absent in a build without it.
#[derive(RustEmbed)]
#[folder = "../../console/dist-watch"]
#[allow_missing = true]
struct Files;

/// The site of a depot, and who may frame it, are put in.
const CONTENT_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; \
    font-src 'self'; media-src 'self' blob:{depot}; connect-src 'self'{depot}; base-uri 'none'; form-action 'none'; \
    frame-ancestors";

/// What stands in the pages as they were built for what a channel says.
const TITLE: &str = "%TITLE%";
const SUMMARY: &str = "%SUMMARY%";
const PICTURE: &str = "%PICTURE%";

/// What a preview of a link has of the description, in characters.
const SUMMARY_LENGTH: usize = 200;

/// What a channel is at one moment, for who watches it.
#[derive(Debug, Serialize)]
pub(crate) struct ToldState {
    title: String,
    state: ViewedState,
    /// The way to begin with; none where browsers cannot watch it.
    way: Option<&'static str>,
    /// The ways that there are, from the least delay to the most.
    ways: &'static [&'static str],
    /// How far back one can go, in seconds; 0 where players cannot.
    back_s: u64,
    /// Counts up from session to session.
    session: Option<u64>,
    /// Whether there is a seat for who asks.
    has_seat: bool,
    /// The playlist of the same show in object storage, for who finds no seat here.
    published: Option<String>,
    /// Whether a recording may be watched while nothing is on air.
    has_recording: bool,
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
    let ways = browser_ways(rules.viewing.ways);
    let told = ToldState {
        title: rules.title.clone(),
        state: match show.as_ref().map(|show| show.state()) {
            Some(SessionState::OnAir) => ViewedState::OnAir,
            Some(SessionState::Holding { .. }) => ViewedState::Holding,
            Some(SessionState::Over) | None => ViewedState::OffAir,
        },
        way: first_way(rules.viewing.nearness, ways),
        ways,
        back_s: if ways.contains(&"plain") { rules.viewing.back.as_secs() } else { 0 },
        session: show.as_ref().map(|show| show.id()),
        has_seat: access.has_seat(&state.house),
        published: show.is_some().then(|| published(&state.house, &access)).flatten(),
        has_recording: access.take().is_some() || rules.viewing.page.shows_recording,
    };
    // Whether there is a seat is for who asks.
    ([(header::CACHE_CONTROL, "no-store")], Json(told)).into_response()
}

/// Where the show can be watched from a depot, once all that players need is there.
fn published(house: &House, access: &Access) -> Option<String> {
    let publishing = house.publishing(access.rules.id).filter(|publishing| publishing.told_until.is_some());
    publishing.filter(|_| !access.is_by_link())?.address
}

/// The site of the depot from which a channel's shows may come as well, for the rules of its pages.
fn published_site(rules: &ChannelRules) -> Option<Site> {
    Site::of_address(wanted_depot(rules)?.public_address.as_deref()?)
}

/// What pages may do: scripts, styles and the show come from here only, and the show from the channel's depot too.
fn content_policy(rules: &ChannelRules) -> String {
    let site = published_site(rules).map(|site| format!(" {site}")).unwrap_or_default();
    CONTENT_POLICY.replace("{depot}", &site)
}

/// The ways by which browsers watch, from the least delay to the most.
fn browser_ways(open: Ways) -> &'static [&'static str] {
    match (open.has(Way::Pictures), open.has(Way::Segments)) {
        (true, true) => &["pictures", "near", "plain"],
        (true, false) => &["pictures"],
        (false, true) => &["near", "plain"],
        (false, false) => &[],
    }
}

/// The way that is as near as was wished, or the nearest that there is.
fn first_way(nearness: Nearness, ways: &[&'static str]) -> Option<&'static str> {
    let wished = match nearness {
        Nearness::Nearest => "pictures",
        Nearness::Near => "near",
        Nearness::Steady => "plain",
    };
    ways.iter().copied().find(|way| *way == wished).or(ways.first().copied())
}

/// The page for people; no other page frames it.
pub(crate) async fn page(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    scheme: Option<Extension<Scheme>>,
    headers: HeaderMap,
) -> Result<Response, Fault> {
    let page = &access.rules.viewing.page;
    let slot = allowed_slot(&state.house, &access.rules);
    let frames = slot.map(|(_, site)| format!("; frame-src {site}")).unwrap_or_default();
    let summary = match plain_text(&page.description, SUMMARY_LENGTH) {
        text if text.is_empty() => format!("Watch {}", access.rules.title),
        text => text,
    };
    let text = built("index.html", &access.rules.title)?;
    let text = text.replace(SUMMARY, &escaped(&summary)).replace(
        PICTURE,
        &escaped(&picture_of(&state.house, &access, scheme.as_ref().map(|Extension(scheme)| scheme), &headers)),
    );
    Ok(sent(text, &format!("{} 'none'{frames}", content_policy(&access.rules))))
}

/// The player alone, for pages of other sites.
pub(crate) async fn embed(Extension(access): Extension<Arc<Access>>) -> Result<Response, Fault> {
    let sites: Vec<&str> = access.sites().iter().map(Site::as_str).collect();
    let framed_by = if sites.is_empty() { "*".to_owned() } else { sites.join(" ") };
    let policy = format!("{} {framed_by}", content_policy(&access.rules));
    Ok(sent(built("embed.html", &access.rules.title)?, &policy))
}

/// The list of the channels that want to be found.
pub(crate) async fn list(State(state): State<ViewingState>) -> Result<Response, Fault> {
    // Without any the house has no list.
    about::list(State(state)).await?;
    Ok(sent(built("list.html", "On air")?, &format!("{} 'none'", CONTENT_POLICY.replace("{depot}", ""))))
}

/// Where the picture of a preview is, as other hosts reach it.
fn picture_of(house: &House, access: &Access, scheme: Option<&Scheme>, headers: &HeaderMap) -> String {
    // The preview of a link would be kept where the link is not to be.
    if access.is_by_link() {
        return String::new();
    }
    let scheme = scheme.unwrap_or(&Scheme::HTTP);
    let name = if access.rules.viewing.page.poster.is_some() { "poster" } else { "still.jpg?width=1280" };
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    let site = house.viewing_site().map_or_else(|| format!("{scheme}://{host}"), Site::to_string);
    format!("{site}/watch/{}/{name}", access.rules.name)
}

fn built(name: &str, title: &str) -> Result<String, Fault> {
    let built = Files::get(name).ok_or(Fault::Gone)?;
    Ok(String::from_utf8_lossy(&built.data).replace(TITLE, &escaped(title)))
}

fn sent(text: String, policy: &str) -> Response {
    // Sites are plain where they were read; if one ever is not, nothing is shown.
    let policy = HeaderValue::try_from(policy).unwrap_or(HeaderValue::from_static("default-src 'none'"));
    let fixed: [(HeaderName, HeaderValue); 4] = [
        (header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8")),
        (header::CACHE_CONTROL, HeaderValue::from_static("no-cache")),
        (header::CONTENT_SECURITY_POLICY, policy),
        // So that what the page fetches can be told from what pages of other sites do; nobody else learns of it.
        (header::REFERRER_POLICY, HeaderValue::from_static("same-origin")),
    ];
    (fixed, text).into_response()
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
