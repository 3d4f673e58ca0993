//! What is on air, a picture at a time, for who is signed in.

use std::time::Duration;

use axum::Extension;
use axum::extract::ws::WebSocketUpgrade;
use axum::extract::{Path, Query, State};
use axum::http::HeaderMap;
use axum::response::Response;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;
use waverant_net::Place;
use waverant_viewing::{PictureViewer, within_limits};

use crate::credentials::token_of;
use crate::{ApiError, ApiState};

/// How often the token is looked at again.
const LOOK_INTERVAL: Duration = Duration::from_secs(4);

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct PictureQuery {
    /// Which sound, counted from 1; the first if left out.
    sound: Option<u8>,
}

/// Watch a channel over a WebSocket, a picture at a time; a rehearsal too, and whoever else may watch
#[utoipa::path(get, path = "/channels/{channel}/pictures", params(("channel" = String, Path), PictureQuery), responses((status = 101, description = "CMAF headers and pieces as binary messages")))]
pub(super) async fn watch_pictures(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Query(query): Query<PictureQuery>,
    headers: HeaderMap,
    place: Option<Extension<Arc<Place>>>,
    socket: WebSocketUpgrade,
) -> Result<Response, ApiError> {
    let channel = state.house.directory().channel_named(&name).map(|rules| rules.id);
    let show = channel.and_then(|id| state.house.show(id)).filter(|show| !show.live().has_ended());
    let show = show.ok_or_else(|| ApiError::Conflict(format!("The channel `{name}` is not on air.")))?;
    let viewer = PictureViewer::of_the_house(&show, query.sound);
    let token = token_of(&headers).unwrap_or_default();
    Ok(within_limits(socket).on_upgrade(move |socket| async move {
        let _place = place;
        let stopping = state.house.stopping().clone();
        tokio::select! {
            () = viewer.serve(socket, || !stopping.is_cancelled()) => {}
            () = until_withdrawn(&state, &token) => {}
        }
    }))
}

/// Waits until a token opens nothing any more; one that cannot be looked up does.
async fn until_withdrawn(state: &ApiState, token: &str) {
    loop {
        tokio::time::sleep(LOOK_INTERVAL).await;
        if matches!(state.seen_tokens.holder_of(state.house.store(), token).await, Ok(None)) {
            return;
        }
    }
}
