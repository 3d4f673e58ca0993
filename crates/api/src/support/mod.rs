//! What helpers need to see, in one archive: what the API answers, so nothing secret is in it.

mod archive;
mod parts;

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use time::OffsetDateTime;
use tokio::sync::Semaphore;

use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// What makes the archives, one at a time.
#[derive(Debug)]
pub(crate) struct SupportDesk {
    /// Settings by name, without secrets.
    settings: Vec<(String, String)>,
    started_at: OffsetDateTime,
    turn: Arc<Semaphore>,
}

impl SupportDesk {
    pub(crate) fn new(settings: Vec<(String, String)>) -> Self {
        Self { settings, started_at: OffsetDateTime::now_utc(), turn: Arc::new(Semaphore::new(1)) }
    }
}

/// Settings and records without secrets, findings, timelines, reports, the end of the log, versions and the machine: a
/// gzipped archive (tar), whose first file tells what is in it
#[utoipa::path(get, path = "/support-bundle", responses((status = 200, body = Vec<u8>, content_type = "application/gzip")))]
pub(super) async fn support_bundle(
    State(state): State<ApiState>,
    caller: Caller,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let turn = state.support.turn.clone().try_acquire_owned();
    let Ok(turn) = turn else {
        return Err(ApiError::Conflict("A support bundle is being made already; try again in a moment.".to_owned()));
    };
    tracing::info!(by = %caller.actor, "a support bundle is made");
    let now = OffsetDateTime::now_utc();
    let parts = parts::gather(&state, &headers, now).await;
    let packed = tokio::task::spawn_blocking(move || {
        let packed = archive::pack(parts, now);
        drop(turn);
        packed
    });
    let bytes = packed.await.map_err(|_| ApiError::Internal)?.map_err(|error| {
        tracing::error!(%error, "a support bundle cannot be packed");
        ApiError::Internal
    })?;
    let name = format!("waverant-support-{}-{:02}{:02}.tar.gz", now.date(), now.hour(), now.minute());
    let headers = [
        (header::CONTENT_TYPE, "application/gzip".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
    ];
    Ok((headers, bytes).into_response())
}
