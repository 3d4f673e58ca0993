use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use waverant_codec::CodecPool;
use waverant_relay::{DiskOutlook, TakeDisk, TakeNumbers, TakeState};
use waverant_store::{Store, StoredTake};

use crate::layouts::Layouts;
use crate::{FileSource, Jobs, LibraryError, RecordingsFolder};

/// What a library begins with.
#[derive(Debug)]
pub struct LibrarySetup<'a> {
    /// Where takes are recorded.
    pub recordings: Arc<RecordingsFolder>,
    /// Where strips of stills are kept.
    pub state_folder: &'a Path,
    /// How long a removed take can be had back.
    pub undo_time: Duration,
    /// Told when a take was written down.
    pub news: Arc<Notify>,
    /// Who decodes stills.
    pub codec: CodecPool,
    /// Cancelled when the service stops.
    pub stopping: CancellationToken,
}

/// What works on takes share.
#[derive(Debug)]
pub struct Library {
    pub(crate) store: Store,
    pub(crate) recordings: Arc<RecordingsFolder>,
    pub(crate) jobs: Jobs,
    pub(crate) layouts: Layouts,
    pub(crate) stills_folder: PathBuf,
    /// Takes that something is being done with that must not be disturbed by a removal.
    busy: Mutex<HashSet<(u64, u32)>>,
    /// The one source of take numbers, for recorders and cuts.
    pub(crate) numbers: Arc<TakeNumbers>,
    /// Takes that could not be read when they were last looked at.
    pub(crate) unreadable: Mutex<HashSet<(u64, u32)>>,
    pub(crate) folder_is_missing: Mutex<bool>,
    outlook: Mutex<Option<DiskOutlook>>,
    /// How long a removed take can be had back.
    pub(crate) undo_time: Duration,
    /// Cancelled when the service stops.
    pub(crate) stopping: CancellationToken,
    pub(crate) news: Arc<Notify>,
    pub(crate) copy_news: Notify,
    pub(crate) codec: CodecPool,
}

/// Keeps a take's file where it is for as long as it lives.
#[derive(Debug)]
pub struct Hold {
    library: Arc<Library>,
    take: (u64, u32),
}

impl Drop for Hold {
    fn drop(&mut self) {
        self.library.busy.lock().remove(&self.take);
    }
}

impl Library {
    /// A library of the takes in `store`.
    pub fn new(store: Store, setup: LibrarySetup<'_>) -> Self {
        let LibrarySetup { recordings, state_folder, undo_time, news, codec, stopping } = setup;
        Self {
            store,
            recordings,
            jobs: Jobs::default(),
            layouts: Layouts::default(),
            stills_folder: state_folder.join("stills"),
            busy: Mutex::default(),
            numbers: Arc::default(),
            unreadable: Mutex::default(),
            folder_is_missing: Mutex::default(),
            outlook: Mutex::default(),
            undo_time,
            stopping,
            news,
            copy_news: Notify::new(),
            codec,
        }
    }

    /// Long work that goes on.
    pub fn jobs(&self) -> &Jobs {
        &self.jobs
    }

    /// The one source of take numbers, for recorders and cuts.
    pub fn numbers(&self) -> &Arc<TakeNumbers> {
        &self.numbers
    }

    /// Where takes are recorded.
    pub fn recordings(&self) -> &Arc<RecordingsFolder> {
        &self.recordings
    }

    /// How long a removed take can be had back.
    pub fn undo_time(&self) -> Duration {
        self.undo_time
    }

    /// Says that a take was ended, or changed.
    pub fn tell_news(&self) {
        self.news.notify_one();
        self.copy_news.notify_one();
    }

    /// How much room there was when it was last looked at.
    pub fn outlook(&self) -> Option<DiskOutlook> {
        *self.outlook.lock()
    }

    /// Where a take's file is.
    pub(crate) fn path_of(&self, take: &StoredTake) -> PathBuf {
        self.recordings.path.join(&take.record.path)
    }

    /// A take that is there, whole or cut off.
    ///
    /// # Errors
    /// [`LibraryError::State`] if it is not on this disk, or what the database said.
    pub async fn take_here(&self, session: u64, number: u32) -> Result<StoredTake, LibraryError> {
        let take = self.store.take(session, number).await?;
        if !take.card.is_here {
            let told = format!("The take {session}/{number} is not on this disk. Restore it from its depot first.");
            return Err(LibraryError::State(told));
        }
        Ok(take)
    }

    /// A take that is there and not being written.
    ///
    /// # Errors
    /// [`LibraryError::State`] if it is not on this disk or being written, or what the database said.
    pub async fn ended_take(&self, session: u64, number: u32) -> Result<StoredTake, LibraryError> {
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
        work: impl FnOnce(FileSource) -> Result<T, LibraryError> + Send + 'static,
    ) -> Result<T, LibraryError> {
        let (path, name) = (self.path_of(take), take.record.path.clone());
        tokio::task::spawn_blocking(move || work(open(&path, name)?)).await?
    }

    pub(crate) async fn look_at_the_disk(&self) {
        let disk = self.recordings.clone();
        match tokio::task::spawn_blocking(move || disk.outlook()).await.map_err(std::io::Error::other).flatten() {
            Ok(outlook) => *self.outlook.lock() = Some(outlook),
            Err(error) => tracing::error!(%error, "the free space of the recordings folder cannot be read"),
        }
    }
}

/// Opens the file of a take that is called `name`.
pub(crate) fn open(path: &Path, name: String) -> Result<FileSource, LibraryError> {
    match FileSource::open(path) {
        Ok(source) => Ok(source),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(LibraryError::NoFile(name)),
        Err(error) => Err(LibraryError::File(format!("the file {name} cannot be read: {error}"))),
    }
}
