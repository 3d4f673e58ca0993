//! Serving HTTP: connections with limits for all that one may take, in the clear or over TLS.

mod activity;
mod connection;
mod proxies;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use futures_util::future::OptionFuture;
use tokio::net::TcpListener;
use tokio::time::sleep;
use tokio_util::task::TaskTracker;
use waverant_house::House;
use waverant_net::{Places, ServerTls, caller_of};

use connection::Connection;
pub use proxies::Proxies;

/// Pause after the system refused to accept, for example for want of file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// Where callers come in.
#[derive(Debug)]
pub struct HttpDoors {
    /// In the clear.
    pub plain: TcpListener,
    /// Over TLS.
    pub secure: Option<(TcpListener, Arc<ServerTls>)>,
    /// What both have room for.
    pub places: Places,
    /// Whose word on who calls is believed.
    pub proxies: Proxies,
}

/// Serves a router until the service stops; then lets open calls end. A connection that becomes a WebSocket is its
/// handler's from then on.
pub async fn serve(doors: HttpDoors, router: Router, house: Arc<House>) {
    let HttpDoors { plain, secure, places, proxies } = doors;
    let proxies = &proxies;
    let over_tls = secure.map(|(listener, tls)| listen(listener, Some(tls), &router, &house, (&places, proxies)));
    tokio::join!(listen(plain, None, &router, &house, (&places, proxies)), OptionFuture::from(over_tls));
}

async fn listen(
    listener: TcpListener,
    tls: Option<Arc<ServerTls>>,
    router: &Router,
    house: &House,
    at: (&Places, &Proxies),
) {
    let (places, proxies) = at;
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
                    let stopping = house.stopping().clone();
                    let connection = Connection::new(peer, proxies.clone(), Arc::new(place), router.clone(), stopping);
                    connections.spawn(connection.carry(stream, tls.clone()));
                }
            }
            Err(error) => {
                tracing::warn!(%error, "a connection over HTTP could not be accepted");
                sleep(ACCEPT_PAUSE).await;
            }
        }
    }
    connections.close();
    connections.wait().await;
}
