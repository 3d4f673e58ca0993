//! Takes that are cut from others, on keyframes and without encoding anew.

use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;
use serde_json::json;
use tokio_util::sync::CancellationToken;
use waverant_store::{StoredTake, TakeRecord, TakeState};

use super::files::TakeBytes;
use super::{Job, Library, LibraryError, Variant};
use crate::recorder::{TakeDisk, TakeFile};

/// Bytes that are copied at once.
const CHUNK: u64 = 1024 * 1024;

/// Names that are taken get a number; so many are tried.
const MAX_NAMES: u32 = 1000;

/// What is to be cut.
#[derive(Debug)]
pub(crate) struct CutOrder {
    pub(crate) from_ms: u64,
    pub(crate) to_ms: Option<u64>,
    pub(crate) title: Option<String>,
    /// The number of the new take.
    pub(crate) number: u32,
}

impl Library {
    /// The number of the next take of a session.
    pub(crate) async fn next_number(&self, session: u64) -> Result<u32, LibraryError> {
        if !self.numbers.knows(session) {
            self.numbers.learn(session, self.store.last_take_number(session).await?);
        }
        Ok(self.numbers.next(session))
    }

    /// Cuts a piece of a take into a take of its own, in a job.
    pub(crate) fn start_cut(self: &Arc<Self>, take: StoredTake, order: CutOrder) -> Arc<Job> {
        let library = self.clone();
        let id = (take.record.session_id, take.record.number);
        self.jobs.start("cut", id, move |job| async move {
            let variant = Variant::Progressive { from_ms: Some(order.from_ms), to_ms: order.to_ms };
            let bytes = library.bytes(&take, variant).await.map_err(LibraryError::told)?;
            job.set_total(bytes.length);
            let duration_ms = bytes.duration_ms();
            let stem = take.record.path.rsplit_once('.').map_or(take.record.path.as_str(), |(stem, _)| stem);
            let stopping = library.stopping.clone();
            let (disk, stem, length) = (library.recordings.clone(), format!("{stem}_cut"), bytes.length);
            let copied =
                tokio::task::spawn_blocking(move || write_out(disk.as_ref(), &stem, &bytes, &job, &stopping)).await;
            let path = copied.map_err(|error| error.to_string()).flatten()?;
            let begins = time::Duration::milliseconds(i64::try_from(order.from_ms).unwrap_or(0));
            let record = TakeRecord {
                session_id: id.0,
                number: order.number,
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
            let kept = library.store.add_cut_take(&record, id.1, order.title.as_deref()).await;
            if !matches!(kept, Ok(true)) {
                // A file that no record leads to fills the disk.
                let _ = tokio::fs::remove_file(library.recordings.path.join(&path)).await;
            }
            if !kept.map_err(|error| error.to_string())? {
                return Err(format!("the number {} was given to another take; cut it again", order.number));
            }
            library.tell_news();
            Ok(json!({"session": id.0, "take": order.number, "duration_ms": duration_ms, "size_bytes": length}))
        })
    }
}

fn copy_into(
    file: &mut dyn TakeFile,
    bytes: &TakeBytes,
    job: &Job,
    stopping: &CancellationToken,
) -> Result<(), String> {
    let told = |error: std::io::Error| format!("the cut cannot be written: {error}");
    let mut at = 0;
    while at < bytes.length {
        if stopping.is_cancelled() {
            return Err("the service stops; cut it again".to_owned());
        }
        let length = usize::try_from((bytes.length - at).min(CHUNK)).unwrap_or(0);
        let mut piece = vec![0; length];
        bytes.read_at(at, &mut piece).and_then(|()| file.append(vec![Bytes::from(piece)])).map_err(told)?;
        at += length as u64;
        job.set_done(at);
    }
    file.sync().map_err(told)
}

fn write_out(
    disk: &dyn TakeDisk,
    stem: &str,
    bytes: &TakeBytes,
    job: &Job,
    stopping: &CancellationToken,
) -> Result<PathBuf, String> {
    let told = |error: std::io::Error| format!("the cut cannot be written: {error}");
    let outlook = disk.outlook().map_err(told)?;
    if outlook.free_bytes.saturating_sub(bytes.length) < outlook.floor_bytes {
        return Err(format!("the cut needs {} MB, and the disk has no room for that", bytes.length / 1_000_000));
    }
    for number in 1..=MAX_NAMES {
        let path = PathBuf::from(if number == 1 { format!("{stem}.mp4") } else { format!("{stem} ({number}).mp4") });
        let mut file = match disk.create(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => continue,
            created => created.map_err(told)?,
        };
        let copied = copy_into(file.as_mut(), bytes, job, stopping);
        if copied.is_err()
            && let Err(error) = disk.remove(&path)
        {
            tracing::warn!(%error, "a cut that was not finished stays on the disk");
        }
        return copied.map(|()| path);
    }
    Err(format!("{stem} and {MAX_NAMES} names like it are taken"))
}
