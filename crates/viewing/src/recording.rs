//! What can be watched after the show: the newest recording of a channel that opens it, or the take of a link.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use serde::Serialize;
use time::OffsetDateTime;
use tokio::sync::Mutex;
use tokio::time::Instant;
use waverant_library::{TakeBytes, Variant};
use waverant_relay::TakeState;
use waverant_store::{StoredTake, TakeFilter};

use crate::access::Access;
use crate::take_body::serve_take;
use crate::{Fault, ViewingState};

/// What was looked up is good for so long.
const GOOD_FOR: Duration = Duration::from_secs(5);

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

/// A recording that is watched, ready to be sent.
#[derive(Clone, Debug)]
struct Shown {
    take: Arc<StoredTake>,
    bytes: Arc<TakeBytes>,
}

/// What of recordings was looked up lately. One is looked up at a time: however many ask, viewers take one connection
/// of the database at most, and a file is laid out once.
#[derive(Debug, Default)]
pub(crate) struct Recordings(Mutex<HashMap<Wanted, LookedUp>>);

/// When, and what was found.
type LookedUp = (Instant, Result<Shown, Fault>);

/// A take by name, or the newest of a channel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Wanted {
    Take(u64, u32),
    NewestOf(u64),
}

impl Recordings {
    async fn get(&self, state: &ViewingState, access: &Access) -> Result<Shown, Fault> {
        let wanted = match access.take() {
            Some((session, number)) => Wanted::Take(session, number),
            None if access.rules.viewing.page.shows_recording => Wanted::NewestOf(access.rules.id),
            None => return Err(Fault::Gone),
        };
        let mut known = self.0.lock().await;
        if let Some((at, shown)) = known.get(&wanted)
            && at.elapsed() < GOOD_FOR
        {
            return shown.clone();
        }
        let shown = look_up(state, access).await;
        known.insert(wanted, (Instant::now(), shown.clone()));
        shown
    }

    /// Lets go of files that nobody asked for lately: one that is removed gives its room back.
    pub(crate) fn forget_old(&self) {
        // While something is looked up it is tried again later.
        if let Ok(mut known) = self.0.try_lock() {
            known.retain(|_, (at, _)| at.elapsed() < GOOD_FOR);
        }
    }
}

pub(crate) async fn about(
    State(state): State<ViewingState>,
    Extension(access): Extension<Arc<Access>>,
) -> Result<Response, Fault> {
    let take = state.recordings.get(&state, &access).await?.take;
    let marks = take.record.marks.iter().map(|mark| ToldMark { at_ms: mark.at_ms, title: mark.title.clone() });
    let told = Told {
        title: take.card.title.clone().unwrap_or_else(|| access.rules.title.clone()),
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
    let shown = state.recordings.get(&state, &access).await?;
    Ok(serve_take(shown.bytes, false, &headers))
}

async fn look_up(state: &ViewingState, access: &Access) -> Result<Shown, Fault> {
    let take = take_of(state, access).await?;
    let whole = Variant::Progressive { from_ms: None, to_ms: None };
    let bytes = state.house.library().bytes(&take, whole).await.map_err(|error| gone(&error))?;
    Ok(Shown { take: Arc::new(take), bytes: Arc::new(bytes) })
}

/// The take that may be watched: whole, on this disk, and not removed.
async fn take_of(state: &ViewingState, access: &Access) -> Result<StoredTake, Fault> {
    let library = state.house.library();
    if let Some((session, number)) = access.take() {
        let take = library.ended_take(session, number).await.map_err(|error| gone(&error))?;
        return if take.card.removed_at.is_none() { Ok(take) } else { Err(Fault::Gone) };
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
