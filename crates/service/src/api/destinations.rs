use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_rtmp::RtmpAddress;
use waverant_store::Secret;

use super::auth::SignedIn;
use super::error::Body;
use super::model::Destination;
use super::{ApiError, ApiState};
use crate::net::read_authority;

/// The longest name that the records hold.
const MAX_NAME: usize = 64;

/// The longest address that the records hold.
const MAX_ADDRESS: usize = 255;

/// The longest chain of certificates; the records hold 64 KiB.
const MAX_AUTHORITY: usize = 48 * 1024;

/// The longest key that fits when sealed.
const MAX_KEY: usize = 512;

/// A destination to be made.
#[derive(Deserialize, ToSchema)]
pub(crate) struct AddDestination {
    /// A name of your own.
    name: String,
    /// Where it is, as in `rtmp://live.example.org/in`, or `rtmps://` for TLS.
    address: String,
    /// The certificate (PEM) of the platform's own authority. Without it the platform's certificate
    /// must be signed by one that this machine trusts.
    authority: Option<String>,
    /// The key that the platform gave you. It is kept encrypted and not shown again.
    key: String,
}

/// What is to change; what is left out stays.
#[derive(Deserialize, ToSchema)]
pub(crate) struct ChangeDestination {
    /// Where it is.
    address: Option<String>,
    /// The certificate (PEM) of the platform's own authority; empty for none.
    authority: Option<String>,
    /// The key that the platform gave you.
    key: Option<String>,
}

fn checked_name(name: &str) -> Result<&str, ApiError> {
    let length = name.chars().count();
    let legal = |character: char| !character.is_control() && character != '/';
    if length == 0 || length > MAX_NAME || name.trim() != name || !name.chars().all(legal) {
        let detail = format!("a name has 1 to {MAX_NAME} characters, no slash, and no space at its ends");
        return Err(ApiError::invalid("name", detail));
    }
    Ok(name)
}

fn checked_address(address: &str) -> Result<String, ApiError> {
    let parsed: RtmpAddress = address.parse().map_err(|error| ApiError::invalid("address", error))?;
    let text = parsed.to_string();
    if text.len() > MAX_ADDRESS {
        return Err(ApiError::invalid("address", format!("it is longer than {MAX_ADDRESS} characters")));
    }
    Ok(text)
}

fn checked_authority(authority: Option<&str>) -> Result<Option<&str>, ApiError> {
    let authority = authority.map(str::trim).filter(|pem| !pem.is_empty());
    if let Some(pem) = authority {
        if pem.len() > MAX_AUTHORITY {
            return Err(ApiError::invalid("authority", format!("it is longer than {MAX_AUTHORITY} bytes")));
        }
        read_authority(pem).map_err(|error| ApiError::invalid("authority", error))?;
    }
    Ok(authority)
}

fn checked_key(key: &str) -> Result<Secret, ApiError> {
    let key = key.trim();
    if key.is_empty() || key.len() > MAX_KEY || key.chars().any(char::is_control) {
        return Err(ApiError::invalid("key", format!("a key has 1 to {MAX_KEY} characters")));
    }
    Ok(Secret::new(key))
}

/// List destinations, without their keys
#[utoipa::path(get, path = "/destinations", responses((status = 200, body = Vec<Destination>)))]
pub(super) async fn list_destinations(
    State(state): State<ApiState>,
    _: SignedIn,
) -> Result<Json<Vec<Destination>>, ApiError> {
    let destinations = state.house.store.destinations().await?;
    Ok(Json(destinations.into_iter().map(Destination::from).collect()))
}

/// Add a destination
#[utoipa::path(post, path = "/destinations", request_body = AddDestination, responses((status = 201, body = Destination)))]
pub(super) async fn add_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Body(form): Body<AddDestination>,
) -> Result<(StatusCode, Json<Destination>), ApiError> {
    let name = checked_name(&form.name)?;
    let (address, key) = (checked_address(&form.address)?, checked_key(&form.key)?);
    let authority = checked_authority(form.authority.as_deref())?;
    let added = state.house.store.add_destination(name, &address, authority, &key, OffsetDateTime::now_utc()).await?;
    Ok((StatusCode::CREATED, Json(added.into())))
}

/// Change a destination; legs that use it redial
#[utoipa::path(patch, path = "/destinations/{destination}", params(("destination" = String, Path)), request_body = ChangeDestination, responses((status = 200, body = Destination)))]
pub(super) async fn change_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    Body(form): Body<ChangeDestination>,
) -> Result<Json<Destination>, ApiError> {
    let present = state.house.store.destination(&name).await?;
    let address = form.address.as_deref().map_or(Ok(present.address), checked_address)?;
    let authority = match &form.authority {
        Some(authority) => checked_authority(Some(authority))?,
        None => present.authority.as_deref(),
    };
    let key = form.key.as_deref().map(checked_key).transpose()?;
    let changed = state.house.store.change_destination(&name, &address, authority, key.as_ref()).await?;
    state.house.reload().await?;
    Ok(Json(changed.into()))
}

/// Remove a destination, from all channels too
#[utoipa::path(delete, path = "/destinations/{destination}", params(("destination" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    state.house.store.remove_destination(&name).await?;
    state.house.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}
