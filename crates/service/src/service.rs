use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use tokio::task::JoinHandle;
use tokio::time::timeout;
use waverant_api::{FirstRun, LogDesk};
use waverant_calls::Reachable;
use waverant_codec::CodecPool;
use waverant_house::{House, HouseSetup, Ledger};
use waverant_library::RecordingsFolder;
use waverant_relay::Secret;
use waverant_store::PrivateServer;

use crate::addresses::Addresses;
use crate::doors::Doors;
use crate::first_boot;
use crate::helpers::helpers;
use crate::settings::Settings;
use crate::start::{
    StartError, close_unfinished, make_administrator, mark_recordings, open_database, open_store, prepare_machine,
};
use crate::state_lock::StateLock;
use crate::supervision;
use crate::viewing_runtime::ViewingRuntime;

/// How long sessions may take to end when the service stops.
const STOP_TIMEOUT: Duration = Duration::from_secs(5);

/// How long the last records may take; what is left then waits on the disk.
const RECORDS_TIMEOUT: Duration = Duration::from_secs(5);

/// How long the goodbye to the database may take.
const GOODBYE_TIMEOUT: Duration = Duration::from_millis(500);

/// How long open API calls may take when the service stops.
const API_STOP_TIMEOUT: Duration = Duration::from_secs(1);

/// The running service.
#[derive(Debug)]
pub struct Service {
    addresses: Addresses,
    house: Arc<House>,
    first_run: Arc<FirstRun>,
    database: Option<PrivateServer>,
    ledger_task: JoinHandle<()>,
    api_task: JoinHandle<()>,
    /// Ends with the service.
    _viewing: ViewingRuntime,
    ready_file: Option<PathBuf>,
    _state_lock: StateLock,
}

impl Service {
    /// Starts everything: folders, database, records, listeners. Says what takes time.
    ///
    /// # Errors
    /// [`StartError`] that says what to do.
    pub async fn start(settings: Settings, log: LogDesk) -> Result<Self, StartError> {
        prepare_machine(&settings)?;
        // Bound first: a port in use is found before the database is started for nothing.
        let doors = Doors::bind(&settings)?;
        let state_lock = StateLock::take(&settings.state_folder)?;
        let (database, url) = open_database(&settings)?;
        let store = open_store(&url, &settings.state_folder).await?;
        // First: what an earlier run could not write ends sessions that are not to be closed below.
        let (ledger, ledger_task) = Ledger::start(store.clone(), &settings.state_folder).await?;
        let recordings =
            RecordingsFolder { path: settings.recordings_folder.clone(), floor_bytes: settings.recordings_floor_bytes };
        mark_recordings(&store, &recordings).await?;
        close_unfinished(&store, &settings.recordings_folder).await?;
        make_administrator(&store, settings.first_run.administrator.as_deref()).await?;
        let setup = HouseSetup {
            store,
            database_pid: database.as_ref().map(PrivateServer::pid),
            ledger,
            recordings,
            undo_time: settings.take_undo,
            state_folder: &settings.state_folder,
            reachable: Reachable::new(settings.private_addresses.iter().copied()),
            mail: settings.mail.clone(),
            codec: CodecPool::new(helpers()),
            checkup_share: settings.checkup_share,
            figure_days: settings.figure_days,
            act_days: settings.act_days,
            audience: settings.audience,
            slot_sites: settings.slot_sites.clone(),
            viewing_site: settings.viewing_site.clone(),
        };
        let house = House::open(setup).await?;
        first_boot::set_up(&house, &settings.first_run, &settings.state_folder).await?;
        let first_run = Arc::new(FirstRun::new(house.store(), &settings.state_folder).await?);
        let addresses = doors.addresses(database.as_ref().map(PrivateServer::pid))?;
        let viewing = ViewingRuntime::start().map_err(StartError::Threads)?;
        let api_task = doors.open(&house, (first_run.clone(), log), &settings, &addresses, &viewing.handle());
        let service = Self {
            addresses,
            house,
            first_run,
            database,
            ledger_task,
            api_task,
            _viewing: viewing,
            ready_file: settings.ready_file,
            _state_lock: state_lock,
        };
        service.write_ready_file()?;
        supervision::begin(&service.house);
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
        if let Some(https) = self.addresses.https {
            println!("           https://{https}/");
        }
        if let Some(code) = self.first_run_code() {
            println!("first run  open the console and enter the one-time code {}", code.reveal());
        }
    }

    /// Ends all sessions in order: encoders and platforms are told, takes are finished, records
    /// are written, the database is stopped.
    pub async fn stop(self) {
        tracing::info!("stopping");
        supervision::end(&self.house);
        if let Some(file) = &self.ready_file {
            let _ = fs::remove_file(file);
        }
        self.house.stopping().cancel();
        self.house.tasks().close();
        if timeout(STOP_TIMEOUT, self.house.tasks().wait()).await.is_err() {
            tracing::warn!("some sessions did not end in time");
        }
        let _ = timeout(API_STOP_TIMEOUT, self.api_task).await;
        self.house.close_records(self.ledger_task, RECORDS_TIMEOUT).await;
        let _ = timeout(GOODBYE_TIMEOUT, self.house.store().close()).await;
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
