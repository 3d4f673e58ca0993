//! What can be watched after the show: the newest recording of a channel that opens it, or the take of a link.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use serde::Serialize;
use time::OffsetDateTime;
use waverant_library::Variant;
use waverant_relay::TakeState;
use waverant_store::{StoredTake, TakeFilter};

use crate::access::Access;
use crate::take_body::serve_take;
use crate::{Fault, ViewingState};

/// Takes of a channel among which the newest that is whole and here is looked for.
const LOOKED_AT: u32 = 20;

#[derive(Debug, Serialize)]
struct Told {
    title: String,
    #[serde(with = "time::serde::rfc3339")]
    started_at: OffsetDateTime,
    duration_ms: u64,
    marks: Vec<ToldMark>,
}

#[derive(Debug, Serialize)]
struct ToldMark {
    at_ms: u64,
    title: String,
}

pub(crate) async fn about(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
) -> Result<Response, Fault> {
    let take = take_of(&state, &access).await?;
    let marks = take.record.marks.into_iter().map(|mark| ToldMark { at_ms: mark.at_ms, title: mark.title });
    let told = Told {
        title: take.card.title.unwrap_or_else(|| access.rules.title.clone()),
        started_at: take.record.started_at,
        duration_ms: take.record.duration_ms,
        marks: marks.collect(),
    };
    Ok(([(header::CACHE_CONTROL, "no-cache")], Json(told)).into_response())
}

pub(crate) async fn file(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
    headers: HeaderMap,
) -> Result<Response, Fault> {
    access.seat_fetcher(&state.house)?;
    let take = take_of(&state, &access).await?;
    let whole = Variant::Progressive { from_ms: None, to_ms: None };
    let bytes = state.house.library().bytes(&take, whole).await.map_err(|error| gone(&error))?;
    Ok(serve_take(Arc::new(bytes), false, &headers))
}

/// The take that may be watched: whole, on this disk, and not removed.
async fn take_of(state: &ViewingState, access: &Access) -> Result<StoredTake, Fault> {
    let library = state.house.library();
    if let Some((session, number)) = access.take() {
        let take = library.ended_take(session, number).await.map_err(|error| gone(&error))?;
        return if take.card.removed_at.is_none() { Ok(take) } else { Err(Fault::Gone) };
    }
    if !access.rules.viewing.page.shows_recording {
        return Err(Fault::Gone);
    }
    let filter =
        TakeFilter { channel_name: Some(access.rules.name.to_string()), limit: LOOKED_AT, ..TakeFilter::default() };
    let takes = state.house.store().takes(&filter).await.map_err(|error| gone(&error))?;
    // A cut is somebody's choice of a part; who wants it to be seen makes a link.
    let is_whole = |take: &StoredTake| {
        take.record.state != TakeState::Writing && take.card.is_here && take.card.cut_from.is_none()
    };
    takes.into_iter().find(is_whole).ok_or(Fault::Gone)
}

fn gone(error: &dyn std::fmt::Display) -> Fault {
    tracing::debug!(%error, "a recording cannot be watched");
    Fault::Gone
}
