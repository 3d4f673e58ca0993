//! Watching over HTTP: what a channel's viewers fetch, without an account.
//!
//! Everything is under `/watch/CHANNEL`, and the same under `/link/TOKEN` for who has a link. Whether somebody may is
//! looked up at each request, and once a second for who stays; a channel that is not open to the caller looks like one
//! that is not there.

mod about;
mod access;
mod fault;
mod hls;
mod page;
mod pictures;
mod piece_body;
mod publishing;
mod recording;
mod screens;
mod still;
mod stream;
mod take_body;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::Request;
use axum::http::{HeaderValue, StatusCode, header};
use axum::middleware::{Next, from_fn, from_fn_with_state};
use axum::response::Response;
use axum::routing::get;
use tower_http::set_header::SetResponseHeaderLayer;
use waverant_house::House;
use waverant_net::Place;

pub use pictures::{PictureViewer, within_limits};
pub use publishing::publish;
pub use screens::keep_ready;
pub use take_body::serve_take;

pub(crate) use fault::Fault;
use recording::Recordings;
use screens::Screens;

/// How often it is looked whether who stays may still watch.
pub(crate) const LOOK_INTERVAL: Duration = Duration::from_secs(1);

/// How far a viewer that stays may be behind before it goes on at the newest keyframe.
pub(crate) const ALLOWANCE: waverant_media::MediaTime = waverant_media::MediaTime::from_millis(5_000);

/// What all requests share.
#[derive(Clone, Debug)]
pub struct ViewingState {
    house: Arc<House>,
    screens: Arc<Screens>,
    recordings: Arc<Recordings>,
}

impl ViewingState {
    /// Viewing of a house's channels.
    pub fn new(house: Arc<House>) -> Self {
        Self { house, screens: Arc::default(), recordings: Arc::default() }
    }
}

/// All that viewers reach.
pub fn router(state: ViewingState) -> Router {
    let fixed = |name, value| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    let ways = || ways().layer(from_fn_with_state(state.clone(), access::admit));
    Router::new()
        .nest("/watch/{channel}", ways())
        .nest("/link/{token}", ways())
        .route("/", get(page::list))
        .route("/watch-list", get(about::list))
        .route("/watch-files/{*path}", get(page::file))
        .fallback(fault::nothing_here)
        .with_state(state)
        .layer(from_fn(fault::tell_people))
        .layer(from_fn(keep_place))
        .layer(fixed(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(fixed(header::REFERRER_POLICY, "no-referrer"))
}

/// All ways of watching one channel.
fn ways() -> Router<ViewingState> {
    Router::new()
        .route("/live/index.m3u8", get(hls::multivariant))
        .route("/live/index.mpd", get(hls::manifest))
        .route("/live/{run}/{track}/index.m3u8", get(hls::playlist))
        .route("/live/{run}/{track}/{piece}", get(hls::piece))
        .route("/pictures", get(pictures::upgrade))
        .route("/stream.ts", get(stream::transport_stream))
        .route("/stream.flv", get(stream::flv))
        .route("/still.jpg", get(still::still))
        .route("/state", get(page::state))
        .route("/recording", get(recording::about))
        .route("/recording.mp4", get(recording::file))
        .route("/about", get(about::about))
        .route("/poster", get(about::poster))
        .route("/style.css", get(about::style))
        .route("/embed", get(page::embed))
        .route("/", get(page::page))
}

/// Who got something of a channel keeps its place: it does not make room for the next stranger.
async fn keep_place(request: Request, next: Next) -> Response {
    let place = request.extensions().get::<Arc<Place>>().cloned();
    let response = next.run(request).await;
    let got_some = response.status().is_success() || response.status() == StatusCode::SWITCHING_PROTOCOLS;
    if let Some(place) = place.filter(|_| got_some) {
        let _ = place.let_in();
    }
    response
}
