//! What a start does before anybody comes in: folders, database, and what the last run left.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use thiserror::Error;
use time::OffsetDateTime;
use waverant_house::{HouseError, LeftOpen, check_password, check_user_name};
use waverant_library::{RecordingsFolder, recover_takes};
use waverant_net::TlsError;
use waverant_relay::Secret;
use waverant_store::{KeyFileError, Keychain, PrivateServer, PrivateServerError, Store, StoreError, TakeFilter};

use crate::before_migrations::{self, NoBackup};
use crate::check::{folder_failure, try_folder};
use crate::machine;
use crate::settings::Settings;
use crate::state_lock::StateLockError;

/// Who may look into the state folder: nobody else.
const STATE_MODE: u32 = 0o700;

/// What was made when the house was set up from a file.
pub(crate) const MADE_FILE: &str = "first-run-made.toml";

/// Files in it that only the service is to read.
const SECRET_FILES: [&str; 5] = ["secrets.key", "secrets.key.next", "first-run-code", MADE_FILE, "database/password"];

/// Who may look into the recordings folder: its group, too.
const RECORDINGS_MODE: u32 = 0o750;

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
    /// There are no threads for viewers.
    #[error("threads for viewers: {0}")]
    Threads(io::Error),
    /// The state folder is not ours.
    #[error(transparent)]
    Lock(#[from] StateLockError),
    /// What is done by hand would leave files that the service cannot read.
    #[error("{} belongs to user {owner}, and you are user {own}; run this as that user, as in `sudo -u '#{owner}' waverantd …`", folder.display())]
    OtherUser {
        /// The state folder.
        folder: PathBuf,
        /// Whose it is.
        owner: u32,
        /// Who runs this.
        own: u32,
    },
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
    /// The tables are not brought up to date without a backup.
    #[error("{0}")]
    NoBackup(String),
    /// A file cannot be read or written.
    #[error("{}: {source}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The set-up file cannot be applied.
    #[error("the set-up file {} cannot be applied; nothing of it is:\n{message}", path.display())]
    Setup {
        /// The file.
        path: PathBuf,
        /// What is wrong, with lines and columns.
        message: String,
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

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Administrator {
    name: String,
    password: String,
}

/// Open files, and folders that are ours alone.
pub(crate) fn prepare_machine(settings: &Settings) -> Result<(), StartError> {
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
    let of_authority = settings.authority.iter().flat_map(|wanted| waverant_acme::secret_files(&wanted.folder));
    for path in SECRET_FILES.map(|name| settings.state_folder.join(name)).into_iter().chain(of_authority) {
        machine::keep_secret(&path).map_err(|source| StartError::File { path, source })?;
    }
    Ok(())
}

pub(crate) fn open_database(settings: &Settings) -> Result<(Option<PrivateServer>, String), StartError> {
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

/// Opens the records. If a change of the root key was broken off after the database took the new one, that is brought to
/// its end.
pub(crate) async fn open_store(url: &str, state_folder: &Path) -> Result<Store, StartError> {
    before_migrations::back_up(url, state_folder).await?;
    match Store::open(url, Keychain::open(state_folder)?).await {
        Err(StoreError::ForeignKeyFile) => {}
        opened => return Ok(opened?),
    }
    let successor = Keychain::begun_successor(state_folder)?.ok_or(StoreError::ForeignKeyFile)?;
    let store = Store::open(url, successor).await?;
    Keychain::install_successor(state_folder)?;
    tracing::warn!("another root key was in the making; its file is in its place now");
    Ok(store)
}

impl From<NoBackup> for StartError {
    fn from(error: NoBackup) -> Self {
        match error {
            NoBackup::Store(error) => Self::Store(error),
            error => Self::NoBackup(error.to_string()),
        }
    }
}

/// Takes that are looked for to know the recordings folder of a house that had no mark yet.
const KNOWN_TAKES: u32 = 50;

pub(crate) async fn mark_recordings(store: &Store, recordings: &RecordingsFolder) -> Result<(), StartError> {
    let filter = TakeFilter { limit: KNOWN_TAKES, ..TakeFilter::default() };
    let here = store.takes(&filter).await?.into_iter().filter(|take| take.card.is_here);
    let known: Vec<PathBuf> = here.map(|take| take.record.path.into()).collect();
    let failed = |source| StartError::File { path: recordings.path.clone(), source };
    recordings.make_mark(&known).map_err(failed)
}

/// Closes what a run that was killed left open, and says so.
pub(crate) async fn close_unfinished(store: &Store, recordings: &Path) -> Result<(), StartError> {
    let (now, reason) = (OffsetDateTime::now_utc(), "the service ended unexpectedly");
    let left = LeftOpen::new(store, now).await?;
    let takes = recover_takes(store, recordings, async |take| left.tell_take(take).await).await?;
    for session in store.unfinished_sessions().await? {
        left.tell_session(session, reason).await?;
    }
    let sessions = store.close_unfinished(now, reason).await?.sessions;
    if !sessions.is_empty() || takes > 0 {
        tracing::warn!(?sessions, takes, "the last run ended unexpectedly; its open sessions are closed now");
    }
    Ok(())
}

pub(crate) async fn make_administrator(store: &Store, file: Option<&Path>) -> Result<(), StartError> {
    let Some(path) = file else { return Ok(()) };
    if !store.has_no_users().await? {
        return Ok(());
    }
    let text = fs::read_to_string(path).map_err(|source| StartError::File { path: path.to_owned(), source })?;
    let wrong = |message: String| StartError::Administrator { path: path.to_owned(), message };
    let administrator: Administrator = toml::from_str(&text)
        .map_err(|error| wrong(format!("`name` and `password` were expected: {}", error.message())))?;
    let password = Secret::new(administrator.password);
    let told = |error: HouseError| match error {
        HouseError::Invalid { detail, .. } => wrong(detail),
        error => wrong(error.to_string()),
    };
    check_user_name(&administrator.name).map_err(told)?;
    check_password(&password, &administrator.name).map_err(told)?;
    store.add_user(&administrator.name, &password, OffsetDateTime::now_utc()).await?;
    tracing::info!(name = administrator.name, "the first administrator was made from the file");
    Ok(())
}
