use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use waverant_library::LiveDepot;
use waverant_model::{AddChannel, ChangeChannel, ChangeSending, Channel, ViewingAddresses};

use crate::act_detail::Detail;
use crate::addresses::{APP, address, viewing_addresses};
use crate::input::{Body, Path};
use crate::rights::{Caller, Sight};
use crate::{ApiError, ApiState, tell};

async fn described(
    state: &ApiState,
    headers: &HeaderMap,
    channel: waverant_store::Channel,
) -> Result<Json<Channel>, ApiError> {
    let own = state.house.store().destinations_of(&[channel.id]).await?;
    let own = own.into_iter().map(tell::channel_destination).collect();
    let viewing = viewing_of(state, headers, &channel);
    Ok(Json(tell::channel(channel, address(state, headers, APP), own, viewing)))
}

fn viewing_of(state: &ApiState, headers: &HeaderMap, channel: &waverant_store::Channel) -> ViewingAddresses {
    let depot = channel.settings.viewing.published_to.as_ref();
    let public = depot.and_then(|depot| depot.public_address.as_deref());
    let published = public.map(|address| LiveDepot::playlist_address(address, &channel.name));
    ViewingAddresses { published, ..viewing_addresses(state, headers, &channel.name) }
}

/// List channels
#[utoipa::path(get, path = "/channels", responses((status = 200, body = Vec<Channel>)))]
pub(super) async fn list_channels(
    State(state): State<ApiState>,
    sight: Sight,
    headers: HeaderMap,
) -> Result<Json<Vec<Channel>>, ApiError> {
    let mut all = state.house.store().channel_destinations().await?;
    let channels = state.house.store().channels().await?;
    let channels = channels.into_iter().filter(|channel| sight.has(Some(channel.id))).map(|channel| {
        let own = all.extract_if(.., |destination| destination.channel_id == channel.id);
        let own = own.map(tell::channel_destination).collect();
        let viewing = viewing_of(&state, &headers, &channel);
        tell::channel(channel, address(&state, &headers, APP), own, viewing)
    });
    Ok(Json(channels.collect()))
}

/// Add a channel
#[utoipa::path(post, path = "/channels", request_body = AddChannel, responses((status = 201, body = Channel)))]
pub(super) async fn add_channel(
    State(state): State<ApiState>,
    caller: Caller,
    headers: HeaderMap,
    Body(form): Body<AddChannel>,
) -> Result<(StatusCode, Detail, Json<Channel>), ApiError> {
    let channel = state.house.add_channel(form, &caller.actor).await?;
    let made = described(&state, &headers, channel).await?;
    Ok((StatusCode::CREATED, Detail::on_channel(&made.name, &made.0), made))
}

/// Show a channel
#[utoipa::path(get, path = "/channels/{channel}", params(("channel" = String, Path)), responses((status = 200, body = Channel)))]
pub(super) async fn show_channel(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<Json<Channel>, ApiError> {
    let channel = state.house.store().channel(&name).await?;
    described(&state, &headers, channel).await
}

/// Change a channel
#[utoipa::path(patch, path = "/channels/{channel}", params(("channel" = String, Path)), request_body = ChangeChannel, responses((status = 200, body = Channel)))]
pub(super) async fn change_channel(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<ChangeChannel>,
) -> Result<(Detail, Json<Channel>), ApiError> {
    let before = present(&state, &headers, &name).await?;
    let channel = state.house.change_channel(&name, form, &caller.actor).await?;
    let after = described(&state, &headers, channel).await?;
    Ok((Detail::changed(&before.0, &after.0), after))
}

async fn present(state: &ApiState, headers: &HeaderMap, name: &str) -> Result<Json<Channel>, ApiError> {
    described(state, headers, state.house.store().channel(name).await?).await
}

/// Remove a channel with its keys; its sessions and takes stay
#[utoipa::path(delete, path = "/channels/{channel}", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_channel(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<(StatusCode, Detail), ApiError> {
    let before = present(&state, &headers, &name).await?;
    state.house.remove_channel(&name, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::removed(&before.0)))
}

/// Give a channel a destination, or change how it sends there; in mid-show too
#[utoipa::path(put, path = "/channels/{channel}/destinations/{destination}", params(("channel" = String, Path), ("destination" = String, Path)), request_body = ChangeSending, responses((status = 200, body = Channel)))]
pub(super) async fn switch_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, destination)): Path<(String, String)>,
    headers: HeaderMap,
    Body(form): Body<ChangeSending>,
) -> Result<(Detail, Json<Channel>), ApiError> {
    require_known_destination(&state, &caller, &name, &destination)?;
    let before = present(&state, &headers, &name).await?;
    let channel = state.house.change_sending(&name, &destination, &form, &caller.actor).await?;
    let after = described(&state, &headers, channel).await?;
    let sending = |channel: &Channel| channel.destinations.iter().find(|own| own.destination == destination).cloned();
    Ok((Detail::changed(&sending(&before), &sending(&after)), after))
}

/// Who is on single channels alone sends to the destinations that these have: another one, with its key, is given to a
/// channel by the house.
pub(crate) fn require_known_destination(
    state: &ApiState,
    caller: &Caller,
    channel: &str,
    destination: &str,
) -> Result<(), ApiError> {
    let directory = state.house.directory();
    let id = directory.channel_named(channel).map(|rules| rules.id);
    let is_known =
        || id.is_some_and(|id| directory.orders(id).iter().any(|order| order.destination.name == destination));
    if caller.grants.sees_house() || is_known() {
        return Ok(());
    }
    Err(ApiError::NotFound { kind: "destination", name: destination.to_owned() })
}

/// Take a destination from a channel; in mid-show too
#[utoipa::path(delete, path = "/channels/{channel}/destinations/{destination}", params(("channel" = String, Path), ("destination" = String, Path)), responses((status = 204)))]
pub(super) async fn unlink_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, destination)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    state.house.unlink_destination(&name, &destination, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// End the session that is on air; again, to cut off its delayed legs
#[utoipa::path(post, path = "/channels/{channel}/end-session", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn end_session(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.end_session(&name, &caller.actor)?;
    Ok(StatusCode::NO_CONTENT)
}
