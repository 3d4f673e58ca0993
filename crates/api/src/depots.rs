//! Depots: object storage that takes are copied to.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_house::HouseError;
use waverant_model::{AddDepot, ChangeDepot, Depot, DepotTry};

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell};

/// List depots
#[utoipa::path(get, path = "/depots", responses((status = 200, body = Vec<Depot>)))]
pub(super) async fn list_depots(State(state): State<ApiState>) -> Result<Json<Vec<Depot>>, ApiError> {
    Ok(Json(state.house.store().depots().await?.into_iter().map(tell::depot).collect()))
}

/// Add a depot
#[utoipa::path(post, path = "/depots", request_body = AddDepot, responses((status = 201, body = Depot)))]
pub(super) async fn add_depot(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddDepot>,
) -> Result<(StatusCode, Detail, Json<Depot>), ApiError> {
    let added = tell::depot(state.house.add_depot(form, &caller.actor).await?);
    Ok((StatusCode::CREATED, Detail::made(format!("depot {}", added.name), &added), Json(added)))
}

/// Change a depot
#[utoipa::path(patch, path = "/depots/{depot}", params(("depot" = String, Path)), request_body = ChangeDepot, responses((status = 200, body = Depot)))]
pub(super) async fn change_depot(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<ChangeDepot>,
) -> Result<(Detail, Json<Depot>), ApiError> {
    let before = state.house.store().depots().await?.into_iter().find(|depot| depot.name == name).map(tell::depot);
    let after = tell::depot(state.house.change_depot(&name, &form, &caller.actor).await?);
    Ok((Detail::changed(&before, &Some(&after)), Json(after)))
}

/// Remove a depot; what is there stays there
#[utoipa::path(delete, path = "/depots/{depot}", params(("depot" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_depot(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.remove_depot(&name, &caller.actor).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Try a depot: write an object and remove it
#[utoipa::path(post, path = "/depots/{depot}/try", params(("depot" = String, Path)), responses((status = 200, body = DepotTry)))]
pub(super) async fn try_depot(
    State(state): State<ApiState>,
    Path(name): Path<String>,
) -> Result<Json<DepotTry>, ApiError> {
    match state.house.try_depot(&name).await {
        Ok(()) => Ok(Json(DepotTry { is_good: true, reason: None })),
        Err(HouseError::Depot(error)) => Ok(Json(DepotTry { is_good: false, reason: Some(error.to_string()) })),
        Err(error) => Err(error.into()),
    }
}
