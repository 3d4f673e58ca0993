//! The RTMP front door: publishers come in, and players of the house are served.

mod driver;
mod farewell;
mod viewing;

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::net::{TcpListener, TcpStream};
use tokio::time::{sleep, timeout};
use waverant_relay::{LobbyLimits, NoPlace, Protocol, Standing, TurnAway, TurnAwayReason};
use waverant_rtmp::{Limits, ServerConfig};

use driver::Driver;
use waverant_house::{DoorCaller, House};
use waverant_net::{
    Announcers, Caller, Place, Places, ServerTls, UNACKNOWLEDGED_LIMIT, Wire, caller_of, give_up_after,
};

/// The path part of the address for encoders with user name and password.
pub const GUARDED_APP: &str = "door";

/// Pause after the system refused to accept, for example for want of file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// How long the next caller waits whose address was turned away again and again.
const ROUGH_PAUSE: Duration = Duration::from_secs(1);

/// Settings of the RTMP front door.
#[derive(Clone, Debug)]
pub struct RtmpSettings {
    /// Bounds on one peer.
    pub limits: Limits,
    /// How many connections there may be.
    pub places: LobbyLimits,
}

/// What all RTMP listeners share.
#[derive(Debug)]
pub struct RtmpDoor {
    house: Arc<House>,
    settings: RtmpSettings,
    places: Places,
    seed: AtomicU64,
}

impl RtmpDoor {
    /// A door of the house.
    pub fn new(house: Arc<House>, settings: RtmpSettings) -> Arc<Self> {
        let places = Places::new(settings.places);
        Arc::new(Self { house, settings, places, seed: AtomicU64::new(0x9e37_79b9_7f4a_7c15) })
    }

    /// Takes connections until the service stops; over TLS if there is a certificate. Callers of proxies that announce
    /// them are who those say.
    pub async fn listen(
        self: Arc<Self>,
        listener: TcpListener,
        tls: Option<Arc<ServerTls>>,
        announcers: Option<Announcers>,
    ) {
        let port = listener.local_addr().map_or(0, |address| address.port());
        loop {
            let accepted = tokio::select! {
                accepted = listener.accept() => accepted,
                () = self.house.stopping().cancelled() => return,
            };
            match accepted {
                Ok((stream, peer)) => match announcers.clone().filter(|announcers| announcers.has(peer.ip())) {
                    Some(announcers) => self.take_announced(stream, peer, tls.clone(), (port, announcers)),
                    None => {
                        self.house.reached().note(true, port, peer.ip());
                        self.take(stream, Caller { address: peer, is_secure: false }, tls.clone());
                    }
                },
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be accepted");
                    sleep(ACCEPT_PAUSE).await;
                }
            }
        }
    }

    fn take_announced(
        self: &Arc<Self>,
        mut stream: TcpStream,
        peer: SocketAddr,
        tls: Option<Arc<ServerTls>>,
        (port, announcers): (u16, Announcers),
    ) {
        let door = self.clone();
        self.house.tasks().spawn(async move {
            match announcers.caller(&mut stream, peer).await {
                Ok(caller) => {
                    door.house.reached().note(true, port, caller.address.ip());
                    door.take(stream, caller, tls);
                }
                Err(error) => door.turn_away(peer, TurnAwayReason::NotUnderstood, Some(error.to_string())),
            }
        });
    }

    fn take(&self, stream: TcpStream, caller: Caller, tls: Option<Arc<ServerTls>>) {
        let peer = caller.address;
        let protocol = if tls.is_some() || caller.is_secure { Protocol::Rtmps } else { Protocol::Rtmp };
        let standing = self.house.standing(peer.ip());
        if standing == Standing::Blocked && !self.house.hears(peer.ip()) {
            return self.turn_away(peer, TurnAwayReason::TooManyFromAddress, None);
        }
        let place = match self.places.enter(caller_of(peer.ip()), standing) {
            Ok(place) => place,
            Err(why) => return self.turn_away(peer, reason_of(why), None),
        };
        let seed = self.seed.fetch_add(0x9e37_79b9_7f4a_7c15, Ordering::Relaxed);
        let config = ServerConfig {
            limits: self.settings.limits.clone(),
            seed,
            guarded_app: Some(GUARDED_APP.to_owned()),
            ..ServerConfig::default()
        };
        let (house, limit) = (self.house.clone(), self.settings.limits.handshake_timeout);
        self.house.tasks().spawn(async move {
            let displaced = place.displaced.clone();
            let carried = async {
                let _ = stream.set_nodelay(true);
                let _ = give_up_after(&stream, UNACKNOWLEDGED_LIMIT);
                if standing == Standing::Rough {
                    sleep(ROUGH_PAUSE).await;
                }
                carry((stream, tls, limit), (peer, protocol), &house, (config, place)).await;
            };
            tokio::select! {
                // Dropping it closes the socket.
                () = displaced.cancelled() => {
                    let away = TurnAway::of_stranger(TurnAwayReason::MadeRoom);
                    house.note_turned_away(&stranger(peer, Some(protocol)), &away, None);
                }
                () = carried => {}
            }
        });
    }

    fn turn_away(&self, peer: SocketAddr, reason: TurnAwayReason, detail: Option<String>) {
        let away = TurnAway::of_stranger(reason);
        self.house.note_turned_away(&stranger(peer, None), &away, detail);
    }
}

/// Somebody who has not said what it is.
fn stranger(peer: SocketAddr, protocol: Option<Protocol>) -> DoorCaller<'static> {
    DoorCaller { peer, protocol, encoder: "" }
}

fn reason_of(why: NoPlace) -> TurnAwayReason {
    match why {
        NoPlace::House => TurnAwayReason::TooManyConnections,
        NoPlace::Address => TurnAwayReason::TooManyFromAddress,
        NoPlace::MadeRoom => TurnAwayReason::MadeRoom,
    }
}

/// Serves one connection to its end.
async fn carry(
    (stream, tls, limit): (TcpStream, Option<Arc<ServerTls>>, Duration),
    (peer, protocol): (SocketAddr, Protocol),
    house: &Arc<House>,
    (config, place): (ServerConfig, Place),
) {
    match secure(stream, tls, limit).await {
        Ok(wire) => Driver::new(wire, (peer, protocol), (house.clone(), place), config).run().await,
        Err((reason, detail)) => {
            let away = TurnAway::of_stranger(reason);
            house.note_turned_away(&stranger(peer, Some(protocol)), &away, Some(detail));
        }
    }
}

/// Makes a TLS connection where one is wanted, within `limit`.
async fn secure(
    stream: TcpStream,
    tls: Option<Arc<ServerTls>>,
    limit: Duration,
) -> Result<Wire, (TurnAwayReason, String)> {
    let Some(tls) = tls else { return Ok(Wire::Plain(stream)) };
    match timeout(limit, tls.accept(stream)).await {
        Ok(Ok(wire)) => Ok(wire),
        Ok(Err(error)) => Err((TurnAwayReason::NotUnderstood, format!("TLS: {error}; this port takes rtmps:// only"))),
        Err(_) => Err((TurnAwayReason::TooSlow, "TLS was not set up in time".to_owned())),
    }
}
