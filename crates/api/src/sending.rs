//! How a channel's sessions are sent to its destinations.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use serde::Deserialize;
use utoipa::ToSchema;
use waverant_store::Sending;

use super::auth::SignedIn;
use super::channels::describe;
use super::error::Body;
use super::model::Channel;
use super::{ApiError, ApiState};

/// The longest delay: five minutes.
const MAX_DELAY_MS: u32 = 300_000;

/// The longest time that a leg can start later: an hour.
const MAX_START_AFTER_MS: u32 = 3_600_000;

/// How a channel's sessions are to be sent to a destination; what is left out stays.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct ChangeSending {
    /// True to send the channel's sessions there.
    is_on: Option<bool>,
    /// How much later than the source, up to 300000: time to cut something off.
    delay_ms: Option<u32>,
    /// How much later than the show it starts, up to 3600000.
    start_after_ms: Option<u32>,
}

/// Give a channel a destination, or change how it sends there; in mid-show too
#[utoipa::path(put, path = "/channels/{channel}/destinations/{destination}", params(("channel" = String, Path), ("destination" = String, Path)), request_body = ChangeSending, responses((status = 200, body = Channel)))]
pub(super) async fn switch_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path((name, destination)): Path<(String, String)>,
    headers: HeaderMap,
    Body(form): Body<ChangeSending>,
) -> Result<Json<Channel>, ApiError> {
    let store = &state.house.store;
    let channel = store.channel(&name).await?;
    let destination = store.destination(&destination).await?;
    let all = store.channel_destinations().await?;
    let is_it = |own: &&waverant_store::ChannelDestination| {
        own.channel_id == channel.id && own.destination.id == destination.id
    };
    let new = Sending { switched_on: true, ..Sending::default() };
    let present = all.iter().find(is_it).map_or(new, |own| own.sending);
    let sending = Sending {
        switched_on: form.is_on.unwrap_or(present.switched_on),
        delay_ms: at_most("delay_ms", form.delay_ms.unwrap_or(present.delay_ms), MAX_DELAY_MS)?,
        start_after_ms: at_most(
            "start_after_ms",
            form.start_after_ms.unwrap_or(present.start_after_ms),
            MAX_START_AFTER_MS,
        )?,
    };
    store.set_channel_destination(channel.id, destination.id, sending).await?;
    state.house.reload().await?;
    Ok(Json(describe(&state, &headers, channel).await?))
}

/// Take a destination from a channel; in mid-show too
#[utoipa::path(delete, path = "/channels/{channel}/destinations/{destination}", params(("channel" = String, Path), ("destination" = String, Path)), responses((status = 204)))]
pub(super) async fn unlink_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path((name, destination)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    let destination = state.house.store.destination(&destination).await?;
    state.house.store.remove_channel_destination(channel.id, destination.id).await?;
    state.house.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

fn at_most(field: &'static str, value: u32, most: u32) -> Result<u32, ApiError> {
    if value > most { Err(ApiError::invalid(field, format!("{value} is more than {most}"))) } else { Ok(value) }
}
