//! Depots: object storage that takes are copied to.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_relay::{ChannelName, printable};
use waverant_store::Secret;

use super::auth::SignedIn;
use super::error::Body;
use super::{ApiError, ApiState};
use crate::library::DepotClient;

/// A depot to be made.
#[derive(Deserialize, ToSchema)]
pub(crate) struct AddDepot {
    /// Its name here: small letters, digits and hyphens.
    name: String,
    /// Where it answers: `https://host`, or `http://host:port` in a network that you trust.
    endpoint: String,
    /// The region that requests are signed for.
    #[serde(default = "usual_region")]
    region: String,
    /// The bucket.
    bucket: String,
    /// What the keys of all objects begin with.
    #[serde(default)]
    prefix: String,
    /// Who signs requests.
    access_key: String,
    /// What requests are signed with; it is not shown again.
    secret_key: String,
}

fn usual_region() -> String {
    "us-east-1".to_owned()
}

/// A depot without its secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Depot {
    /// Its name here.
    name: String,
    /// Where it answers.
    endpoint: String,
    /// The region that requests are signed for.
    region: String,
    /// The bucket.
    bucket: String,
    /// What the keys of all objects begin with.
    prefix: String,
    /// Who signs requests.
    access_key: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    created_at: OffsetDateTime,
}

/// What a try of a depot came to.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DepotTry {
    /// True if an object could be written and removed.
    is_good: bool,
    /// Why not.
    reason: Option<String>,
}

impl From<waverant_store::Depot> for Depot {
    fn from(from: waverant_store::Depot) -> Self {
        Self {
            name: from.name,
            endpoint: from.endpoint,
            region: from.region,
            bucket: from.bucket,
            prefix: from.prefix,
            access_key: from.access_key,
            created_at: from.created_at,
        }
    }
}

/// List depots
#[utoipa::path(get, path = "/depots", responses((status = 200, body = Vec<Depot>)))]
pub(super) async fn list_depots(State(state): State<ApiState>, _: SignedIn) -> Result<Json<Vec<Depot>>, ApiError> {
    Ok(Json(state.house.store.depots().await?.into_iter().map(Depot::from).collect()))
}

/// Add a depot
#[utoipa::path(post, path = "/depots", request_body = AddDepot, responses((status = 201, body = Depot)))]
pub(super) async fn add_depot(
    State(state): State<ApiState>,
    _: SignedIn,
    Body(form): Body<AddDepot>,
) -> Result<(StatusCode, Json<Depot>), ApiError> {
    let name: ChannelName = form.name.parse().map_err(|error| ApiError::invalid("name", error))?;
    let endpoint = form.endpoint.trim().trim_end_matches('/').to_owned();
    if !["https://", "http://"].iter().any(|scheme| endpoint.strip_prefix(scheme).is_some_and(|host| !host.is_empty()))
    {
        let told = format!("`{}` stands where https://host or http://host:port was expected", printable(&endpoint, 80));
        return Err(ApiError::invalid("endpoint", told));
    }
    for (field, text, longest) in [
        ("endpoint", &endpoint, 255),
        ("region", &form.region, 64),
        ("bucket", &form.bucket, 64),
        ("access_key", &form.access_key, 128),
    ] {
        let length = text.trim().chars().count();
        if length == 0 || length > longest {
            return Err(ApiError::invalid(field, format!("it has {length} characters; 1 to {longest} are allowed")));
        }
    }
    for (field, text, longest) in [("prefix", &form.prefix, 160), ("secret_key", &form.secret_key, 512)] {
        let length = text.chars().count();
        if length > longest {
            return Err(ApiError::invalid(field, format!("it has {length} characters; {longest} are allowed at most")));
        }
    }
    let depot = waverant_store::Depot {
        name: name.to_string(),
        endpoint,
        region: form.region.trim().to_owned(),
        bucket: form.bucket.trim().to_owned(),
        prefix: form.prefix.trim_matches('/').to_owned(),
        access_key: form.access_key.trim().to_owned(),
        secret_key: Secret::new(form.secret_key),
        created_at: OffsetDateTime::now_utc(),
    };
    DepotClient::new(&depot).map_err(|error| ApiError::invalid("endpoint", error))?;
    state.house.store.add_depot(&depot).await?;
    Ok((StatusCode::CREATED, Json(depot.into())))
}

/// Remove a depot; what is there stays there
#[utoipa::path(delete, path = "/depots/{depot}", params(("depot" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_depot(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.store.remove_depot(&name).await?;
    state.house.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Try a depot: write an object and remove it
#[utoipa::path(post, path = "/depots/{depot}/try", params(("depot" = String, Path)), responses((status = 200, body = DepotTry)))]
pub(super) async fn try_depot(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<Json<DepotTry>, ApiError> {
    let depot = state.house.store.depot(&name).await?;
    let tried = match DepotClient::new(&depot) {
        Ok(client) => client.try_out().await,
        Err(error) => Err(error),
    };
    Ok(Json(DepotTry { is_good: tried.is_ok(), reason: tried.err() }))
}
