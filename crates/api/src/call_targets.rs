//! Other systems and people that are told what happens, and what they were told.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa::IntoParams;
use waverant_model::{
    AddCallTarget, CallTargetSet, CallTargetTry, CallTargets, ChangeCallTarget, Delivery, DeliveryDetail,
    DeliveryState, Listed, OccurrenceWord,
};
use waverant_relay::OccurrenceKind;
use waverant_store::DeliveryFilter;

use crate::act_detail::Detail;
use crate::input::{Body, Path, Query};
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell_calls as tell};

/// Rows in one answer.
const DEFAULT_LIMIT: u32 = 50;
const MAX_LIMIT: u32 = 500;

/// List who is told what happens
#[utoipa::path(get, path = "/call-targets", responses((status = 200, body = CallTargets)))]
pub(super) async fn list_call_targets(State(state): State<ApiState>) -> Result<Json<CallTargets>, ApiError> {
    let told = state.house.call_targets().await?;
    let items = told.into_iter().map(|(target, condition, waiting)| tell::target(&state, &target, condition, waiting));
    let kinds = OccurrenceKind::ALL.iter().filter(|(kind, _)| kind.can_be_chosen());
    let kinds = kinds
        .map(|(kind, meaning)| OccurrenceWord { kind: kind.word().to_owned(), meaning: meaning.trim().to_owned() });
    Ok(Json(CallTargets { items: items.collect(), kinds: kinds.collect(), has_mail: state.house.has_mail() }))
}

/// Have another system or people told what happens
#[utoipa::path(post, path = "/call-targets", request_body = AddCallTarget, responses((status = 201, body = CallTargetSet)))]
pub(super) async fn add_call_target(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddCallTarget>,
) -> Result<(StatusCode, Detail, Json<CallTargetSet>), ApiError> {
    let (target, secret) = state.house.add_call_target(form, &caller.actor).await?;
    let target = tell::target(&state, &target, state.house.target_condition(target.id), 0);
    let detail = Detail::made(format!("call target {}", target.name), &tell::lasting(&target));
    let secret = secret.map(|secret| secret.reveal().to_owned());
    Ok((StatusCode::CREATED, detail, Json(CallTargetSet { target, secret })))
}

/// Change who is told what
#[utoipa::path(patch, path = "/call-targets/{target}", params(("target" = String, Path)), request_body = ChangeCallTarget, responses((status = 200, body = CallTargetSet)))]
pub(super) async fn change_call_target(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<ChangeCallTarget>,
) -> Result<(Detail, Json<CallTargetSet>), ApiError> {
    let told =
        |target: &waverant_relay::CallTarget| tell::target(&state, target, state.house.target_condition(target.id), 0);
    let before = told(&*state.house.call_target(&name)?);
    let has_new_address = form.address.is_some();
    let has_new_secret = form.secret.is_some() || form.renews_secret;
    let (target, secret) = state.house.change_call_target(&name, form, &caller.actor).await?;
    let target = told(&target);
    let detail = Detail::changed(&tell::lasting(&before), &tell::lasting(&target));
    let detail = detail.with_new_secret("secret", has_new_secret).with_new_secret("address", has_new_address);
    Ok((detail, Json(CallTargetSet { target, secret: secret.map(|secret| secret.reveal().to_owned()) })))
}

/// Tell a target nothing more
#[utoipa::path(delete, path = "/call-targets/{target}", params(("target" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_call_target(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<(StatusCode, Detail), ApiError> {
    let target = state.house.call_target(&name)?;
    let before = tell::target(&state, &target, state.house.target_condition(target.id), 0);
    state.house.remove_call_target(&name, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::removed(&tell::lasting(&before))))
}

/// Tell a target at once that this is a test, and show the call and what came back
#[utoipa::path(post, path = "/call-targets/{target}/try", params(("target" = String, Path)), responses((status = 200, body = CallTargetTry)))]
pub(super) async fn try_call_target(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<Json<CallTargetTry>, ApiError> {
    let tried = state.house.try_call_target(&name, &caller.actor).await?;
    Ok(Json(tell::tried(tried)))
}

/// Which deliveries to tell.
#[derive(Debug, Default, Deserialize, IntoParams)]
pub(crate) struct DeliveryQuery {
    /// Only those to this target.
    target: Option<String>,
    /// Only those that stand so.
    #[param(inline)]
    state: Option<DeliveryState>,
    /// Only of what happened in this channel.
    channel: Option<String>,
    /// Only what came before this cursor.
    before: Option<u64>,
    /// At most so many; 1 to 500, default 50.
    limit: Option<u32>,
}

/// What others were told, or are to be, the newest first
#[utoipa::path(get, path = "/deliveries", params(DeliveryQuery), responses((status = 200, body = Listed<Delivery>)))]
pub(super) async fn list_deliveries(
    State(state): State<ApiState>,
    Query(query): Query<DeliveryQuery>,
) -> Result<Json<Listed<Delivery>>, ApiError> {
    let limit = query.limit.unwrap_or(DEFAULT_LIMIT);
    if !(1..=MAX_LIMIT).contains(&limit) {
        return Err(ApiError::invalid("limit", format!("{limit} is not between 1 and {MAX_LIMIT}")));
    }
    let target = query.target.as_deref().map(|name| state.house.call_target(name)).transpose()?;
    let filter = DeliveryFilter {
        target_id: target.map(|target| target.id),
        state: query.state.map(tell::state_of),
        channel: query.channel,
        before: query.before,
        limit,
    };
    let found = state.house.deliveries(&filter).await?;
    let items: Vec<Delivery> = found.into_iter().map(|(delivery, target)| tell::delivery(&delivery, target)).collect();
    let is_full = u32::try_from(items.len()).is_ok_and(|count| count >= limit);
    let next = items.last().filter(|_| is_full).map(|delivery| delivery.id);
    Ok(Json(Listed { items, next }))
}

/// Show what a target was told, and what came back
#[utoipa::path(get, path = "/deliveries/{delivery}", params(("delivery" = u64, Path)), responses((status = 200, body = DeliveryDetail)))]
pub(super) async fn show_delivery(
    State(state): State<ApiState>,
    Path(id): Path<u64>,
) -> Result<Json<DeliveryDetail>, ApiError> {
    Ok(Json(tell::delivery_seen(state.house.delivery(id).await?)))
}

/// Tell a target something once more, or at once if it waits
#[utoipa::path(post, path = "/deliveries/{delivery}/again", params(("delivery" = u64, Path)), responses((status = 204)))]
pub(super) async fn deliver_again(
    State(state): State<ApiState>,
    caller: Caller,
    Path(id): Path<u64>,
) -> Result<(StatusCode, Detail), ApiError> {
    state.house.deliver_again(id, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::named(format!("delivery {id}"))))
}
