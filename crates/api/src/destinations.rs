use std::net::SocketAddr;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::StatusCode;
use waverant_house::{leg_destination, leg_order};
use waverant_model::{
    AddDestination, ChangeDestination, Destination, DestinationTry, PresentPassword, RevealedDestination,
    TryDestination, TryStep, TryStepName,
};
use waverant_relay::StreamFacts;
use waverant_show::{ProbeStepName, probe};
use waverant_store::Sending;

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::proof::require_all;
use crate::rights::{Caller, Sight};
use crate::{ApiError, ApiState, tell};

/// List destinations, without their keys
#[utoipa::path(get, path = "/destinations", responses((status = 200, body = Vec<Destination>)))]
pub(super) async fn list_destinations(
    State(state): State<ApiState>,
    sight: Sight,
) -> Result<Json<Vec<Destination>>, ApiError> {
    let mut destinations = state.house.store().destinations().await?;
    if let Some(channels) = sight.channels() {
        let seen = state.house.store().destinations_of(&channels).await?;
        destinations.retain(|destination| seen.iter().any(|own| own.destination.id == destination.id));
    }
    Ok(Json(destinations.into_iter().map(tell::destination).collect()))
}

/// Add a destination
#[utoipa::path(post, path = "/destinations", request_body = AddDestination, responses((status = 201, body = Destination)))]
pub(super) async fn add_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddDestination>,
) -> Result<(StatusCode, Detail, Json<Destination>), ApiError> {
    let added = tell::destination(state.house.add_destination(form, &caller.actor).await?);
    let detail = Detail::made(format!("destination {}", added.name), &added);
    Ok((StatusCode::CREATED, detail, Json(added)))
}

/// Change a destination; legs that use it redial if address, key or authority change
#[utoipa::path(patch, path = "/destinations/{destination}", params(("destination" = String, Path)), request_body = ChangeDestination, responses((status = 200, body = Destination)))]
pub(super) async fn change_destination(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<ChangeDestination>,
) -> Result<(Detail, Json<Destination>), ApiError> {
    let before = tell::destination(state.house.store().destination(&name).await?);
    let has_new_key = form.key.is_some();
    let after = tell::destination(state.house.change_destination(&name, form, &caller.actor).await?);
    Ok((Detail::changed(&before, &after).with_new_secret("key", has_new_key), Json(after)))
}

/// Tell the key of a destination, to who proves to be an administrator; it is written down who asked
#[utoipa::path(post, path = "/destinations/{destination}/reveal", params(("destination" = String, Path)), request_body = PresentPassword, responses((status = 200, body = RevealedDestination)))]
pub(super) async fn reveal_destination(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<PresentPassword>,
) -> Result<Json<RevealedDestination>, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    let destination = state.house.store().destination(&name).await?;
    tracing::warn!(destination = name, by = %caller.actor, "the key of a destination is told");
    let passphrase = destination.settings.srt.passphrase.map(|passphrase| passphrase.reveal().to_owned());
    Ok(Json(RevealedDestination { key: destination.key.reveal().to_owned(), passphrase }))
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
) -> Result<(StatusCode, Detail), ApiError> {
    let before = tell::destination(state.house.store().destination(&name).await?);
    state.house.remove_destination(&name, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::removed(&before)))
}
