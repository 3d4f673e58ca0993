//! The library of takes: what can be had of a take, and how long it is kept.

mod check;
mod copies;
mod cuts;
mod depot;
mod files;
mod jobs;
mod keeper;
mod numbers;
mod stills;

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use waverant_relay::DiskOutlook;
use waverant_store::{Store, StoreError, StoredTake, TakeState};

pub(crate) use cuts::CutOrder;
pub(crate) use depot::{CopyOutcome, DepotClient};
pub(crate) use files::{TakeBytes, Variant, hex};
pub(crate) use jobs::{Job, JobReport, Jobs};
pub(crate) use keeper::{LOW_TIME, run as keep};

use crate::recorder::{FileSource, RecordingsFolder, TakeDisk};
use files::Layouts;
pub(crate) use numbers::TakeNumbers;

/// Why something cannot be done with a take.
#[derive(Debug)]
pub(crate) enum LibraryError {
    /// The database, or no such take.
    Store(StoreError),
    /// The state of the take does not allow it; in words.
    State(String),
    /// The take's file is not where it should be.
    NoFile(String),
    /// The take's file cannot be used; in words.
    File(String),
}

impl From<StoreError> for LibraryError {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// What works on takes share.
#[derive(Debug)]
pub(crate) struct Library {
    pub(crate) store: Store,
    pub(crate) recordings: Arc<RecordingsFolder>,
    pub(crate) jobs: Jobs,
    layouts: Layouts,
    stills_folder: PathBuf,
    /// Takes that something is being done with that must not be disturbed by a removal.
    busy: Mutex<HashSet<(u64, u32)>>,
    /// The one source of take numbers, for recorders and cuts.
    pub(crate) numbers: TakeNumbers,
    /// Takes that could not be read when they were last looked at.
    unreadable: Mutex<HashSet<(u64, u32)>>,
    folder_is_missing: Mutex<bool>,
    outlook: Mutex<Option<DiskOutlook>>,
    /// How long a removed take can be had back.
    pub(crate) undo_time: Duration,
    /// Cancelled when the service stops.
    stopping: CancellationToken,
    news: Arc<Notify>,
    copy_news: Notify,
}

/// Keeps a take's file where it is for as long as it lives.
#[derive(Debug)]
pub(crate) struct Hold {
    library: Arc<Library>,
    take: (u64, u32),
}

impl Drop for Hold {
    fn drop(&mut self) {
        self.library.busy.lock().remove(&self.take);
    }
}

impl Library {
    pub(crate) fn new(
        store: Store,
        recordings: Arc<RecordingsFolder>,
        state_folder: &Path,
        undo_time: Duration,
        news: Arc<Notify>,
        stopping: CancellationToken,
    ) -> Self {
        Self {
            store,
            recordings,
            jobs: Jobs::default(),
            layouts: Layouts::default(),
            stills_folder: state_folder.join("stills"),
            busy: Mutex::default(),
            numbers: TakeNumbers::default(),
            unreadable: Mutex::default(),
            folder_is_missing: Mutex::default(),
            outlook: Mutex::default(),
            undo_time,
            stopping,
            news,
            copy_news: Notify::new(),
        }
    }

    /// Says that a take was ended, or changed.
    pub(crate) fn tell_news(&self) {
        self.news.notify_one();
        self.copy_news.notify_one();
    }

    /// How much room there was when it was last looked at.
    pub(crate) fn outlook(&self) -> Option<DiskOutlook> {
        *self.outlook.lock()
    }

    /// Where a take's file is.
    pub(crate) fn path_of(&self, take: &StoredTake) -> PathBuf {
        self.recordings.path.join(&take.record.path)
    }

    /// A take that is there, whole or cut off.
    pub(crate) async fn take_here(&self, session: u64, number: u32) -> Result<StoredTake, LibraryError> {
        let take = self.store.take(session, number).await?;
        if !take.card.is_here {
            let told = format!("The take {session}/{number} is not on this disk. Restore it from its depot first.");
            return Err(LibraryError::State(told));
        }
        Ok(take)
    }

    /// A take that is there and not being written.
    pub(crate) async fn ended_take(&self, session: u64, number: u32) -> Result<StoredTake, LibraryError> {
        let take = self.take_here(session, number).await?;
        if take.record.state == TakeState::Writing {
            return Err(LibraryError::State(format!("The take {session}/{number} is still being written.")));
        }
        Ok(take)
    }

    /// Keeps a take where it is; none if somebody does so already.
    pub(crate) fn hold(self: &Arc<Self>, session: u64, number: u32) -> Option<Hold> {
        let take = (session, number);
        self.busy.lock().insert(take).then(|| Hold { library: self.clone(), take })
    }

    pub(crate) fn is_held(&self, session: u64, number: u32) -> bool {
        self.busy.lock().contains(&(session, number))
    }

    /// Reads a take's file off the runtime's threads.
    pub(crate) async fn with_file<T: Send + 'static>(
        &self,
        take: &StoredTake,
        work: impl FnOnce(FileSource) -> Result<T, String> + Send + 'static,
    ) -> Result<T, LibraryError> {
        let path = self.path_of(take);
        let name = take.record.path.clone();
        let done = tokio::task::spawn_blocking(move || match FileSource::open(&path) {
            Ok(source) => work(source).map_err(LibraryError::File),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(LibraryError::NoFile(name)),
            Err(error) => Err(LibraryError::File(format!("the file {name} cannot be read: {error}"))),
        });
        done.await.map_err(|error| LibraryError::File(error.to_string())).flatten()
    }

    async fn look_at_the_disk(&self) {
        let disk = self.recordings.clone();
        match tokio::task::spawn_blocking(move || disk.outlook()).await.map_err(std::io::Error::other).flatten() {
            Ok(outlook) => *self.outlook.lock() = Some(outlook),
            Err(error) => tracing::error!(%error, "the free space of the recordings folder cannot be read"),
        }
    }
}
