use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use waverant_house::{leg_destination, leg_order};
use waverant_model::{
    AddDestination, ChangeDestination, Destination, DestinationTry, TryDestination, TryStep, TryStepName,
};
use waverant_relay::StreamFacts;
use waverant_show::{ProbeStepName, probe};
use waverant_store::Sending;

use crate::error::Body;
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell};

/// List destinations, without their keys
#[utoipa::path(get, path = "/destinations", responses((status = 200, body = Vec<Destination>)))]
pub(super) async fn list_destinations(State(state): State<ApiState>) -> Result<Json<Vec<Destination>>, ApiError> {
    let destinations = state.house.store().destinations().await?;
    Ok(Json(destinations.into_iter().map(tell::destination).collect()))
}

/// Add a destination
#[utoipa::path(post, path = "/destinations", request_body = AddDestination, responses((status = 201, body = Destination)))]
pub(super) async fn add_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddDestination>,
) -> Result<(StatusCode, Json<Destination>), ApiError> {
    let added = state.house.add_destination(form, &caller.actor).await?;
    Ok((StatusCode::CREATED, Json(tell::destination(added))))
}

/// Change a destination; legs that use it redial if address, key or authority change
#[utoipa::path(patch, path = "/destinations/{destination}", params(("destination" = String, Path)), request_body = ChangeDestination, responses((status = 200, body = Destination)))]
pub(super) async fn change_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<ChangeDestination>,
) -> Result<Json<Destination>, ApiError> {
    let changed = state.house.change_destination(&name, form, &caller.actor).await?;
    Ok(Json(tell::destination(changed)))
}

/// Try a destination step by step, without going live
#[utoipa::path(post, path = "/destinations/{destination}/try", params(("destination" = String, Path)), request_body = TryDestination, responses((status = 200, body = DestinationTry)))]
pub(super) async fn try_destination(
    State(state): State<ApiState>,
    Path(name): Path<String>,
    Body(form): Body<TryDestination>,
) -> Result<Json<DestinationTry>, ApiError> {
    let destination = state.house.store().destination(&name).await?;
    let tried = probe(&leg_destination(destination.clone()), form.publishes).await;
    let order = leg_order(destination, Sending::default());
    let facts = StreamFacts { is_secure: order.destination.is_secure(), ..StreamFacts::default() };
    let steps = tried.steps.iter().map(|step| TryStep {
        step: step_word(step.name),
        is_good: step.outcome.is_ok(),
        outcome: step.outcome.clone().unwrap_or_else(|error| error),
        took_ms: u64::try_from(step.took.as_millis()).unwrap_or(u64::MAX),
    });
    Ok(Json(DestinationTry {
        is_good: tried.is_good(),
        steps: steps.collect(),
        breaches: order.limits.check(&facts).into_iter().map(|breach| breach.text()).collect(),
    }))
}

fn step_word(step: ProbeStepName) -> TryStepName {
    match step {
        ProbeStepName::Resolve => TryStepName::Resolve,
        ProbeStepName::Connect => TryStepName::Connect,
        ProbeStepName::Tls => TryStepName::Tls,
        ProbeStepName::Handshake => TryStepName::Handshake,
        ProbeStepName::Application => TryStepName::Application,
        ProbeStepName::Publish => TryStepName::Publish,
    }
}

/// Remove a destination, from all channels too
#[utoipa::path(delete, path = "/destinations/{destination}", params(("destination" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_destination(&name, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}
