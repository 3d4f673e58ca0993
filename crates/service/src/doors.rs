//! Where everybody comes in: bound first, listened at once the house is open.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::net::{TcpListener, TcpSocket};
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use waverant_acme::{Keeper, Progress, Wanted, placeholder};
use waverant_api::{
    ApiState, CertificateDesk, ConsolePath, ConsoleSite, FirstRun, HttpDoors, HttpListener, LogDesk, OutsideDesk,
    PeopleRules, Ports, Proxies, Told, router, serve, to_https,
};
use waverant_house::House;
use waverant_net::{Announcers, CertificateFacts, Places, ServerTls, TlsError, TlsFiles};
use waverant_relay::LobbyLimits;
use waverant_sources::{RtmpDoor, RtmpSettings, SrtDoor, SrtSettings};
use waverant_viewing::{ViewingState, keep_ready, publish};

use crate::addresses::Addresses;
use crate::check::bind_failure;
use crate::outside::open_doors;
use crate::settings::{AnnouncedDoor, Settings};
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
    redirect: Option<TcpListener>,
}

impl Doors {
    pub(crate) fn bind(settings: &Settings) -> Result<Self, StartError> {
        let rtmp = bind("rtmp", settings.rtmp)?;
        let secure = match &settings.tls {
            Some(files) => Some(SecureDoors {
                tls: open_tls(files.clone(), settings.authority.as_ref())?,
                rtmps: bind("rtmps", settings.rtmps)?,
                https: bind("https", settings.https)?,
                viewing: bind("viewing_https", settings.viewing_https)?,
                redirect: settings.redirect.map(|address| bind("redirect", address)).transpose()?,
            }),
            None => None,
        };
        let srt = SrtDoor::bind(settings.srt)
            .map_err(|error| StartError::Listen(bind_failure("srt", settings.srt, &error)))?;
        let http = bind("http", settings.http)?;
        let viewing = bind("viewing", settings.viewing)?;
        Ok(Self { rtmp, srt, http, viewing, secure })
    }

    fn redirect(&self) -> Option<&TcpListener> {
        self.secure.as_ref().and_then(|doors| doors.redirect.as_ref())
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
            redirect: self.redirect().map(|listener| local_address("redirect", listener)).transpose()?,
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
        let door = RtmpDoor::new(house.clone(), rtmp_settings(settings));
        house.tasks().spawn(door.clone().listen(self.rtmp, None, announcers(settings, AnnouncedDoor::Rtmp)));
        let (mut tls, mut https, mut viewing_https) = (None, None, None);
        if let Some(secure) = self.secure {
            let announced = announcers(settings, AnnouncedDoor::Rtmps);
            house.tasks().spawn(secure.tls.clone().follow_files(house.stopping().clone()));
            house.tasks().spawn(watch_certificate(secure.tls.facts(), house.clone()));
            house.tasks().spawn(door.listen(secure.rtmps, Some(secure.tls.clone()), announced));
            if let Some((redirect, https)) = secure.redirect.zip(addresses.https) {
                tokio::spawn(lead_to_https(redirect, (https.port(), &secure.tls), settings, house));
            }
            (tls, https, viewing_https) = (Some(secure.tls), Some(secure.https), Some(secure.viewing));
        }
        let srt_settings = SrtSettings {
            max_connections: settings.srt_connections,
            max_per_address: settings.srt_connections_per_address,
            idle_timeout: SRT_IDLE_TIMEOUT,
        };
        house.tasks().spawn(self.srt.listen(house.clone(), srt_settings));
        let viewing = ViewingState::new(house.clone());
        house.tasks().spawn_on(keep_ready(viewing.clone()), for_viewers);
        house.tasks().spawn_on(publish(viewing.clone()), for_viewers);
        let told = told((settings, addresses), log, certificate(tls.as_ref(), settings, house));
        let rules = PeopleRules { second_factor_from: settings.second_factor_from };
        let site = ConsoleSite { host: settings.host.clone(), path: settings.console_path.clone() };
        let state = ApiState::new(house.clone(), first_run, site, rules, ports(addresses), told);
        let plain = |listener, door| HttpListener { listener, announcers: announcers(settings, door) };
        let secure = |listener: Option<TcpListener>, door| {
            listener.zip(tls.clone()).map(|(listener, tls)| (plain(listener, door), tls))
        };
        let proxies = Proxies::new(settings.proxies.clone(), settings.proxy_header);
        let doors = HttpDoors {
            plain: plain(self.viewing, AnnouncedDoor::Viewing),
            secure: secure(viewing_https, AnnouncedDoor::ViewingHttps),
            places: places(settings.viewing_connections, settings.viewing_connections_per_address),
            proxies: proxies.clone(),
            path: ConsolePath::default(),
        };
        let viewers = for_viewers.spawn(serve(doors, waverant_viewing::router(viewing), house.clone()));
        let doors = HttpDoors {
            plain: plain(self.http, AnnouncedDoor::Http),
            secure: secure(https, AnnouncedDoor::Https),
            places: places(settings.http_connections, settings.http_connections_per_address),
            proxies,
            path: settings.console_path.clone(),
        };
        let callers = serve(doors, router(state), house.clone());
        // Neither is waited for as sessions are: a caller that takes nothing must not hold up a stop.
        tokio::spawn(async move {
            let _ = tokio::join!(viewers, callers);
        })
    }
}

/// Serves those who come in the clear: they are led to where it is not.
fn lead_to_https(
    listener: TcpListener,
    (port, tls): (u16, &Arc<ServerTls>),
    settings: &Settings,
    house: &Arc<House>,
) -> impl Future<Output = ()> + use<> {
    let tls = tls.clone();
    let doors = HttpDoors {
        plain: HttpListener { listener, announcers: announcers(settings, AnnouncedDoor::Http) },
        secure: None,
        places: places(settings.http_connections, settings.http_connections_per_address),
        proxies: Proxies::default(),
        path: ConsolePath::default(),
    };
    serve(doors, to_https(port, move |token| tls.challenges().answer(token)), house.clone())
}

fn rtmp_settings(settings: &Settings) -> RtmpSettings {
    RtmpSettings {
        limits: settings.rtmp_limits.clone(),
        places: LobbyLimits {
            let_in: settings.rtmp_connections,
            waiting: settings.rtmp_callers,
            per_address: settings.rtmp_connections_per_address,
        },
    }
}

/// The proxies that say at a door who calls, if they are to.
fn announcers(settings: &Settings, door: AnnouncedDoor) -> Option<Announcers> {
    settings.proxy_protocol.contains(&door).then(|| Announcers::new(settings.proxies.clone()))
}

fn ports(addresses: &Addresses) -> Ports {
    Ports {
        rtmp: addresses.rtmp.port(),
        rtmps: addresses.rtmps.map(|address| address.port()),
        srt: addresses.srt.port(),
        viewing: addresses.viewing.port(),
        viewing_https: addresses.viewing_https.map(|address| address.port()),
    }
}

/// With the certificate there is; if an authority is to give it, with one that stands in for the first.
fn open_tls(files: TlsFiles, wanted: Option<&Wanted>) -> Result<Arc<ServerTls>, TlsError> {
    match wanted {
        None => ServerTls::open(files),
        Some(wanted) => ServerTls::open_or(files, || placeholder(&wanted.names)),
    }
}

/// What the service tells of itself.
fn told((settings, addresses): (&Settings, &Addresses), log: LogDesk, certificate: CertificateDesk) -> Told {
    let outside = OutsideDesk::new(&settings.host, open_doors(addresses), settings.answerer.clone());
    Told { metrics: settings.metrics.clone(), log, settings: settings.told(), certificate, outside }
}

/// What is told of the certificate; it is kept good from now on, if an authority gives it.
fn certificate(tls: Option<&Arc<ServerTls>>, settings: &Settings, house: &Arc<House>) -> CertificateDesk {
    let keeper = tls.zip(settings.authority.clone()).map(|(tls, wanted)| Keeper::new(wanted, tls.clone()));
    if let Some(keeper) = &keeper {
        house.tasks().spawn(keeper.clone().keep(house.stopping().clone()));
        house.tasks().spawn(watch_renewal(keeper.progress(), house.clone()));
    }
    CertificateDesk { facts: tls.map(|tls| tls.facts()), keeper }
}

/// Tells the house when the certificate ends, whenever another one is in use.
async fn watch_certificate(mut facts: watch::Receiver<Option<Arc<CertificateFacts>>>, house: Arc<House>) {
    loop {
        // A placeholder has no end that counts: it is told that there is no certificate.
        let known = facts.borrow_and_update().clone().filter(|facts| !facts.is_placeholder);
        house.note_certificate(known.map(|facts| facts.since..facts.ends));
        tokio::select! {
            changed = facts.changed() => if changed.is_err() { return },
            () = house.stopping().cancelled() => return,
        }
    }
}

/// Tells the house why there is no new certificate, as long as that is so.
async fn watch_renewal(mut progress: watch::Receiver<Progress>, house: Arc<House>) {
    loop {
        let fault = progress.borrow_and_update().fault.clone();
        house.note_renewal(fault.map(|(_, told)| told));
        tokio::select! {
            changed = progress.changed() => if changed.is_err() { return },
            () = house.stopping().cancelled() => return,
        }
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
