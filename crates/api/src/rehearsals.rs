use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_store::Sending;

use super::auth::SignedIn;
use super::error::Body;
use super::{ApiError, ApiState};
use crate::house::LegOrder;
use crate::rehearsal;

/// Length of a rehearsal.
const DEFAULT_SECONDS: u32 = 20;
const MAX_SECONDS: u32 = 3_600;

/// A rehearsal to be held.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct BeginRehearsal {
    /// How long; 1 to 3600, default 20.
    seconds: Option<u32>,
    /// Destinations that it is really sent to; none for the built-in sink only.
    #[serde(default)]
    destinations: Vec<String>,
}

/// A rehearsal that has begun.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Rehearsal {
    /// Its session.
    session: u64,
    /// How long it lasts.
    seconds: u32,
}

/// Run a channel on the built-in test picture, to the built-in sink or to chosen destinations
#[utoipa::path(post, path = "/channels/{channel}/rehearsals", params(("channel" = String, Path)), request_body = BeginRehearsal, responses((status = 201, body = Rehearsal)))]
pub(super) async fn begin_rehearsal(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    Body(form): Body<BeginRehearsal>,
) -> Result<(StatusCode, Json<Rehearsal>), ApiError> {
    let seconds = form.seconds.unwrap_or(DEFAULT_SECONDS);
    if !(1..=MAX_SECONDS).contains(&seconds) {
        return Err(ApiError::invalid("seconds", format!("{seconds} is not between 1 and {MAX_SECONDS}")));
    }
    let channel = state.house.store.channel(&name).await?;
    let mut legs = Vec::new();
    for destination in &form.destinations {
        let destination = state.house.store.destination(destination).await?;
        legs.push(LegOrder::new(destination, Sending { switched_on: true, ..Sending::default() }));
    }
    let directory = state.house.directory();
    let rules = directory.channel(channel.id).ok_or(ApiError::NotFound { kind: "channel", name: name.clone() })?;
    let begun = rehearsal::begin(&state.house, rules, legs, Duration::from_secs(seconds.into())).await;
    let busy = |reason| ApiError::Conflict(format!("No rehearsal can begin on `{name}`: {reason}."));
    let session = begun.map_err(busy)?;
    Ok((StatusCode::CREATED, Json(Rehearsal { session, seconds })))
}
