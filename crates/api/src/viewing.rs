//! Links by which a channel is watched, how many watched it, and the poster of its page.

use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::extract::rejection::BytesRejection;
use axum::http::{HeaderMap, StatusCode};
use serde::Deserialize;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;
use waverant_house::MAX_POSTER_BYTES;
use waverant_model::{AddViewingLink, ViewerMinute, ViewingLink};

use crate::addresses::link_addresses;
use crate::input::{Body, Path, Query};
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell_viewing};

/// The longest time of which it is told at once how many watched, in hours: a week.
const MAX_HOURS: u32 = 168;

/// List the links by which a channel can be watched
#[utoipa::path(get, path = "/channels/{channel}/links", params(("channel" = String, Path)), responses((status = 200, body = Vec<ViewingLink>)))]
pub(super) async fn list_viewing_links(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<Json<Vec<ViewingLink>>, ApiError> {
    let channel = state.house.store().channel(&name).await?;
    let links = state.house.store().viewing_links_of(&[channel.id]).await?;
    Ok(Json(links.iter().map(|link| told(&state, &headers, link)).collect()))
}

/// Make a link by which a channel can be watched without an account
#[utoipa::path(post, path = "/channels/{channel}/links", params(("channel" = String, Path)), request_body = AddViewingLink, responses((status = 201, body = ViewingLink)))]
pub(super) async fn add_viewing_link(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<AddViewingLink>,
) -> Result<(StatusCode, Json<ViewingLink>), ApiError> {
    let link = state.house.add_viewing_link(&name, &form, &caller.actor).await?;
    Ok((StatusCode::CREATED, Json(told(&state, &headers, &link))))
}

/// Revoke a link; who watches by it is ended at once
#[utoipa::path(delete, path = "/channels/{channel}/links/{link}", params(("channel" = String, Path), ("link" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_viewing_link(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, link)): Path<(String, u64)>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_viewing_link(&name, link, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct ViewersQuery {
    /// How far back, in hours, up to 168; 24 if left out.
    hours: Option<u32>,
}

/// How many watched a channel, minute by minute; minutes in which nobody did are left out
#[utoipa::path(get, path = "/channels/{channel}/viewers", params(("channel" = String, Path), ViewersQuery), responses((status = 200, body = Vec<ViewerMinute>)))]
pub(super) async fn list_viewers(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Query(query): Query<ViewersQuery>,
) -> Result<Json<Vec<ViewerMinute>>, ApiError> {
    let hours = query.hours.unwrap_or(24);
    if !(1..=MAX_HOURS).contains(&hours) {
        return Err(ApiError::invalid("hours", format!("{hours} is not between 1 and {MAX_HOURS}")));
    }
    let store = state.house.store();
    let channel = store.channel(&name).await?;
    let now = OffsetDateTime::now_utc();
    let minutes = store.viewer_minutes(channel.id, now - Duration::hours(hours.into()), now).await?;
    Ok(Json(minutes.iter().map(tell_viewing::viewer_minute).collect()))
}

/// Upload the poster of a channel's page: JPEG, PNG, WebP or AVIF
#[utoipa::path(put, path = "/channels/{channel}/poster", params(("channel" = String, Path)), request_body(content = Vec<u8>, content_type = "image/*"), responses((status = 204)))]
pub(super) async fn upload_poster(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    body: Result<Bytes, BytesRejection>,
) -> Result<StatusCode, ApiError> {
    let body = body.map_err(|rejected| {
        let most = MAX_POSTER_BYTES / (1024 * 1024);
        ApiError::invalid("poster", format!("it could not be taken ({rejected}); up to {most} MiB are"))
    })?;
    state.house.upload_poster(&name, body, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove the poster of a channel's page
#[utoipa::path(delete, path = "/channels/{channel}/poster", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_poster(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_poster(&name, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn told(state: &ApiState, headers: &HeaderMap, link: &waverant_relay::ViewingLink) -> ViewingLink {
    let addresses = link_addresses(state, headers, link.token.reveal());
    tell_viewing::link(link, state.house.viewers_by_link(link.id), addresses)
}
