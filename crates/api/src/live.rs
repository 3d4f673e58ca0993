use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream};
use parking_lot::Mutex;
use tokio::sync::watch;
use tokio::task::AbortHandle;
use waverant_house::House;
use waverant_model::{Board, Health};

use crate::board::{look, seen};
use crate::rights::{Leave, Sight};
use crate::{ApiError, ApiState};

/// How often the live state is sent.
const INTERVAL: Duration = Duration::from_secs(1);

/// Boards that are sent until it is looked at again whether the caller may go on.
const LOOKS_AT_LEAVE: u32 = 4;

/// The board as all open consoles get it: built once a second for all of them, and not at all while there is none.
#[derive(Debug, Default)]
pub(crate) struct Boards(Mutex<Option<(watch::Receiver<Arc<Built>>, AbortHandle)>>);

/// A board, and as it is sent to all who see everything.
#[derive(Debug)]
pub(crate) struct Built {
    board: Board,
    whole: String,
}

impl Built {
    fn new(house: &House) -> Arc<Self> {
        let board = look(house);
        let whole = as_json(&board);
        Arc::new(Self { board, whole })
    }

    fn for_sight(&self, house: &House, sight: &Sight) -> String {
        if sight.is_whole() { self.whole.clone() } else { as_json(&seen(self.board.clone(), house, sight)) }
    }
}

impl Boards {
    /// The board now, and whenever there is a newer one.
    fn follow(&self, house: &Arc<House>) -> watch::Receiver<Arc<Built>> {
        let mut running = self.0.lock();
        if let Some((boards, builder)) = running.as_ref()
            && !builder.is_finished()
        {
            let mut boards = boards.clone();
            boards.mark_changed();
            return boards;
        }
        let (sender, mut boards) = watch::channel(Built::new(house));
        let builder = tokio::spawn(build(house.clone(), sender)).abort_handle();
        boards.mark_changed();
        *running = Some((boards.clone(), builder));
        boards
    }
}

/// Builds boards until nobody but ourselves looks, or the service stops.
async fn build(house: Arc<House>, sender: watch::Sender<Arc<Built>>) {
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
        sender.send_replace(Built::new(&house));
    }
}

fn as_json(board: &Board) -> String {
    serde_json::to_string(board).unwrap_or_default()
}

/// What is on air now
#[utoipa::path(get, path = "/live", responses((status = 200, body = Board)))]
pub(super) async fn board(State(state): State<ApiState>, sight: Sight) -> Json<Board> {
    Json(seen(look(&state.house), &state.house, &sight))
}

/// Who follows the board.
struct Listener {
    state: ApiState,
    boards: watch::Receiver<Arc<Built>>,
    leave: Leave,
    sight: Sight,
    count: u32,
}

impl Listener {
    /// The next board; none if there is nothing more to come, or the caller may not go on.
    async fn next(&mut self) -> Option<Event> {
        if self.boards.changed().await.is_err() {
            if self.state.house.stopping().is_cancelled() {
                return None;
            }
            // Its builder ended just when we came.
            self.boards = self.state.boards.follow(&self.state.house);
            self.boards.changed().await.ok()?;
        }
        self.count = self.count.wrapping_add(1);
        if self.count.is_multiple_of(LOOKS_AT_LEAVE)
            && let Some(grants) = self.leave.look_again(&self.state).await.ok()?
        {
            self.sight = Sight::from(&grants);
        }
        let built = self.boards.borrow_and_update().clone();
        Some(Event::default().event("board").data(built.for_sight(&self.state.house, &self.sight)))
    }
}

/// What is on air, once a second, as Server-Sent Events named `board`
#[utoipa::path(get, path = "/live/events", responses((status = 200, content_type = "text/event-stream")))]
pub(super) async fn events(
    State(state): State<ApiState>,
    sight: Sight,
    leave: Leave,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let boards = state.boards.follow(&state.house);
    let listener = Listener { state, boards, leave, sight, count: 0 };
    let events = stream::unfold(listener, async |mut listener| {
        let event = listener.next().await?;
        Some((Ok(event), listener))
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
