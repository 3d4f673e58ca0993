//! Serving HTTP: connections with limits for all that one may take, in the clear or over TLS.

mod activity;
mod connection;
mod console_path;
mod proxies;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use futures_util::future::OptionFuture;
use tokio::net::TcpListener;
use tokio::time::sleep;
use tokio_util::task::TaskTracker;
use waverant_house::House;
use waverant_net::{Announcers, Caller, Places, ServerTls, caller_of};

use connection::Connection;
pub use console_path::{ConsolePath, NoConsolePath};
pub use proxies::{NoProxyHeader, Proxies, ProxyHeader};

/// Pause after the system refused to accept, for example for want of file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// Where callers come in.
#[derive(Debug)]
pub struct HttpDoors {
    /// In the clear.
    pub plain: HttpListener,
    /// Over TLS.
    pub secure: Option<(HttpListener, Arc<ServerTls>)>,
    /// What both have room for.
    pub places: Places,
    /// Whose word on who calls is believed.
    pub proxies: Proxies,
    /// Under which path they have it.
    pub path: ConsolePath,
}

/// A listener, and the proxies that announce on each of its connections who calls.
#[derive(Debug)]
pub struct HttpListener {
    /// The listener.
    pub listener: TcpListener,
    /// The proxies.
    pub announcers: Option<Announcers>,
}

/// What all connections share.
struct Shared {
    router: Router,
    house: Arc<House>,
    places: Places,
    proxies: Proxies,
    path: ConsolePath,
}

/// Serves a router until the service stops; then lets open calls end. A connection that becomes a WebSocket is its
/// handler's from then on.
pub async fn serve(doors: HttpDoors, router: Router, house: Arc<House>) {
    let HttpDoors { plain, secure, places, proxies, path } = doors;
    let shared = Arc::new(Shared { router, house, places, proxies, path });
    let over_tls = secure.map(|(listener, tls)| listen(listener, Some(tls), shared.clone()));
    tokio::join!(listen(plain, None, shared.clone()), OptionFuture::from(over_tls));
}

async fn listen(at: HttpListener, tls: Option<Arc<ServerTls>>, shared: Arc<Shared>) {
    let HttpListener { listener, announcers } = at;
    let connections = TaskTracker::new();
    let port = listener.local_addr().map_or(0, |address| address.port());
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = shared.house.stopping().cancelled() => break,
        };
        match accepted {
            Ok((mut stream, peer)) => match announcers.clone().filter(|announcers| announcers.has(peer.ip())) {
                None => {
                    let caller = Caller { address: peer, is_secure: false };
                    if let Some(connection) = shared.take(port, caller) {
                        connections.spawn(connection.carry(stream, tls.clone()));
                    }
                }
                Some(announcers) => {
                    let (shared, tls) = (shared.clone(), tls.clone());
                    connections.spawn(async move {
                        match announcers.caller(&mut stream, peer).await {
                            Ok(caller) => {
                                if let Some(connection) = shared.take(port, caller) {
                                    connection.carry(stream, tls).await;
                                }
                            }
                            Err(error) => tracing::warn!(%peer, %error, "a proxy did not say who calls"),
                        }
                    });
                }
            },
            Err(error) => {
                tracing::warn!(%error, "a connection over HTTP could not be accepted");
                sleep(ACCEPT_PAUSE).await;
            }
        }
    }
    connections.close();
    connections.wait().await;
}

impl Shared {
    /// A place for a caller. Who finds none is not told: that would cost what is short.
    fn take(&self, port: u16, caller: Caller) -> Option<Connection> {
        let peer = caller.address.ip();
        self.house.reached().note(true, port, peer);
        let place = self.places.enter(caller_of(peer), self.house.standing(peer)).ok()?;
        let front = (self.proxies.clone(), self.path.clone());
        Some(Connection::new(caller, front, Arc::new(place), self.router.clone(), self.house.stopping().clone()))
    }
}
