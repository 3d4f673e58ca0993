use std::fs;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use thiserror::Error;
use time::OffsetDateTime;
use tokio::net::{TcpListener, TcpSocket};
use tokio::task::JoinHandle;
use tokio::time::timeout;
use waverant_relay::LobbyLimits;
use waverant_store::{
    KeyFileError, Keychain, PrivateServer, PrivateServerError, Secret, Store, StoreError, TakeFilter,
};

use crate::api::{ApiState, FirstRun, Ports, serve};
use crate::check::{bind_failure, folder_failure, try_folder};
use crate::house::{House, Ledger};
use crate::ingest::{RtmpDoor, RtmpSettings, SrtDoor, SrtSettings};
use crate::library;
use crate::machine;
use crate::recorder::{RecordingsFolder, recover_takes};
use crate::settings::Settings;
use waverant_net::{ServerTls, TlsError};

/// Connections that the kernel holds until we accept them: a crowd must not make it drop an encoder's.
const BACKLOG: u32 = 4096;

/// How long sessions may take to end when the service stops.
const STOP_TIMEOUT: Duration = Duration::from_secs(5);

/// How long the last records may take; what is left then waits on the disk.
const RECORDS_TIMEOUT: Duration = Duration::from_secs(5);

/// How long the goodbye to the database may take.
const GOODBYE_TIMEOUT: Duration = Duration::from_millis(500);

/// How long open API calls may take when the service stops.
const API_STOP_TIMEOUT: Duration = Duration::from_secs(1);

/// Who may look into the state folder: nobody else.
const STATE_MODE: u32 = 0o700;

/// Who may look into the recordings folder: its group, too.
const RECORDINGS_MODE: u32 = 0o750;

/// A peer over SRT says something every second; one that is silent for so long is gone.
const SRT_IDLE_TIMEOUT: Duration = Duration::from_secs(5);

/// Why the service does not start.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StartError {
    /// An address cannot be listened on.
    #[error("{0}")]
    Listen(String),
    /// The certificate for encoders cannot be used.
    #[error("{0}")]
    Certificate(#[from] TlsError),
    /// A folder cannot be written.
    #[error("{0}")]
    Folder(String),
    /// The key file cannot be used.
    #[error(transparent)]
    KeyFile(#[from] KeyFileError),
    /// The private database does not run.
    #[error("private database: {0}")]
    PrivateServer(#[from] PrivateServerError),
    /// The database cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A file cannot be read or written.
    #[error("{}: {source}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The administrator file is not as expected.
    #[error("administrator file {}: {message}", path.display())]
    Administrator {
        /// The file.
        path: PathBuf,
        /// What was found and what was expected.
        message: String,
    },
}

/// Where the service listens, as bound.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Addresses {
    /// Encoders.
    pub rtmp: SocketAddr,
    /// Encoders over TLS, if there is a certificate.
    pub rtmps: Option<SocketAddr>,
    /// Encoders and players over SRT.
    pub srt: SocketAddr,
    /// Console and API.
    pub http: SocketAddr,
    /// The service's process number.
    pub pid: u32,
    /// The private database's process number.
    pub database_pid: Option<u32>,
}

/// The running service.
#[derive(Debug)]
pub struct Service {
    addresses: Addresses,
    house: Arc<House>,
    first_run: Arc<FirstRun>,
    database: Option<PrivateServer>,
    ledger_task: JoinHandle<()>,
    api_task: JoinHandle<()>,
    ready_file: Option<PathBuf>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Administrator {
    name: String,
    password: String,
}

impl Service {
    /// Starts everything: folders, database, records, listeners. Says what takes time.
    ///
    /// # Errors
    /// [`StartError`] that says what to do.
    pub async fn start(settings: Settings) -> Result<Self, StartError> {
        prepare_machine(&settings)?;
        // Bound first: a port in use is found before the database is started for nothing.
        let Doors { rtmp, rtmps, srt, http } = Doors::bind(&settings)?;
        let keychain = Keychain::open(&settings.state_folder)?;
        let (database, url) = open_database(&settings)?;
        let store = Store::open(&url, keychain).await?;
        // First: what an earlier run could not write ends sessions that are not to be closed below.
        let (ledger, ledger_task) = Ledger::start(store.clone(), &settings.state_folder).await?;
        let recordings =
            RecordingsFolder { path: settings.recordings_folder.clone(), floor_bytes: settings.recordings_floor_bytes };
        mark_recordings(&store, &recordings).await?;
        close_unfinished(&store, &settings.recordings_folder).await?;
        make_administrator(&store, settings.administrator_file.as_deref()).await?;
        let first_run = Arc::new(FirstRun::new(&store, &settings.state_folder).await?);

        let house = House::open(store, ledger, recordings, settings.take_undo, &settings.state_folder).await?;
        house.tasks.spawn(library::keep(house.clone()));
        house.tasks.spawn(house.clone().look_after());
        let addresses = Addresses {
            rtmp: local_address("rtmp", &rtmp)?,
            rtmps: rtmps.as_ref().map(|(listener, _)| local_address("rtmps", listener)).transpose()?,
            srt: srt.local_address().map_err(|error| StartError::Listen(format!("listen.srt: {error}")))?,
            http: local_address("http", &http)?,
            pid: std::process::id(),
            database_pid: database.as_ref().map(PrivateServer::pid),
        };
        let rtmp_settings = RtmpSettings {
            limits: settings.rtmp_limits.clone(),
            places: LobbyLimits {
                let_in: settings.rtmp_connections,
                waiting: settings.rtmp_callers,
                per_address: settings.rtmp_connections_per_address,
            },
        };
        let door = RtmpDoor::new(house.clone(), rtmp_settings);
        house.tasks.spawn(door.clone().listen(rtmp, None));
        if let Some((listener, tls)) = rtmps {
            house.tasks.spawn(tls.clone().follow_files(house.stopping.clone()));
            house.tasks.spawn(door.listen(listener, Some(tls)));
        }
        let srt_settings = SrtSettings {
            max_connections: settings.srt_connections,
            max_per_address: settings.srt_connections_per_address,
            idle_timeout: SRT_IDLE_TIMEOUT,
        };
        house.tasks.spawn(srt.listen(house.clone(), srt_settings));
        let ports = Ports {
            rtmp: addresses.rtmp.port(),
            rtmps: addresses.rtmps.map(|address| address.port()),
            srt: addresses.srt.port(),
        };
        let state = ApiState::new(house.clone(), first_run.clone(), settings.host.clone(), ports);
        let http_places = LobbyLimits {
            let_in: settings.http_connections,
            waiting: settings.http_connections,
            per_address: settings.http_connections_per_address,
        };
        let api_task = tokio::spawn(serve(http, crate::api::router(state), house.clone(), http_places));
        let service =
            Self { addresses, house, first_run, database, ledger_task, api_task, ready_file: settings.ready_file };
        service.write_ready_file()?;
        Ok(service)
    }

    /// Where the service listens.
    pub fn addresses(&self) -> &Addresses {
        &self.addresses
    }

    /// The code that makes the first administrator, while there is none.
    pub fn first_run_code(&self) -> Option<Secret> {
        self.first_run.code()
    }

    /// Prints the bound addresses, and the way to the first administrator.
    #[expect(clippy::print_stdout, reason = "the addresses are the program's output")]
    pub fn announce(&self) {
        println!("encoders   rtmp://{}/in", self.addresses.rtmp);
        if let Some(rtmps) = self.addresses.rtmps {
            println!("           rtmps://{rtmps}/in");
        }
        println!("           srt://{}", self.addresses.srt);
        println!("console    http://{}/", self.addresses.http);
        if let Some(code) = self.first_run_code() {
            println!("first run  open the console and enter the one-time code {}", code.reveal());
        }
    }

    /// Ends all sessions in order: encoders and platforms are told, takes are finished, records
    /// are written, the database is stopped.
    pub async fn stop(self) {
        tracing::info!("stopping");
        if let Some(file) = &self.ready_file {
            let _ = fs::remove_file(file);
        }
        self.house.stopping.cancel();
        self.house.tasks.close();
        if timeout(STOP_TIMEOUT, self.house.tasks.wait()).await.is_err() {
            tracing::warn!("some sessions did not end in time");
        }
        let _ = timeout(API_STOP_TIMEOUT, self.api_task).await;
        self.house.ledger.close();
        if timeout(RECORDS_TIMEOUT, self.ledger_task).await.is_err() {
            tracing::error!("some records could not be written in time");
        }
        let _ = timeout(GOODBYE_TIMEOUT, self.house.store.close()).await;
        if let Some(database) = self.database {
            let _ = tokio::task::spawn_blocking(|| database.stop()).await;
        }
        tracing::info!("stopped");
    }

    /// Written beside its place and renamed, so that a reader never sees half of it.
    fn write_ready_file(&self) -> Result<(), StartError> {
        let Some(path) = &self.ready_file else { return Ok(()) };
        let failed = |source| StartError::File { path: path.clone(), source };
        let text = serde_json::to_string(&self.addresses).map_err(|error| failed(error.into()))?;
        let fresh = path.with_extension("new");
        fs::write(&fresh, text).and_then(|()| fs::rename(&fresh, path)).map_err(failed)
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

/// Open files, and folders that are ours alone.
fn prepare_machine(settings: &Settings) -> Result<(), StartError> {
    let descriptors = machine::raise_descriptors();
    let wanted = machine::wanted_descriptors(settings) + machine::SHOW_DESCRIPTORS;
    if descriptors < wanted {
        tracing::warn!(descriptors, wanted, "the system allows few open files; raise LimitNOFILE, or lower [limits]");
    }
    for (name, folder, mode) in [
        ("state folder", &settings.state_folder, STATE_MODE),
        ("recordings folder", &settings.recordings_folder, RECORDINGS_MODE),
    ] {
        let made = machine::keep_private(folder, mode).and_then(|()| try_folder(folder));
        made.map_err(|error| StartError::Folder(folder_failure(name, folder, &error)))?;
    }
    Ok(())
}

/// Where everybody comes in, bound and not yet listened at.
struct Doors {
    rtmp: TcpListener,
    rtmps: Option<(TcpListener, Arc<ServerTls>)>,
    srt: SrtDoor,
    http: TcpListener,
}

impl Doors {
    fn bind(settings: &Settings) -> Result<Self, StartError> {
        let rtmp = bind("rtmp", settings.rtmp)?;
        let rtmps = match &settings.tls {
            Some(files) => {
                let tls = ServerTls::open(files.clone())?;
                Some((bind("rtmps", settings.rtmps)?, tls))
            }
            None => None,
        };
        let srt = SrtDoor::bind(settings.srt)
            .map_err(|error| StartError::Listen(bind_failure("srt", settings.srt, &error)))?;
        let http = bind("http", settings.http)?;
        Ok(Self { rtmp, rtmps, srt, http })
    }
}

fn open_database(settings: &Settings) -> Result<(Option<PrivateServer>, String), StartError> {
    if let Some(url) = &settings.database_url {
        tracing::info!("using the database of the settings");
        return Ok((None, url.clone()));
    }
    let folder = settings.state_folder.join("database");
    if folder.join("data").exists() {
        tracing::info!("starting the private database");
    } else {
        tracing::info!(folder = %folder.display(), "setting up the private database; this takes some seconds, once");
    }
    let server = PrivateServer::start(&folder)?;
    let url = server.url("waverant");
    Ok((Some(server), url))
}

/// Takes that are looked for to know the recordings folder of a house that had no mark yet.
const KNOWN_TAKES: u32 = 50;

async fn mark_recordings(store: &Store, recordings: &RecordingsFolder) -> Result<(), StartError> {
    let filter = TakeFilter { limit: KNOWN_TAKES, ..TakeFilter::default() };
    let here = store.takes(&filter).await?.into_iter().filter(|take| take.card.is_here);
    let known: Vec<PathBuf> = here.map(|take| take.record.path.into()).collect();
    let failed = |source| StartError::File { path: recordings.path.clone(), source };
    recordings.make_mark(&known).map_err(failed)
}

/// Closes what a run that was killed left open, and says so.
async fn close_unfinished(store: &Store, recordings: &Path) -> Result<(), StartError> {
    let takes = recover_takes(store, recordings).await?;
    let reason = "the service ended unexpectedly";
    let sessions = store.close_unfinished(OffsetDateTime::now_utc(), reason).await?.sessions;
    if !sessions.is_empty() || takes > 0 {
        tracing::warn!(?sessions, takes, "the last run ended unexpectedly; its open sessions are closed now");
    }
    Ok(())
}

async fn make_administrator(store: &Store, file: Option<&Path>) -> Result<(), StartError> {
    let Some(path) = file else { return Ok(()) };
    if !store.has_no_users().await? {
        return Ok(());
    }
    let text = fs::read_to_string(path).map_err(|source| StartError::File { path: path.to_owned(), source })?;
    let wrong = |message: String| StartError::Administrator { path: path.to_owned(), message };
    let administrator: Administrator = toml::from_str(&text)
        .map_err(|error| wrong(format!("`name` and `password` were expected: {}", error.message())))?;
    let password = Secret::new(administrator.password);
    crate::api::check_user_name(&administrator.name).map_err(&wrong)?;
    crate::api::check_password(&password).map_err(&wrong)?;
    store.add_user(&administrator.name, &password, OffsetDateTime::now_utc()).await?;
    tracing::info!(name = administrator.name, "the first administrator was made from the file");
    Ok(())
}
