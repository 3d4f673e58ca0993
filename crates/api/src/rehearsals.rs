use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_house::leg_order;
use waverant_model::{BeginRehearsal, Rehearsal};
use waverant_sources::rehearse;
use waverant_store::Sending;

use crate::channels::require_known_destination;
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// Length of a rehearsal.
const DEFAULT_SECONDS: u32 = 20;
const MAX_SECONDS: u32 = 3_600;

/// Run a channel on the built-in test picture, to the built-in sink or to chosen destinations
#[utoipa::path(post, path = "/channels/{channel}/rehearsals", params(("channel" = String, Path)), request_body = BeginRehearsal, responses((status = 201, body = Rehearsal)))]
pub(super) async fn begin_rehearsal(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<BeginRehearsal>,
) -> Result<(StatusCode, Json<Rehearsal>), ApiError> {
    let seconds = form.seconds.unwrap_or(DEFAULT_SECONDS);
    if !(1..=MAX_SECONDS).contains(&seconds) {
        return Err(ApiError::invalid("seconds", format!("{seconds} is not between 1 and {MAX_SECONDS}")));
    }
    let mut legs = Vec::new();
    for destination in &form.destinations {
        require_known_destination(&state, &caller, &name, destination)?;
        let destination = state.house.store().destination(destination).await?;
        legs.push(leg_order(destination, Sending { switched_on: true, ..Sending::default() }));
    }
    let directory = state.house.directory();
    let rules = directory.channel_named(&name);
    let rules = rules.ok_or_else(|| ApiError::NotFound { kind: "channel", name: name.clone() })?;
    let length = Duration::from_secs(seconds.into());
    let begun = rehearse(&state.house, rules, legs, length, &caller.actor).await;
    let session =
        begun.map_err(|reason| ApiError::Conflict(format!("No rehearsal can begin on `{name}`: {reason}.")))?;
    Ok((StatusCode::CREATED, Json(Rehearsal { session, seconds })))
}
