//! Other systems of the house that are asked before somebody is let in.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_model::{
    CallAnswer, CallHeader, HouseSystem, HouseSystemSet, HouseSystemState, HouseSystemTry, SetHouseSystem,
    TryHouseSystem,
};

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell_house_systems as tell};

/// Show the system that is asked for the house
#[utoipa::path(get, path = "/house-system", responses((status = 200, body = HouseSystemState)))]
pub(super) async fn show_house_system(State(state): State<ApiState>) -> Result<Json<HouseSystemState>, ApiError> {
    Ok(Json(HouseSystemState { system: told(&state, None)?, of_house: None }))
}

/// Set the system that is asked for the house
#[utoipa::path(put, path = "/house-system", request_body = SetHouseSystem, responses((status = 200, body = HouseSystemSet)))]
pub(super) async fn set_house_system(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<SetHouseSystem>,
) -> Result<(Detail, Json<HouseSystemSet>), ApiError> {
    set(&state, &caller, None, form).await
}

/// Ask no system any more for the house
#[utoipa::path(delete, path = "/house-system", responses((status = 204)))]
pub(super) async fn remove_house_system(
    State(state): State<ApiState>,
    caller: Caller,
) -> Result<(StatusCode, Detail), ApiError> {
    remove(&state, &caller, None).await
}

/// Ask the system of the house about somebody made up, and show question and answer
#[utoipa::path(post, path = "/house-system/try", request_body = TryHouseSystem, responses((status = 200, body = HouseSystemTry)))]
pub(super) async fn try_house_system(
    State(state): State<ApiState>,
    Body(form): Body<TryHouseSystem>,
) -> Result<Json<HouseSystemTry>, ApiError> {
    try_out(&state, None, &form).await
}

/// Show the system that is asked for a channel
#[utoipa::path(get, path = "/channels/{channel}/house-system", params(("channel" = String, Path)), responses((status = 200, body = HouseSystemState)))]
pub(super) async fn show_channel_house_system(
    State(state): State<ApiState>,
    Path(channel): Path<String>,
) -> Result<Json<HouseSystemState>, ApiError> {
    Ok(Json(HouseSystemState { system: told(&state, Some(&channel))?, of_house: told(&state, None)? }))
}

/// Set the system that is asked for a channel
#[utoipa::path(put, path = "/channels/{channel}/house-system", params(("channel" = String, Path)), request_body = SetHouseSystem, responses((status = 200, body = HouseSystemSet)))]
pub(super) async fn set_channel_house_system(
    State(state): State<ApiState>,
    caller: Caller,
    Path(channel): Path<String>,
    Body(form): Body<SetHouseSystem>,
) -> Result<(Detail, Json<HouseSystemSet>), ApiError> {
    set(&state, &caller, Some(&channel), form).await
}

/// Ask no system of its own any more for a channel
#[utoipa::path(delete, path = "/channels/{channel}/house-system", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_channel_house_system(
    State(state): State<ApiState>,
    caller: Caller,
    Path(channel): Path<String>,
) -> Result<(StatusCode, Detail), ApiError> {
    remove(&state, &caller, Some(&channel)).await
}

/// Ask the system of a channel about somebody made up, and show question and answer
#[utoipa::path(post, path = "/channels/{channel}/house-system/try", params(("channel" = String, Path)), request_body = TryHouseSystem, responses((status = 200, body = HouseSystemTry)))]
pub(super) async fn try_channel_house_system(
    State(state): State<ApiState>,
    Path(channel): Path<String>,
    Body(form): Body<TryHouseSystem>,
) -> Result<Json<HouseSystemTry>, ApiError> {
    try_out(&state, Some(&channel), &form).await
}

fn told(state: &ApiState, channel: Option<&str>) -> Result<Option<HouseSystem>, ApiError> {
    let found = state.house.house_system(channel)?;
    Ok(found.map(|(system, condition)| tell::house_system(&system, condition)))
}

async fn set(
    state: &ApiState,
    caller: &Caller,
    channel: Option<&str>,
    form: SetHouseSystem,
) -> Result<(Detail, Json<HouseSystemSet>), ApiError> {
    let before = told(state, channel)?.map(|system| system.rules);
    let is_given = form.secret.is_some();
    let made = state.house.set_house_system(channel, form, &caller.actor).await?;
    let Some(system) = told(state, channel)? else { return Err(ApiError::Internal) };
    let is_new = is_given || made.is_some();
    let detail = Detail::changed(&before, &Some(&system.rules)).with_new_secret("secret", is_new);
    let secret = made.map(|secret| secret.reveal().to_owned());
    Ok((detail, Json(HouseSystemSet { system, secret })))
}

async fn remove(state: &ApiState, caller: &Caller, channel: Option<&str>) -> Result<(StatusCode, Detail), ApiError> {
    let before = told(state, channel)?.map(|system| system.rules);
    state.house.remove_house_system(channel, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::removed(&before)))
}

async fn try_out(
    state: &ApiState,
    channel: Option<&str>,
    form: &TryHouseSystem,
) -> Result<Json<HouseSystemTry>, ApiError> {
    let (exchange, meaning) = state.house.try_house_system(channel, form).await?;
    let answer = exchange.reply.ok().map(|(status, content_type, body, took)| CallAnswer {
        status,
        content_type,
        body,
        took_ms: u64::try_from(took.as_millis()).unwrap_or(u64::MAX),
    });
    let headers = exchange.headers.into_iter().map(|(name, value)| CallHeader { name: name.to_owned(), value });
    Ok(Json(HouseSystemTry {
        address: exchange.address,
        headers: headers.collect(),
        question: exchange.body,
        answer,
        is_good: meaning.is_ok(),
        lets_in: meaning.as_ref().is_ok_and(|(lets_in, _)| *lets_in),
        meaning: meaning.map_or_else(|fault| fault, |(_, told)| told),
    }))
}
