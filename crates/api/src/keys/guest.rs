use std::net::SocketAddr;
use std::time::Instant;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::HeaderMap;
use waverant_house::{GuestView, right_word};
use waverant_model::{GuestPage, GuestRefusal, GuestSeen, GuestState, GuestToken};
use waverant_net::caller_of;
use waverant_relay::{KeyRight, Secret};

use super::tell;
use crate::addresses::{ToldPassphrase, encoder_fields};
use crate::input::Body;
use crate::{ApiError, ApiState};

/// Under this name wrong links are counted; no person can have it.
const NOBODY: &str = " guest";

/// What a guest's link shows: the key, and whether the guest is seen
#[utoipa::path(post, path = "/guests/look", request_body = GuestToken, security(()), responses((status = 200, body = GuestPage)))]
pub(crate) async fn look_as_guest(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Body(form): Body<GuestToken>,
) -> Result<Json<GuestPage>, ApiError> {
    let address = caller_of(peer.ip());
    let token = Secret::new(form.token.reveal());
    if let Some(view) = state.house.guest_view(&token) {
        return Ok(Json(page(&state, &headers, view)));
    }
    let (mut guesses, now) = (state.guesses.lock(), Instant::now());
    if let Some(wait) = guesses.must_wait(now, address, NOBODY) {
        return Err(ApiError::SlowDown(wait));
    }
    guesses.wrong(now, address, NOBODY);
    Err(ApiError::NotFound { kind: "guest's link", name: "that was sent to you".to_owned() })
}

fn page(state: &ApiState, headers: &HeaderMap, view: GuestView) -> GuestPage {
    let right = right_word(view.key.right);
    let latency_ms = u16::try_from(view.rules.srt_latency.as_millis()).unwrap_or(u16::MAX);
    let passphrase = view.passphrase.clone().map_or(ToldPassphrase::None, ToldPassphrase::This);
    let name_and_key = (view.key.prefix.as_str(), &view.secret);
    let (standing, turns_at) = view.standing;
    GuestPage {
        title: view.rules.title.clone(),
        label: view.key.label.clone(),
        right,
        encoder: encoder_fields(state, headers, right, name_and_key, (latency_ms, passphrase)),
        rules: tell::rules(&view.key.rules),
        state: tell::state(standing),
        turns_at,
        link_until: view.until,
        turned_away: view.refusal.as_ref().map(|refusal| GuestRefusal {
            at: refusal.at,
            address: refusal.peer.ip().to_string(),
            reason: refusal.reason.clone(),
        }),
        seen: seen(&view),
    }
}

fn seen(view: &GuestView) -> GuestSeen {
    let state = match &view.seen {
        _ if view.key.right == KeyRight::View && view.players > 0 => GuestState::Watching,
        None => GuestState::NotHere,
        Some(seen) if seen.is_on_air => GuestState::OnAir,
        Some(seen) if seen.tracks.is_some() => GuestState::Received,
        Some(_) => GuestState::Connected,
    };
    let seen = view.seen.as_ref();
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a rate is not negative, and far below 2^64"
    )]
    let bitrate_bps = seen.map(|seen| seen.bitrate_bps.max(0.0) as u64);
    GuestSeen {
        state,
        encoder: seen.map(|seen| seen.encoder.clone()),
        address: seen.map(|seen| seen.peer.ip().to_string()),
        stream: seen.and_then(|seen| seen.tracks.as_ref()).map(ToString::to_string),
        bitrate_bps,
    }
}
