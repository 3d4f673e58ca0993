//! Where everybody comes in: bound first, listened at once the house is open.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::net::{TcpListener, TcpSocket};
use tokio::runtime::Handle;
use tokio::task::JoinHandle;
use waverant_api::{ApiState, FirstRun, HttpDoors, LogDesk, Ports, Proxies, router, serve};
use waverant_house::House;
use waverant_net::{Places, ServerTls};
use waverant_relay::LobbyLimits;
use waverant_sources::{RtmpDoor, RtmpSettings, SrtDoor, SrtSettings};
use waverant_viewing::{ViewingState, keep_ready, publish};

use crate::addresses::Addresses;
use crate::check::bind_failure;
use crate::settings::Settings;
use crate::start::StartError;

/// Connections that the kernel holds until we accept them: a crowd must not make it drop an encoder's.
const BACKLOG: u32 = 4096;

/// A peer over SRT says something every second; one that is silent for so long is gone.
const SRT_IDLE_TIMEOUT: Duration = Duration::from_secs(5);

/// Where everybody comes in, bound and not yet listened at.
pub(crate) struct Doors {
    rtmp: TcpListener,
    srt: SrtDoor,
    http: TcpListener,
    viewing: TcpListener,
    secure: Option<SecureDoors>,
}

/// The same over TLS, with one certificate for all.
struct SecureDoors {
    tls: Arc<ServerTls>,
    rtmps: TcpListener,
    https: TcpListener,
    viewing: TcpListener,
}

impl Doors {
    pub(crate) fn bind(settings: &Settings) -> Result<Self, StartError> {
        let rtmp = bind("rtmp", settings.rtmp)?;
        let secure = match &settings.tls {
            Some(files) => Some(SecureDoors {
                tls: ServerTls::open(files.clone())?,
                rtmps: bind("rtmps", settings.rtmps)?,
                https: bind("https", settings.https)?,
                viewing: bind("viewing_https", settings.viewing_https)?,
            }),
            None => None,
        };
        let srt = SrtDoor::bind(settings.srt)
            .map_err(|error| StartError::Listen(bind_failure("srt", settings.srt, &error)))?;
        let http = bind("http", settings.http)?;
        let viewing = bind("viewing", settings.viewing)?;
        Ok(Self { rtmp, srt, http, viewing, secure })
    }

    /// Where they are bound.
    pub(crate) fn addresses(&self, database_pid: Option<u32>) -> Result<Addresses, StartError> {
        let secure = |name, listener: fn(&SecureDoors) -> &TcpListener| {
            self.secure.as_ref().map(|doors| local_address(name, listener(doors))).transpose()
        };
        Ok(Addresses {
            rtmp: local_address("rtmp", &self.rtmp)?,
            rtmps: secure("rtmps", |doors| &doors.rtmps)?,
            https: secure("https", |doors| &doors.https)?,
            viewing_https: secure("viewing_https", |doors| &doors.viewing)?,
            srt: self.srt.local_address().map_err(|error| StartError::Listen(format!("listen.srt: {error}")))?,
            http: local_address("http", &self.http)?,
            viewing: local_address("viewing", &self.viewing)?,
            pid: std::process::id(),
            database_pid,
        })
    }

    /// Lets everybody in; returns the task that serves calls and viewers.
    pub(crate) fn open(
        self,
        house: &Arc<House>,
        (first_run, log): (Arc<FirstRun>, LogDesk),
        settings: &Settings,
        addresses: &Addresses,
        for_viewers: &Handle,
    ) -> JoinHandle<()> {
        let rtmp_settings = RtmpSettings {
            limits: settings.rtmp_limits.clone(),
            places: LobbyLimits {
                let_in: settings.rtmp_connections,
                waiting: settings.rtmp_callers,
                per_address: settings.rtmp_connections_per_address,
            },
        };
        let door = RtmpDoor::new(house.clone(), rtmp_settings);
        house.tasks().spawn(door.clone().listen(self.rtmp, None));
        let (tls, rtmps, https, viewing_https) = match self.secure {
            Some(SecureDoors { tls, rtmps, https, viewing }) => (Some(tls), Some(rtmps), Some(https), Some(viewing)),
            None => (None, None, None, None),
        };
        if let Some((tls, rtmps)) = tls.clone().zip(rtmps) {
            house.tasks().spawn(tls.clone().follow_files(house.stopping().clone()));
            house.tasks().spawn(door.listen(rtmps, Some(tls)));
        }
        let srt_settings = SrtSettings {
            max_connections: settings.srt_connections,
            max_per_address: settings.srt_connections_per_address,
            idle_timeout: SRT_IDLE_TIMEOUT,
        };
        house.tasks().spawn(self.srt.listen(house.clone(), srt_settings));
        let ports = Ports {
            rtmp: addresses.rtmp.port(),
            rtmps: addresses.rtmps.map(|address| address.port()),
            srt: addresses.srt.port(),
            viewing: addresses.viewing.port(),
            viewing_https: addresses.viewing_https.map(|address| address.port()),
        };
        let viewing = ViewingState::new(house.clone());
        house.tasks().spawn_on(keep_ready(viewing.clone()), for_viewers);
        house.tasks().spawn_on(publish(viewing.clone()), for_viewers);
        let viewing_places = places(settings.viewing_connections, settings.viewing_connections_per_address);
        let viewers = waverant_viewing::router(viewing);
        let http_places = places(settings.http_connections, settings.http_connections_per_address);
        let watched = (settings.metrics.clone(), Arc::new(log));
        let callers = router(ApiState::new(house.clone(), first_run, settings.host.clone(), ports, watched));
        let secure = |listener: Option<TcpListener>| listener.zip(tls.clone());
        let proxies = Proxies::new(settings.proxies.clone());
        let (plain, secure_viewing) = (self.viewing, secure(viewing_https));
        let doors = HttpDoors { plain, secure: secure_viewing, places: viewing_places, proxies: proxies.clone() };
        let viewers = for_viewers.spawn(serve(doors, viewers, house.clone()));
        let doors = HttpDoors { plain: self.http, secure: secure(https), places: http_places, proxies };
        let callers = serve(doors, callers, house.clone());
        // Neither is waited for as sessions are: a caller that takes nothing must not hold up a stop.
        tokio::spawn(async move {
            let _ = tokio::join!(viewers, callers);
        })
    }
}

fn bind(name: &str, address: SocketAddr) -> Result<TcpListener, StartError> {
    let listen = || {
        let socket = if address.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() }?;
        socket.set_reuseaddr(true)?;
        socket.bind(address)?;
        socket.listen(BACKLOG)
    };
    listen().map_err(|error| StartError::Listen(bind_failure(name, address, &error)))
}

fn local_address(name: &str, listener: &TcpListener) -> Result<SocketAddr, StartError> {
    listener.local_addr().map_err(|error| StartError::Listen(format!("listen.{name}: {error}")))
}

/// As many places for who was not let in yet as for who was.
fn places(connections: usize, per_address: usize) -> Places {
    Places::new(LobbyLimits { let_in: connections, waiting: connections, per_address })
}
