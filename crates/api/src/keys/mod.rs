//! Stream keys, and the guests' links that show them.

mod guest;
mod tell;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use waverant_house::MadeKey;
use waverant_model::{AddKey, AddKeys, ChangeKey, NewKey, RenewKey, RetireKey, StreamKey};

use crate::act_detail::Detail;
use crate::addresses::{ToldPassphrase, encoder_fields};
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

pub(super) use guest::*;

/// List a channel's stream keys, without the keys themselves
#[utoipa::path(get, path = "/channels/{channel}/keys", params(("channel" = String, Path)), responses((status = 200, body = Vec<StreamKey>)))]
pub(super) async fn list_keys(
    State(state): State<ApiState>,
    Path(name): Path<String>,
) -> Result<Json<Vec<StreamKey>>, ApiError> {
    let channel = state.house.store().channel(&name).await?;
    let keys = state.house.store().keys_of(&[channel.id]).await?;
    Ok(Json(keys.into_iter().map(tell::key).collect()))
}

/// Make a stream key; this answer is the only place where it is shown
#[utoipa::path(post, path = "/channels/{channel}/keys", params(("channel" = String, Path)), request_body = AddKey, responses((status = 201, body = NewKey)))]
pub(super) async fn add_key(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<AddKey>,
) -> Result<(StatusCode, Detail, Json<NewKey>), ApiError> {
    let made = state.house.add_key(&name, form, &caller.actor).await?;
    let told = told(&state, &headers, made);
    Ok((StatusCode::CREATED, Detail::made(subject(&told.key), &told.key), Json(told)))
}

/// Make stream keys from a list, all or none; this answer is the only place where they are shown
#[utoipa::path(post, path = "/channels/{channel}/keys/list", params(("channel" = String, Path)), request_body = AddKeys, responses((status = 201, body = Vec<NewKey>)))]
pub(super) async fn add_keys(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<AddKeys>,
) -> Result<(StatusCode, Detail, Json<Vec<NewKey>>), ApiError> {
    let made = state.house.add_keys(&name, form.keys, &caller.actor).await?;
    let told: Vec<NewKey> = made.into_iter().map(|made| told(&state, &headers, made)).collect();
    let labels: Vec<&str> = told.iter().map(|made| made.key.label.as_str()).collect();
    let detail = Detail::made(format!("{} keys", told.len()), &serde_json::json!({ "labels": labels }));
    Ok((StatusCode::CREATED, detail, Json(told)))
}

/// Change a stream key; it leaves a show alone that the key opened
#[utoipa::path(patch, path = "/channels/{channel}/keys/{key}", params(("channel" = String, Path), ("key" = u64, Path)), request_body = ChangeKey, responses((status = 200, body = StreamKey)))]
pub(super) async fn change_key(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, key)): Path<(String, u64)>,
    Body(form): Body<ChangeKey>,
) -> Result<(Detail, Json<StreamKey>), ApiError> {
    let (before, after) = state.house.change_key(&name, key, form, &caller.actor).await?;
    let (before, after) = (tell::key(before), tell::key(after));
    Ok((Detail::changed(&before, &after), Json(after)))
}

/// Renew a stream key: another one takes its place, and for a while both open
#[utoipa::path(post, path = "/channels/{channel}/keys/{key}/renewal", params(("channel" = String, Path), ("key" = u64, Path)), request_body = RenewKey, responses((status = 201, body = NewKey)))]
pub(super) async fn renew_key(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, key)): Path<(String, u64)>,
    headers: HeaderMap,
    Body(form): Body<RenewKey>,
) -> Result<(StatusCode, Detail, Json<NewKey>), ApiError> {
    let made = state.house.renew_key(&name, key, form, &caller.actor).await?;
    let told = told(&state, &headers, made);
    Ok((StatusCode::CREATED, Detail::made(subject(&told.key), &told.key), Json(told)))
}

/// Retire a stream key at once, with or without ending the show that it opened
#[utoipa::path(post, path = "/channels/{channel}/keys/{key}/retirement", params(("channel" = String, Path), ("key" = u64, Path)), request_body = RetireKey, responses((status = 204)))]
pub(super) async fn retire_key(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, key)): Path<(String, u64)>,
    Body(form): Body<RetireKey>,
) -> Result<(StatusCode, Detail), ApiError> {
    let detail = Detail::made(format!("key {key}"), &form);
    state.house.retire_key(&name, key, form, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, detail))
}

/// End the guest's link of a stream key; the key stays
#[utoipa::path(delete, path = "/channels/{channel}/keys/{key}/guest-link", params(("channel" = String, Path), ("key" = u64, Path)), responses((status = 204)))]
pub(super) async fn end_guest_link(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, key)): Path<(String, u64)>,
) -> Result<StatusCode, ApiError> {
    state.house.end_guest_link(&name, key, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a stream key; a publisher who uses it is ended
#[utoipa::path(delete, path = "/channels/{channel}/keys/{key}", params(("channel" = String, Path), ("key" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_key(
    State(state): State<ApiState>,
    caller: Caller,
    Path((name, key)): Path<(String, u64)>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_key(&name, key, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn subject(key: &StreamKey) -> String {
    format!("key {} ({})", key.id, key.label)
}

/// A key that was made, as it is shown once.
pub(super) fn told(state: &ApiState, headers: &HeaderMap, made: MadeKey) -> NewKey {
    let MadeKey { channel, key, secret, guest_token, warning } = made;
    let passphrase = match (key.terms.passphrase.clone(), channel.settings.srt.passphrase.is_some()) {
        (Some(own), _) => ToldPassphrase::This(own),
        (None, true) => ToldPassphrase::OfChannel,
        (None, false) => ToldPassphrase::None,
    };
    let key = tell::key(key);
    let srt = (channel.settings.srt.latency_ms, passphrase);
    let encoder = encoder_fields(state, headers, key.right, (&key.prefix, &secret), srt);
    NewKey { key, encoder, warning, guest_token: guest_token.map(|token| token.reveal().to_owned()) }
}
