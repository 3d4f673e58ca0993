//! Whether the house can be reached from outside.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use tokio::sync::Mutex;
use waverant_calls::{CallClient, Reachable};
use waverant_model::{DoorReached, Outside, Transport};
use waverant_outside::{Answerer, Door, Scene, judge};
use waverant_store::ReachedDoor;

use crate::{ApiError, ApiState};

/// What is looked at, and who is asked.
#[derive(Clone, Debug)]
pub struct OutsideDesk {
    /// The public name; empty if there is none.
    host: Arc<str>,
    doors: Arc<[Door]>,
    answerer: Option<Answerer>,
    client: CallClient,
    /// Whoever has the doors tried has the helper for itself.
    turn: Arc<Mutex<()>>,
}

impl OutsideDesk {
    /// The desk of a house that has these doors.
    pub fn new(host: &str, doors: Vec<Door>, answerer: Option<Answerer>) -> Self {
        // Its address stands in the settings of this machine: whoever wrote it there knows where it leads.
        let anywhere = ["0.0.0.0/0", "::/0"].into_iter().filter_map(|range| range.parse().ok());
        let client = CallClient::new(Reachable::new(anywhere));
        Self { host: host.into(), doors: doors.into(), answerer, client, turn: Arc::default() }
    }

    /// Looks, and has the helper try the doors if it is wished; `reached` is who was at them.
    pub async fn look(&self, reached: Vec<ReachedDoor>, with_tries: bool) -> Outside {
        let mut scene = Scene::look(Some(&self.host), self.doors.to_vec()).await;
        fill_in(&mut scene, reached);
        if let Some(answerer) = self.answerer.as_ref() {
            match with_tries {
                true => scene.ask(answerer, &self.client).await,
                false => scene.answerer = Some(answerer.unasked()),
            }
        }
        judge(&scene)
    }
}

/// Who was at the doors.
fn fill_in(scene: &mut Scene, reached: Vec<ReachedDoor>) {
    for found in reached {
        let of = |door: &Door| (door.transport == Transport::Tcp, door.address.port()) == (found.is_tcp, found.port);
        if let Some((_, place, _)) = scene.doors.iter_mut().find(|(door, ..)| of(door)) {
            *place = Some(DoorReached { at: found.at, address: found.address });
        }
    }
}

/// Whether the house can be reached from outside, as far as this machine knows
#[utoipa::path(get, path = "/outside", responses((status = 200, body = Outside)))]
pub(super) async fn look_outside(State(state): State<ApiState>) -> Result<Json<Outside>, ApiError> {
    state.house.reached().write(state.house.store()).await;
    Ok(Json(state.outside.look(state.house.store().reached_doors().await?, false).await))
}

/// Have the helper out there try the doors; it takes up to half a minute
#[utoipa::path(post, path = "/outside/tries", responses((status = 200, body = Outside)))]
pub(super) async fn try_from_outside(State(state): State<ApiState>) -> Result<Json<Outside>, ApiError> {
    if state.outside.answerer.is_none() {
        let told = "There is no helper out there: run `waverantd answer` on another machine, and name it in [outside] of the settings.";
        return Err(ApiError::Conflict(told.to_owned()));
    }
    let Ok(_turn) = state.outside.turn.try_lock() else {
        return Err(ApiError::Conflict("The doors are being tried; see in half a minute what came of it.".to_owned()));
    };
    state.house.reached().write(state.house.store()).await;
    Ok(Json(state.outside.look(state.house.store().reached_doors().await?, true).await))
}
