//! What is on air, a picture at a time, for who is signed in.

use axum::Extension;
use axum::extract::State;
use axum::extract::ws::WebSocketUpgrade;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;
use waverant_net::Place;
use waverant_show::Show;
use waverant_viewing::{PictureViewer, within_limits};

use crate::input::{Path, Query};
use crate::rights::Leave;
use crate::{ApiError, ApiState};

/// As wide as a still is on the board.
const USUAL_WIDTH: u32 = 320;

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
    leave: Leave,
    place: Option<Extension<Arc<Place>>>,
    socket: WebSocketUpgrade,
) -> Result<Response, ApiError> {
    let show = on_air(&state, &name)?;
    let viewer = PictureViewer::of_the_house(&show, query.sound);
    Ok(within_limits(socket).on_upgrade(move |socket| async move {
        let _place = place;
        let stopping = state.house.stopping().clone();
        tokio::select! {
            () = viewer.serve(socket, || !stopping.is_cancelled()) => {}
            () = leave.ended(state.clone()) => {}
        }
    }))
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct StillQuery {
    /// In pixels; the smallest of 160, 320, 640 and 1280 that is at least so wide is sent. 320 if left out.
    width: Option<u32>,
}

/// Fetch the newest picture of what is on air as a still; of a rehearsal too
#[utoipa::path(get, path = "/channels/{channel}/still", params(("channel" = String, Path), StillQuery), responses((status = 200, content_type = "image/jpeg")))]
pub(super) async fn channel_still(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Query(query): Query<StillQuery>,
) -> Result<Response, ApiError> {
    let still = on_air(&state, &name)?.still(state.house.codec(), query.width.unwrap_or(USUAL_WIDTH)).await;
    let still = still.map_err(|error| ApiError::Conflict(format!("There is no still of `{name}`: {error}.")))?;
    Ok(([(header::CONTENT_TYPE, "image/jpeg"), (header::CACHE_CONTROL, "private, max-age=2")], still).into_response())
}

fn on_air(state: &ApiState, name: &str) -> Result<Arc<Show>, ApiError> {
    let channel = state.house.directory().channel_named(name).map(|rules| rules.id);
    let show = channel.and_then(|id| state.house.show(id)).filter(|show| !show.live().has_ended());
    show.ok_or_else(|| ApiError::Conflict(format!("The channel `{name}` is not on air.")))
}
