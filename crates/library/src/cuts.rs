//! Takes that are cut from others, on keyframes and without encoding anew.

use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;
use tokio_util::sync::CancellationToken;
use waverant_relay::{TakeDisk, TakeFile, TakeRecord, TakeState};
use waverant_store::StoredTake;

use crate::{Job, JobKind, JobOutcome, Library, LibraryError, MadeTake, RecordingsFolder, TakeBytes, Variant};

/// Bytes that are copied at once.
const CHUNK: u64 = 1024 * 1024;

/// Names that are taken get a number; so many are tried.
const MAX_NAMES: u32 = 1000;

/// What is to be cut.
#[derive(Debug)]
pub struct CutOrder {
    /// Begin at the last keyframe that is not later, in milliseconds.
    pub from_ms: u64,
    /// End before the first keyframe that is not earlier, in milliseconds.
    pub to_ms: Option<u64>,
    /// What people call it.
    pub title: Option<String>,
}

impl Library {
    /// The number of the next take of a session.
    async fn next_number(&self, session: u64) -> Result<u32, LibraryError> {
        if !self.numbers.knows(session) {
            self.numbers.learn(session, self.store.last_take_number(session).await?);
        }
        Ok(self.numbers.next(session))
    }

    /// Cuts a piece of a take into a take of its own, in a job.
    ///
    /// # Errors
    /// [`LibraryError`] if there is no such take, or it is not whole and here.
    pub async fn start_cut(
        self: &Arc<Self>,
        (session, number): (u64, u32),
        order: CutOrder,
    ) -> Result<Arc<Job>, LibraryError> {
        let take = self.ended_take(session, number).await?;
        let new_number = self.next_number(session).await?;
        let library = self.clone();
        let work = move |job| async move { library.cut(&take, order, new_number, job).await.map(JobOutcome::Made) };
        Ok(self.jobs.start(JobKind::Cut, (session, number), work))
    }

    async fn cut(
        self: &Arc<Self>,
        take: &StoredTake,
        order: CutOrder,
        number: u32,
        job: Arc<Job>,
    ) -> Result<MadeTake, LibraryError> {
        let session = take.record.session_id;
        let bytes = self.bytes(take, Variant::Progressive { from_ms: Some(order.from_ms), to_ms: order.to_ms }).await?;
        job.set_total(bytes.length);
        let (duration_ms, length) = (bytes.duration_ms(), bytes.length);
        let stem = take.record.path.rsplit_once('.').map_or(take.record.path.as_str(), |(stem, _)| stem);
        let (disk, stem, stopping) = (self.recordings.clone(), format!("{stem}_cut"), self.stopping.clone());
        let path = tokio::task::spawn_blocking(move || write_out(&disk, &stem, &bytes, &job, &stopping)).await??;
        let begins = time::Duration::milliseconds(i64::try_from(order.from_ms).unwrap_or(0));
        let record = TakeRecord {
            session_id: session,
            number,
            path: path.to_string_lossy().into_owned(),
            state: TakeState::Complete,
            started_at: take.record.started_at + begins,
            duration_ms,
            size_bytes: length,
            gap_count: 0,
            gap_ms: 0,
            marks: Vec::new(),
            repair: None,
        };
        let kept = self.store.add_cut_take(&record, take.record.number, order.title.as_deref()).await;
        if !matches!(kept, Ok(true)) {
            // A file that no record leads to fills the disk.
            let _ = tokio::fs::remove_file(self.recordings.path.join(&path)).await;
        }
        if !kept? {
            let told = format!("the number {number} was given to another take; cut it again");
            return Err(LibraryError::State(told));
        }
        self.tell_news();
        Ok(MadeTake { session, take: number, duration_ms: Some(duration_ms), size_bytes: length })
    }
}

const NOT_WRITTEN: &str = "the cut cannot be written";

fn copy_into(
    file: &mut dyn TakeFile,
    bytes: &TakeBytes,
    job: &Job,
    stopping: &CancellationToken,
) -> Result<(), LibraryError> {
    let mut at = 0;
    while at < bytes.length {
        if stopping.is_cancelled() {
            return Err(LibraryError::Stopping);
        }
        let length = usize::try_from((bytes.length - at).min(CHUNK)).unwrap_or(0);
        let mut piece = vec![0; length];
        let read = bytes.read_at(at, &mut piece);
        read.and_then(|()| file.append(vec![Bytes::from(piece)])).map_err(LibraryError::disk(NOT_WRITTEN))?;
        at += length as u64;
        job.set_done(at);
    }
    file.sync().map_err(LibraryError::disk(NOT_WRITTEN))
}

fn write_out(
    disk: &RecordingsFolder,
    stem: &str,
    bytes: &TakeBytes,
    job: &Job,
    stopping: &CancellationToken,
) -> Result<PathBuf, LibraryError> {
    let outlook = disk.outlook().map_err(LibraryError::disk(NOT_WRITTEN))?;
    if outlook.free_bytes.saturating_sub(bytes.length) < outlook.floor_bytes {
        let told = format!("the cut needs {} MB, and the disk has no room for that", bytes.length / 1_000_000);
        return Err(LibraryError::State(told));
    }
    for number in 1..=MAX_NAMES {
        let path = PathBuf::from(if number == 1 { format!("{stem}.mp4") } else { format!("{stem} ({number}).mp4") });
        let mut file = match disk.create(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => continue,
            created => created.map_err(LibraryError::disk(NOT_WRITTEN))?,
        };
        let copied = copy_into(file.as_mut(), bytes, job, stopping);
        if copied.is_err()
            && let Err(error) = disk.remove(&path)
        {
            tracing::warn!(%error, "a cut that was not finished stays on the disk");
        }
        return copied.map(|()| path);
    }
    Err(LibraryError::State(format!("{stem} and {MAX_NAMES} names like it are taken")))
}
