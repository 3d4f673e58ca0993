use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream};
use parking_lot::Mutex;
use tokio::sync::watch;
use tokio::task::AbortHandle;
use waverant_house::House;
use waverant_model::{Board, Health};

use crate::board::look;
use crate::credentials::token_of;
use crate::{ApiError, ApiState};

/// How often the live state is sent.
const INTERVAL: Duration = Duration::from_secs(1);

/// Boards that are sent until the token is looked at again.
const LOOKS_AT_TOKEN: u32 = 4;

/// The board as all open consoles get it: built once a second for all of them, and not at all while there is none.
#[derive(Debug, Default)]
pub(crate) struct Boards(Mutex<Option<(watch::Receiver<Arc<str>>, AbortHandle)>>);

impl Boards {
    /// The board now, and whenever there is a newer one.
    fn follow(&self, house: &Arc<House>) -> watch::Receiver<Arc<str>> {
        let mut running = self.0.lock();
        if let Some((boards, builder)) = running.as_ref()
            && !builder.is_finished()
        {
            let mut boards = boards.clone();
            boards.mark_changed();
            return boards;
        }
        let (sender, mut boards) = watch::channel(as_json(house));
        let builder = tokio::spawn(build(house.clone(), sender)).abort_handle();
        boards.mark_changed();
        *running = Some((boards.clone(), builder));
        boards
    }
}

/// Builds boards until nobody but ourselves looks, or the service stops.
async fn build(house: Arc<House>, sender: watch::Sender<Arc<str>>) {
    let mut ticks = tokio::time::interval(INTERVAL);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    ticks.tick().await;
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            // An open page must not hold up the service's stop.
            () = house.stopping().cancelled() => return,
        }
        // The one that is kept for those who come next looks at nothing.
        if sender.receiver_count() < 2 {
            return;
        }
        sender.send_replace(as_json(&house));
    }
}

fn as_json(house: &House) -> Arc<str> {
    serde_json::to_string(&look(house)).unwrap_or_default().into()
}

/// What is on air now
#[utoipa::path(get, path = "/live", responses((status = 200, body = Board)))]
pub(super) async fn board(State(state): State<ApiState>) -> Json<Board> {
    Json(look(&state.house))
}

/// What is on air, once a second, as Server-Sent Events named `board`
#[utoipa::path(get, path = "/live/events", responses((status = 200, content_type = "text/event-stream")))]
pub(super) async fn events(
    State(state): State<ApiState>,
    headers: HeaderMap,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let token = token_of(&headers).unwrap_or_default();
    let boards = state.boards.follow(&state.house);
    let events = stream::unfold((state, boards, 1), move |(state, mut boards, count)| {
        let token = token.clone();
        async move {
            if boards.changed().await.is_err() {
                if state.house.stopping().is_cancelled() {
                    return None;
                }
                // Its builder ended just when we came.
                boards = state.boards.follow(&state.house);
                boards.changed().await.ok()?;
            }
            // A token that is withdrawn or has ended opens nothing any more; one that cannot be looked up does.
            let is_due = count % LOOKS_AT_TOKEN == 0;
            if is_due && matches!(state.seen_tokens.holder_of(state.house.store(), &token).await, Ok(None)) {
                return None;
            }
            let event = Event::default().event("board").data(boards.borrow_and_update().as_ref());
            Some((Ok(event), (state, boards, count + 1)))
        }
    });
    Sse::new(events).keep_alive(KeepAlive::default())
}

/// Whether the service can do its work
#[utoipa::path(get, path = "/health", security(()), responses((status = 200, body = Health)))]
pub(super) async fn health(State(state): State<ApiState>) -> Result<Json<Health>, ApiError> {
    let database_is_reachable = state.house.store().is_reachable().await;
    let version = env!("CARGO_PKG_VERSION").to_owned();
    Ok(Json(Health { is_good: database_is_reachable, database_is_reachable, version }))
}
