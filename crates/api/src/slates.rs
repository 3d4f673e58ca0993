//! The slates that channels upload.

use axum::Json;
use axum::body::Bytes;
use axum::extract::rejection::BytesRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::Serialize;
use tokio::task::spawn_blocking;
use utoipa::ToSchema;
use waverant_media::{TrackKind, Tracks};
use waverant_relay::Slate;
use waverant_store::{Channel, ChannelSettings, SlateChoice};

use super::auth::SignedIn;
use super::{ApiError, ApiState};
use crate::house::{MAX_SLATE_BYTES, read_slate};

/// An uploaded slate.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UploadedSlate {
    /// Its codecs.
    stream: String,
    /// In pixels.
    width: Option<u32>,
    /// In pixels.
    height: Option<u32>,
    /// How long it lasts before it begins anew.
    length_ms: u64,
}

impl UploadedSlate {
    fn new(slate: &Slate) -> Self {
        let size = slate.tracks().first(TrackKind::Video).and_then(|video| video.codec.picture_size());
        Self {
            stream: slate.tracks().to_string(),
            width: size.map(|(width, _)| width),
            height: size.map(|(_, height)| height),
            length_ms: u64::try_from(slate.length().millis()).unwrap_or(0),
        }
    }
}

/// Upload a slate (MP4) and use it; one that does not match a show on air is refused
#[utoipa::path(put, path = "/channels/{channel}/slate", params(("channel" = String, Path)), request_body(content = Vec<u8>, content_type = "video/mp4"), responses((status = 200, body = UploadedSlate)))]
pub(super) async fn upload_slate(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
    body: Result<Bytes, BytesRejection>,
) -> Result<Json<UploadedSlate>, ApiError> {
    let body = body.map_err(|rejected| {
        let most = MAX_SLATE_BYTES / (1024 * 1024);
        ApiError::invalid("slate", format!("it could not be taken ({rejected}); up to {most} MiB are"))
    })?;
    let channel = state.house.store.channel(&name).await?;
    let show = state.house.show(channel.id).map(|show| show.source_snapshot().tracks);
    let show = show.filter(|tracks| !tracks.is_empty());
    let (shelf, id) = (state.house.slates.clone(), channel.id);
    let kept = spawn_blocking(move || {
        let slate = read_slate(&body).map_err(|error| ApiError::invalid("slate", error))?;
        check_against(&slate, show.as_deref())?;
        shelf.keep(id, &body).map_err(|error| {
            tracing::error!(%error, "a slate cannot be kept");
            ApiError::Internal
        })?;
        Ok::<_, ApiError>(UploadedSlate::new(&slate))
    });
    let slate = kept.await.map_err(|_| ApiError::Internal)??;
    use_slate(&state, &channel, SlateChoice::Uploaded).await?;
    Ok(Json(slate))
}

/// Show the uploaded slate of a channel
#[utoipa::path(get, path = "/channels/{channel}/slate", params(("channel" = String, Path)), responses((status = 200, body = UploadedSlate)))]
pub(super) async fn show_slate(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<Json<UploadedSlate>, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    let shelf = state.house.slates.clone();
    let slate = spawn_blocking(move || shelf.uploaded(channel.id)).await.map_err(|_| ApiError::Internal)?;
    let slate = slate.map_err(|_| ApiError::NotFound { kind: "slate of channel", name })?;
    Ok(Json(UploadedSlate::new(&slate)))
}

/// Remove the uploaded slate of a channel; the built-in one is used again
#[utoipa::path(delete, path = "/channels/{channel}/slate", params(("channel" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_slate(
    State(state): State<ApiState>,
    _: SignedIn,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let channel = state.house.store.channel(&name).await?;
    let (shelf, id) = (state.house.slates.clone(), channel.id);
    let removed = spawn_blocking(move || shelf.remove(id)).await.map_err(|_| ApiError::Internal)?;
    match removed {
        Ok(true) if channel.settings.slate == SlateChoice::Uploaded => {
            use_slate(&state, &channel, SlateChoice::BuiltIn).await?;
        }
        Ok(true) => {}
        Ok(false) => return Err(ApiError::NotFound { kind: "slate of channel", name }),
        Err(error) => {
            tracing::error!(%error, "a slate cannot be removed");
            return Err(ApiError::Internal);
        }
    }
    Ok(StatusCode::NO_CONTENT)
}

fn check_against(slate: &Slate, show: Option<&Tracks>) -> Result<(), ApiError> {
    let Some(show) = show else { return Ok(()) };
    slate.fitted(show).map(|_| ()).map_err(|error| ApiError::invalid("slate", error))
}

async fn use_slate(state: &ApiState, channel: &Channel, slate: SlateChoice) -> Result<(), ApiError> {
    let settings = ChannelSettings { slate, ..channel.settings.clone() };
    state.house.store.change_channel(&channel.name, &settings).await?;
    state.house.reload().await?;
    Ok(())
}
