use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_relay::{AudioPick, LegAddress, StreamFacts};
use waverant_store::{DestinationSettings, Secret, Sending, SrtTerms};

use super::auth::SignedIn;
use super::error::Body;
use super::model::{AudioOtherwise, Destination};
use super::srt_form::ChangeSrt;
use super::{ApiError, ApiState};
use crate::house::{LegOrder, SheetForm};
use crate::leg::probe;
use waverant_net::read_authority;

/// The longest name that the records hold.
const MAX_NAME: usize = 64;

/// The longest address that the records hold.
const MAX_ADDRESS: usize = 255;

/// The longest chain of certificates; the records hold 64 KiB.
const MAX_AUTHORITY: usize = 48 * 1024;

/// How long packets are collected where nobody says otherwise, and at most.
const DEFAULT_BATCH_MS: u16 = 20;
const MAX_BATCH_MS: u16 = 1_000;

/// The longest key that fits when sealed.
const MAX_KEY: usize = 512;

/// A destination to be made.
#[derive(Deserialize, ToSchema)]
pub(crate) struct AddDestination {
    /// A name of your own.
    name: String,
    /// Where it is, as in `rtmp://live.example.org/in`, `rtmps://` for TLS, or
    /// `srt://live.example.org:9000`.
    address: String,
    /// The certificate (PEM) of the platform's own authority. Without it the platform's certificate
    /// must be signed by one that this machine trusts.
    authority: Option<String>,
    /// The key that the platform gave you; over SRT the stream id, if it asks for one. It is kept
    /// encrypted and not shown again.
    #[serde(default)]
    key: String,
    /// How long packets are collected before they are sent, up to 1000. Default 20; 0 for a preview.
    batch_ms: Option<u16>,
    /// What it accepts.
    #[serde(default)]
    limits: SheetForm,
    /// The track of sound that it gets: `number:2`, `language:de` or `name:commentary`.
    audio: Option<String>,
    /// What it gets when there is no such track.
    #[serde(default)]
    audio_otherwise: AudioOtherwise,
    /// Latency and passphrase, over SRT.
    #[serde(default)]
    srt: ChangeSrt,
}

/// What is to change; what is left out stays.
#[derive(Deserialize, ToSchema)]
pub(crate) struct ChangeDestination {
    /// Where it is.
    address: Option<String>,
    /// The certificate (PEM) of the platform's own authority; empty for none.
    authority: Option<String>,
    /// The key that the platform gave you; over SRT the stream id, empty for none.
    key: Option<String>,
    /// How long packets are collected before they are sent.
    batch_ms: Option<u16>,
    /// What it accepts, as a whole.
    limits: Option<SheetForm>,
    /// The track of sound that it gets; empty for all that it takes.
    audio: Option<String>,
    /// What it gets when there is no such track.
    audio_otherwise: Option<AudioOtherwise>,
    /// Latency and passphrase, over SRT.
    #[serde(default)]
    srt: ChangeSrt,
}

/// How far a try is to go.
#[derive(Deserialize, ToSchema)]
pub(crate) struct TryDestination {
    /// Also show it the key and ask it to take a stream. It may tell the world that a show begins.
    #[serde(default)]
    publishes: bool,
}

/// What a try came to.
#[derive(Serialize, ToSchema)]
pub(crate) struct DestinationTry {
    /// True if every step went well.
    is_good: bool,
    /// The steps, up to the first that failed.
    steps: Vec<TryStep>,
    /// What of its limits sheet is not kept already.
    breaches: Vec<String>,
}

/// One step of a try.
#[derive(Serialize, ToSchema)]
pub(crate) struct TryStep {
    /// `resolve`, `connect`, `tls`, `handshake`, `application` or `publish`.
    step: String,
    /// Whether it went well.
    is_good: bool,
    /// What was found, or what went wrong.
    outcome: String,
    /// How long it took.
    took_ms: u64,
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

fn checked_address(address: &str) -> Result<LegAddress, ApiError> {
    let parsed: LegAddress = address.parse().map_err(|error| ApiError::invalid("address", error))?;
    if parsed.to_string().len() > MAX_ADDRESS {
        return Err(ApiError::invalid("address", format!("it is longer than {MAX_ADDRESS} characters")));
    }
    Ok(parsed)
}

/// The terms of SRT; a destination over RTMP has none that could be changed.
fn checked_srt(address: &LegAddress, change: ChangeSrt, present: SrtTerms) -> Result<SrtTerms, ApiError> {
    if !address.is_srt() && !change.is_empty() {
        let detail = format!("{address} is not SRT; latency and passphrase are for an address that begins with srt://");
        return Err(ApiError::invalid("srt", detail));
    }
    change.apply(present)
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

fn checked_batch(batch_ms: u16) -> Result<u16, ApiError> {
    if batch_ms > MAX_BATCH_MS {
        return Err(ApiError::invalid("batch_ms", format!("{batch_ms} is more than {MAX_BATCH_MS}")));
    }
    Ok(batch_ms)
}

fn checked_limits(form: &SheetForm) -> Result<Option<String>, ApiError> {
    match form.fault() {
        Some(fault) => Err(ApiError::invalid("limits", fault)),
        None => Ok(form.kept()),
    }
}

fn checked_audio(audio: Option<&str>) -> Result<Option<String>, ApiError> {
    let audio = audio.map(str::trim).filter(|audio| !audio.is_empty());
    let parsed = audio.map(str::parse::<AudioPick>).transpose();
    Ok(parsed.map_err(|error| ApiError::invalid("audio", error))?.map(|pick| pick.to_string()))
}

/// Listeners of SRT may do without a stream id; platforms of RTMP want a key.
fn checked_key(address: &LegAddress, key: &str) -> Result<Secret, ApiError> {
    let key = key.trim();
    let is_missing = key.is_empty() && !address.is_srt();
    if is_missing || key.len() > MAX_KEY || key.chars().any(char::is_control) {
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
    let address = checked_address(&form.address)?;
    let key = checked_key(&address, &form.key)?;
    let settings = DestinationSettings {
        address: address.to_string(),
        authority: checked_authority(form.authority.as_deref())?.map(str::to_owned),
        batch_ms: checked_batch(form.batch_ms.unwrap_or(DEFAULT_BATCH_MS))?,
        limits_sheet: checked_limits(&form.limits)?,
        audio_pick: checked_audio(form.audio.as_deref())?,
        or_no_audio: form.audio_otherwise == AudioOtherwise::None,
        srt: checked_srt(&address, form.srt, SrtTerms::default())?,
    };
    let added = state.house.store.add_destination(name, &settings, &key, OffsetDateTime::now_utc()).await?;
    Ok((StatusCode::CREATED, Json(added.into())))
}

/// Change a destination; legs that use it redial if address, key or authority change
#[utoipa::path(patch, path = "/destinations/{destination}", params(("destination" = String, Path)), request_body = ChangeDestination, responses((status = 200, body = Destination)))]
pub(super) async fn change_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    Body(form): Body<ChangeDestination>,
) -> Result<Json<Destination>, ApiError> {
    let waverant_store::Destination { settings: present, key: present_key, .. } =
        state.house.store.destination(&name).await?;
    let address = checked_address(form.address.as_deref().unwrap_or(&present.address))?;
    let settings = DestinationSettings {
        address: address.to_string(),
        authority: match &form.authority {
            Some(authority) => checked_authority(Some(authority))?.map(str::to_owned),
            None => present.authority,
        },
        batch_ms: checked_batch(form.batch_ms.unwrap_or(present.batch_ms))?,
        limits_sheet: form.limits.as_ref().map_or(Ok(present.limits_sheet), checked_limits)?,
        audio_pick: match &form.audio {
            Some(audio) => checked_audio(Some(audio))?,
            None => present.audio_pick,
        },
        or_no_audio: form.audio_otherwise.map_or(present.or_no_audio, |or| or == AudioOtherwise::None),
        srt: checked_srt(&address, form.srt, present.srt)?,
    };
    // A key that SRT could do without may be missing now.
    let key = checked_key(&address, form.key.as_deref().unwrap_or_else(|| present_key.reveal()))?;
    let changed = state.house.store.change_destination(&name, &settings, Some(&key)).await?;
    state.house.reload().await?;
    Ok(Json(changed.into()))
}

/// Try a destination step by step, without going live
#[utoipa::path(post, path = "/destinations/{destination}/try", params(("destination" = String, Path)), request_body = TryDestination, responses((status = 200, body = DestinationTry)))]
pub(super) async fn try_destination(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    Body(form): Body<TryDestination>,
) -> Result<Json<DestinationTry>, ApiError> {
    let destination = state.house.store.destination(&name).await?;
    let tried = probe(&destination, form.publishes).await;
    let order = LegOrder::new(destination, Sending::default());
    let facts = StreamFacts { is_secure: order.is_secure(), ..StreamFacts::default() };
    let steps = tried.steps.iter().map(|step| TryStep {
        step: step.name.to_owned(),
        is_good: step.outcome.is_ok(),
        outcome: step.outcome.clone().unwrap_or_else(|error| error),
        took_ms: u64::try_from(step.took.as_millis()).unwrap_or(u64::MAX),
    });
    Ok(Json(DestinationTry {
        is_good: tried.is_good(),
        steps: steps.collect(),
        breaches: order.limits.check(&facts).into_iter().map(|breach| breach.text).collect(),
    }))
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
