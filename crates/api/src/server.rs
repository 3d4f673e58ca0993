use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{ConnectInfo, Request};
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::sleep;
use tokio_util::task::TaskTracker;
use tower::ServiceExt;
use waverant_house::House;
use waverant_net::{Place, Places, caller_of, give_up_after};
use waverant_relay::LobbyLimits;

/// How long a request's head may take, and how long a connection may rest between two requests.
const HEAD_TIMEOUT: Duration = Duration::from_secs(10);

/// The longest head of a request, in bytes, and most of what one connection keeps in memory.
const HEAD_BYTES: usize = 32 * 1024;

/// How long a caller may take nothing of what is sent to it.
const STALL_TIMEOUT: Duration = Duration::from_secs(30);

/// Pause after the system refused to accept, for example for want of file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// Serves a router until the service stops; then lets open calls end. A connection that becomes a WebSocket is its
/// handler's from then on.
pub async fn serve(listener: TcpListener, router: Router, house: Arc<House>, limits: LobbyLimits) {
    let places = Places::new(limits);
    let connections = TaskTracker::new();
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = house.stopping().cancelled() => break,
        };
        match accepted {
            Ok((stream, peer)) => {
                let standing = house.standing(peer.ip());
                // Who finds no place is not told: that would cost what is short.
                if let Ok(place) = places.enter(caller_of(peer.ip()), standing) {
                    connections.spawn(carry(stream, peer, Arc::new(place), router.clone(), house.clone()));
                }
            }
            Err(error) => {
                tracing::warn!(%error, "a connection to the API could not be accepted");
                sleep(ACCEPT_PAUSE).await;
            }
        }
    }
    connections.close();
    connections.wait().await;
}

async fn carry(stream: TcpStream, peer: SocketAddr, place: Arc<Place>, router: Router, house: Arc<House>) {
    let _ = stream.set_nodelay(true);
    let _ = give_up_after(&stream, STALL_TIMEOUT);
    let displaced = place.displaced.clone();
    let service = service_fn(move |request: hyper::Request<Incoming>| {
        let mut request: Request = request.map(axum::body::Body::new);
        request.extensions_mut().insert(ConnectInfo(peer));
        request.extensions_mut().insert(place.clone());
        router.clone().oneshot(request)
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEAD_TIMEOUT).max_buf_size(HEAD_BYTES);
    let mut connection = std::pin::pin!(builder.serve_connection(TokioIo::new(stream), service).with_upgrades());
    let outcome = tokio::select! {
        outcome = connection.as_mut() => outcome,
        // Dropping it closes the socket.
        () = displaced.cancelled() => return,
        () = house.stopping().cancelled() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = outcome {
        tracing::debug!(%peer, %error, "a connection to the API ended");
    }
}
