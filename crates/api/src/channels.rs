use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_relay::{AddressRange, ChannelName};
use waverant_rtmp::password_digest;
use waverant_store::{ChannelSettings, KeyPassword, NewStreamKey, RecordingSettings, Secret, SrtTerms};

use super::auth::SignedIn;
use super::error::Body;
use super::model::{
    Channel, ChannelDestination, EncoderFields, KeyRight, NewKey, SlateChoice, SrtFields, StreamKey, Takeover,
};
use super::recording_form::ChangeRecording;
use super::srt_form::ChangeSrt;
use super::{ApiError, ApiState};
use crate::ingest::GUARDED_APP;

/// Hold time of a new channel.
const DEFAULT_HOLD_MS: u32 = 10_000;

/// The longest hold time: an hour.
const MAX_HOLD_MS: u32 = 3_600_000;

const MAX_TITLE: usize = 160;
const MAX_LABEL: usize = 96;

/// The path part of the encoder's address.
const APP: &str = "in";

/// The path part of a player's address.
const PLAYER_APP: &str = "out";

/// A channel to be made.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct AddChannel {
    /// Name in addresses: small letters, digits and hyphens.
    name: String,
    /// What people read; the name if left out.
    title: Option<String>,
    /// How long a session waits for a lost publisher. Default 10000.
    hold_ms: Option<u32>,
    /// What is recorded. By default all, as MP4, and kept for good.
    #[serde(default)]
    recording: ChangeRecording,
    /// What becomes of a second encoder. Default `refuse`.
    #[serde(default)]
    takeover: Takeover,
    /// What is sent while a session waits for its encoder. Default `built_in`.
    #[serde(default)]
    slate: SlateChoice,
    /// What it asks of encoders and players over SRT. By default 500 ms and no passphrase.
    #[serde(default)]
    srt: ChangeSrt,
}

/// What is to change; what is left out stays.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct ChangeChannel {
    /// What people read.
    title: Option<String>,
    /// How long a session waits for a lost publisher, up to an hour. Holds from the next session.
    hold_ms: Option<u32>,
    /// What is recorded.
    #[serde(default)]
    recording: ChangeRecording,
    /// What becomes of a second encoder; in mid-show too.
    takeover: Option<Takeover>,
    /// What is sent while a session waits for its encoder; in mid-show too.
    slate: Option<SlateChoice>,
    /// What it asks of encoders and players over SRT.
    #[serde(default)]
    srt: ChangeSrt,
}

/// A stream key to be made.
#[derive(Debug, Deserialize, ToSchema)]
pub(crate) struct AddKey {
    /// For whom: a person or a device.
    label: String,
    /// What it opens the channel for. Default `publish`.
    #[serde(default)]
    right: KeyRight,
    /// 0 is the highest, and the default; an encoder with a key of lower rank, up to 9, is a backup.
    #[serde(default)]
    rank: u8,
    /// When it stops opening the gate.
    #[serde(default, with = "time::serde::rfc3339::option")]
    expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from, as in `192.0.2.7` or `192.0.2.0/24`, up to 8;
    /// none for anywhere.
    #[serde(default)]
    allowed_from: Vec<String>,
}

/// The most addresses and networks of a key.
const MAX_RANGES: usize = 8;

fn checked_ranges(ranges: &[String]) -> Result<Vec<String>, ApiError> {
    if ranges.len() > MAX_RANGES {
        return Err(ApiError::invalid("allowed_from", format!("{} are more than {MAX_RANGES}", ranges.len())));
    }
    let parsed = ranges.iter().map(|range| range.parse::<AddressRange>());
    let parsed: Result<Vec<_>, _> = parsed.collect();
    let parsed = parsed.map_err(|error| ApiError::invalid("allowed_from", error))?;
    Ok(parsed.into_iter().map(|range| range.to_string()).collect())
}

/// The lowest rank of a key.
const LOWEST_RANK: u8 = 9;

fn checked_hold(hold_ms: u32) -> Result<u32, ApiError> {
    if hold_ms > MAX_HOLD_MS {
        return Err(ApiError::invalid("hold_ms", format!("{hold_ms} is more than {MAX_HOLD_MS}, which is an hour")));
    }
    Ok(hold_ms)
}

/// The rules after a change; a depot that is new among them must be there.
async fn checked_recording(
    state: &ApiState,
    change: ChangeRecording,
    present: RecordingSettings,
) -> Result<RecordingSettings, ApiError> {
    let before = present.depot.clone();
    let settings = change.apply(present)?;
    if let Some(depot) = settings.depot.as_ref().filter(|depot| Some(*depot) != before.as_ref()) {
        state.house.store.depot(depot).await?;
    }
    Ok(settings)
}

fn checked_text(field: &'static str, text: &str, longest: usize) -> Result<String, ApiError> {
    let length = text.trim().chars().count();
    if length == 0 || length > longest {
        return Err(ApiError::invalid(field, format!("it has {length} characters; 1 to {longest} are allowed")));
    }
    Ok(text.trim().to_owned())
}

pub(super) async fn describe(
    state: &ApiState,
    headers: &HeaderMap,
    channel: waverant_store::Channel,
) -> Result<Channel, ApiError> {
    let all = state.house.store.channel_destinations().await?;
    let own = all.into_iter().filter(|destination| destination.channel_id == channel.id);
    let own = own.map(ChannelDestination::from).collect();
    Ok(Channel::new(channel, address(state, headers, APP), own))
}

/// List channels
#[utoipa::path(get, path = "/channels", responses((status = 200, body = Vec<Channel>)))]
pub(super) async fn list_channels(
    State(state): State<ApiState>,
    _: SignedIn,
    headers: HeaderMap,
) -> Result<Json<Vec<Channel>>, ApiError> {
    let all = state.house.store.channel_destinations().await?;
    let channels = state.house.store.channels().await?.into_iter().map(|channel| {
        let own = all.iter().filter(|destination| destination.channel_id == channel.id).cloned();
        let own = own.map(ChannelDestination::from).collect();
        Channel::new(channel, address(&state, &headers, APP), own)
    });
    Ok(Json(channels.collect()))
}

/// Add a channel
#[utoipa::path(post, path = "/channels", request_body = AddChannel, responses((status = 201, body = Channel)))]
pub(super) async fn add_channel(
    State(state): State<ApiState>,
    _: SignedIn,
    headers: HeaderMap,
    Body(form): Body<AddChannel>,
) -> Result<(StatusCode, Json<Channel>), ApiError> {
    let name: ChannelName = form.name.parse().map_err(|error| ApiError::invalid("name", error))?;
    let settings = ChannelSettings {
        title: checked_text("title", form.title.as_deref().unwrap_or(name.as_str()), MAX_TITLE)?,
        hold_ms: checked_hold(form.hold_ms.unwrap_or(DEFAULT_HOLD_MS))?,
        recording: checked_recording(&state, form.recording, RecordingSettings::default()).await?,
        replaces: form.takeover == Takeover::Replace,
        slate: form.slate.into(),
        srt: form.srt.apply(SrtTerms::default())?,
    };
    let channel = state.house.store.add_channel(name.as_str(), &settings, OffsetDateTime::now_utc()).await?;
    state.house.reload().await?;
    Ok((StatusCode::CREATED, Json(describe(&state, &headers, channel).await?)))
}

/// Show a channel
#[utoipa::path(get, path = "/channels/{channel}", params(("channel" = String, Path)), responses((status = 200, body = Channel)))]
pub(super) async fn show_channel(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<Json<Channel>, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    Ok(Json(describe(&state, &headers, channel).await?))
}

/// Change a channel
#[utoipa::path(patch, path = "/channels/{channel}", params(("channel" = String, Path)), request_body = ChangeChannel, responses((status = 200, body = Channel)))]
pub(super) async fn change_channel(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<ChangeChannel>,
) -> Result<Json<Channel>, ApiError> {
    let present = state.house.store.channel(&name).await?.settings;
    let settings = ChannelSettings {
        title: checked_text("title", &form.title.unwrap_or(present.title), MAX_TITLE)?,
        hold_ms: checked_hold(form.hold_ms.unwrap_or(present.hold_ms))?,
        recording: checked_recording(&state, form.recording, present.recording).await?,
        replaces: form.takeover.map_or(present.replaces, |takeover| takeover == Takeover::Replace),
        slate: form.slate.map_or(present.slate, Into::into),
        srt: form.srt.apply(present.srt)?,
    };
    let channel = state.house.store.change_channel(&name, &settings).await?;
    state.house.reload().await?;
    Ok(Json(describe(&state, &headers, channel).await?))
}

/// Remove a channel with its keys; its sessions and takes stay
#[utoipa::path(delete, path = "/channels/{channel}", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_channel(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    if state.house.show(channel.id).is_some() {
        return Err(ApiError::Conflict(format!("The channel `{name}` is on air. End its session first.")));
    }
    state.house.store.remove_channel(&name).await?;
    let (shelf, id) = (state.house.slates.clone(), channel.id);
    if !matches!(tokio::task::spawn_blocking(move || shelf.remove(id)).await, Ok(Ok(_))) {
        tracing::warn!(channel = name, "the slate of a removed channel is left behind");
    }
    state.house.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List a channel's stream keys, without the keys themselves
#[utoipa::path(get, path = "/channels/{channel}/keys", params(("channel" = String, Path)), responses((status = 200, body = Vec<StreamKey>)))]
pub(super) async fn list_keys(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<Json<Vec<StreamKey>>, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    let keys = state.house.store.keys(channel.id).await?;
    Ok(Json(keys.into_iter().map(StreamKey::from).collect()))
}

/// Make a stream key; this answer is the only place where it is shown
#[utoipa::path(post, path = "/channels/{channel}/keys", params(("channel" = String, Path)), request_body = AddKey, responses((status = 201, body = NewKey)))]
pub(super) async fn add_key(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    headers: HeaderMap,
    Body(form): Body<AddKey>,
) -> Result<(StatusCode, Json<NewKey>), ApiError> {
    let now = OffsetDateTime::now_utc();
    if form.expires_at.is_some_and(|end| end <= now) {
        return Err(ApiError::invalid("expires_at", "it is in the past"));
    }
    if form.rank > LOWEST_RANK {
        return Err(ApiError::invalid("rank", format!("{} is not between 0 and {LOWEST_RANK}", form.rank)));
    }
    let label = checked_text("label", &form.label, MAX_LABEL)?;
    let channel = state.house.store.channel(&name).await?;
    let new = NewStreamKey {
        right: form.right.into(),
        rank: form.rank,
        label,
        expires_at: form.expires_at,
        allowed_from: checked_ranges(&form.allowed_from)?,
    };
    let (key, secret) = state.house.store.add_key(channel.id, &new, now).await?;
    let salt = Secret::new_salt();
    let digest = Secret::new(password_digest(secret.prefix(), &salt, secret.reveal()));
    let password = KeyPassword { salt, digest };
    state.house.store.set_key_password(key.id, &password).await?;
    state.house.reload().await?;
    let app = if form.right == KeyRight::Publish { APP } else { PLAYER_APP };
    let server = address(&state, &headers, app);
    let encoder = EncoderFields {
        whole: format!("{server}/{}", secret.reveal()),
        guarded_server: address(&state, &headers, GUARDED_APP),
        user: secret.prefix().to_owned(),
        secure_server: secure_address(&state, &headers, app),
        srt: srt_fields(&state, &headers, &channel.settings.srt, form.right, secret.reveal()),
        server,
        key: secret.reveal().to_owned(),
    };
    Ok((StatusCode::CREATED, Json(NewKey { key: key.into(), encoder })))
}

/// Remove a stream key; a publisher who uses it is ended
#[utoipa::path(delete, path = "/channels/{channel}/keys/{key}", params(("channel" = String, Path), ("key" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_key(
    State(state): State<ApiState>,
    _: SignedIn,
    Path((name, key)): Path<(String, u64)>,
) -> Result<StatusCode, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    state.house.store.remove_key(channel.id, key).await?;
    state.house.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// End the session that is on air; again, to cut off its delayed legs
#[utoipa::path(post, path = "/channels/{channel}/end-session", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn end_session(
    State(state): State<ApiState>,
    SignedIn(user): SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let show = state.house.show(channel_id(&state, &name)?);
    let show = show.ok_or_else(|| ApiError::Conflict(format!("The channel `{name}` is not on air.")))?;
    show.end(&format!("ended by {}", user.name));
    Ok(StatusCode::NO_CONTENT)
}

/// A channel's number from memory: what is on air can be ended while the database is away.
pub(super) fn channel_id(state: &ApiState, name: &str) -> Result<u64, ApiError> {
    let directory = state.house.directory();
    let missing = || ApiError::NotFound { kind: "channel", name: name.to_owned() };
    Ok(directory.channel_named(name).ok_or_else(missing)?.id)
}

/// The address for the encoder's server field.
fn address(state: &ApiState, headers: &HeaderMap, app: &str) -> String {
    let host = shown_host(state, headers);
    match state.ports.rtmp {
        1935 => format!("rtmp://{host}/{app}"),
        port => format!("rtmp://{host}:{port}/{app}"),
    }
}

/// The address for encoders that speak TLS, if that is offered.
fn secure_address(state: &ApiState, headers: &HeaderMap, app: &str) -> Option<String> {
    let host = shown_host(state, headers);
    state.ports.rtmps.map(|port| format!("rtmps://{host}:{port}/{app}"))
}

/// What goes into the fields for SRT.
fn srt_fields(state: &ApiState, headers: &HeaderMap, terms: &SrtTerms, right: KeyRight, key: &str) -> SrtFields {
    let address = format!("srt://{}:{}", shown_host(state, headers), state.ports.srt);
    let mode = if right == KeyRight::Publish { "publish" } else { "request" };
    SrtFields {
        whole: format!("{address}?streamid={key}"),
        stream_id: key.to_owned(),
        long_stream_id: format!("#!::r={key},m={mode}"),
        latency_ms: terms.latency_ms,
        has_passphrase: terms.passphrase.is_some(),
        address,
    }
}

fn shown_host<'a>(state: &'a ApiState, headers: &'a HeaderMap) -> &'a str {
    let asked = headers.get(header::HOST).and_then(|host| host.to_str().ok()).map(host_without_port);
    if state.host.is_empty() { asked.filter(|host| is_host(host)).unwrap_or("127.0.0.1") } else { &state.host }
}

/// A name or an address, and nothing that would make another address of what is shown.
fn is_host(host: &str) -> bool {
    let inside = host.strip_prefix('[').and_then(|host| host.strip_suffix(']'));
    if let Some(address) = inside {
        return address.parse::<std::net::Ipv6Addr>().is_ok();
    }
    let is_label = |label: &str| {
        (1..=63).contains(&label.len()) && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
    };
    host.len() <= 253 && host.split('.').all(is_label)
}

fn host_without_port(host: &str) -> &str {
    match host.rfind(']') {
        Some(end) => &host[..=end],
        None => host.split(':').next().unwrap_or(host),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::name("relay.wexcombe.test:7800", true)]
    #[case::address("192.0.2.7", true)]
    #[case::six("[2001:db8::7]:7800", true)]
    #[case::path("relay.test/x", false)]
    #[case::user("a@b", false)]
    #[case::query("a?b", false)]
    #[case::empty("", false)]
    #[case::not_six("[zz]", false)]
    fn hosts_are_names_or_addresses(#[case] host: &str, #[case] expected: bool) {
        assert_eq!(is_host(host_without_port(host)), expected);
    }
}
