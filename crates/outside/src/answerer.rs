//! The helper out there: it is asked by a house, calls the doors of that house, and tells what it found.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::Bytes;
use axum::extract::{ConnectInfo, DefaultBodyLimit, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use axum::{Extension, Router};
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};
use waverant_calls::SigningSecret;

use crate::asking::{Found, FoundDoor, HEADERS, MOST_DOORS, PATH, Question, check};
use crate::dialing::dial;

/// A question is short.
const MOST_BYTES: usize = 4096;

/// Questions at the same time.
const AT_ONCE: usize = 16;

/// An address is answered this often.
const REST: Duration = Duration::from_secs(2);

/// Connections at the same time, those of strangers among them.
const CONNECTIONS: usize = 64;

/// The head of a question comes within this time, and all is over within the other.
const HEAD_WITHIN: Duration = Duration::from_secs(5);
const ANSWERED_WITHIN: Duration = Duration::from_secs(15);

/// Pause after the system refused to accept.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

struct Answering {
    secret: SigningSecret,
    places: Semaphore,
    /// When addresses were answered last.
    lately: Mutex<HashMap<IpAddr, Instant>>,
}

/// Answers houses that have the same secret, until dropped. A house is called at the address that it asks from and at no
/// other: so nobody can have others called.
///
pub async fn answer(listener: TcpListener, secret: SigningSecret) {
    let answering = Arc::new(Answering { secret, places: Semaphore::new(AT_ONCE), lately: Mutex::default() });
    let router = Router::new().route(PATH, post(tried)).layer(DefaultBodyLimit::max(MOST_BYTES)).with_state(answering);
    let places = Arc::new(Semaphore::new(CONNECTIONS));
    loop {
        let (stream, peer) = match listener.accept().await {
            Ok(accepted) => accepted,
            Err(error) => {
                tracing::warn!(%error, "nobody can be taken");
                sleep(ACCEPT_PAUSE).await;
                continue;
            }
        };
        // Who finds no place is hung up on.
        let Ok(place) = places.clone().try_acquire_owned() else { continue };
        let service = TowerToHyperService::new(router.clone().layer(Extension(ConnectInfo(peer))));
        tokio::spawn(async move {
            let _place = place;
            let mut server = http1::Builder::new();
            server.timer(TokioTimer::new()).header_read_timeout(HEAD_WITHIN).keep_alive(false);
            let _ = timeout(ANSWERED_WITHIN, server.serve_connection(TokioIo::new(stream), service)).await;
        });
    }
}

async fn tried(
    State(answering): State<Arc<Answering>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    let from = peer.ip().to_canonical();
    match find(&answering, from, &headers, &body).await {
        Ok(found) => axum::Json(found).into_response(),
        Err((status, told)) => {
            // Strangers write no log.
            tracing::debug!(%from, status = status.as_u16(), told, "a question is not answered");
            (status, told).into_response()
        }
    }
}

async fn find(
    answering: &Answering,
    from: IpAddr,
    headers: &HeaderMap,
    body: &[u8],
) -> Result<Found, (StatusCode, String)> {
    let signed = HEADERS.map(|name| headers.get(name).and_then(|value| value.to_str().ok()));
    check(&answering.secret, signed, OffsetDateTime::now_utc().unix_timestamp(), body)
        .map_err(|error| (StatusCode::UNAUTHORIZED, error.to_string()))?;
    let question: Question =
        serde_json::from_slice(body).map_err(|error| (StatusCode::BAD_REQUEST, error.to_string()))?;
    if question.doors.len() > MOST_DOORS {
        let told = format!("{} doors; at most {MOST_DOORS} were expected", question.doors.len());
        return Err((StatusCode::BAD_REQUEST, told));
    }
    let busy = |told: &str| (StatusCode::TOO_MANY_REQUESTS, told.to_owned());
    let _place = answering.places.try_acquire().map_err(|_| busy("others are answered; ask again in a moment"))?;
    if !is_due(&mut answering.lately.lock(), from, Instant::now()) {
        return Err(busy("you were answered a moment ago; ask again in two seconds"));
    }
    let mut dials = JoinSet::new();
    for (place, door) in question.doors.iter().copied().enumerate() {
        dials.spawn(async move { (place, dial(door.transport, (from, door.port).into()).await) });
    }
    let mut tries: Vec<(usize, FoundDoor)> = dials.join_all().await;
    tries.sort_by_key(|(place, _)| *place);
    tracing::info!(%from, doors = tries.len(), "a house was called");
    Ok(Found { seen_as: from.to_string(), tries: tries.into_iter().map(|(_, found)| found).collect() })
}

/// Those who have the secret are few; still their list has an end.
fn is_due(lately: &mut HashMap<IpAddr, Instant>, from: IpAddr, now: Instant) -> bool {
    lately.retain(|_, at| now.saturating_duration_since(*at) < REST);
    lately.len() < 1000 && lately.insert(from, now).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_answered_now_and_then() {
        let (mut lately, now) = (HashMap::new(), Instant::now());
        let [one, other] = [1, 2].map(|last| IpAddr::from([203, 0, 113, last]));
        assert!(is_due(&mut lately, one, now) && is_due(&mut lately, other, now));
        assert!(!is_due(&mut lately, one, now + REST / 2));
        assert!(is_due(&mut lately, one, now + REST * 2) && lately.len() == 1);
    }
}
