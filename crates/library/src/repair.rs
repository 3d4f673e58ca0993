//! Makes takes whole that were not ended in order.

use std::fs::OpenOptions;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

use waverant_container::{FileError, FileReader, Source, plan_repair};
use waverant_relay::{TakeRecord, TakeState};
use waverant_store::{Store, StoreError, written_now};

use crate::FileSource;

/// What mending a take came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mended {
    pub(crate) duration_ms: u64,
    pub(crate) size_bytes: u64,
    /// What was done, in words.
    pub(crate) told: String,
}

/// Mends a file in place. None if nothing is missing. Blocks.
pub(crate) fn repair_file(path: &Path) -> Result<Option<Mended>, FileError> {
    let source = FileSource::open(path)?;
    let Some(repair) = plan_repair(&source)? else { return Ok(None) };
    let file = OpenOptions::new().write(true).open(path)?;
    // What is appended is on the disk before anything points to it.
    file.set_len(repair.keep_bytes)?;
    file.write_all_at(&repair.append, repair.keep_bytes)?;
    file.sync_data()?;
    for patch in &repair.patches {
        file.write_all_at(&patch.bytes, patch.offset)?;
    }
    file.sync_all()?;
    let mut told = vec![match repair.removed_bytes {
        0 => "nothing had to be removed".to_owned(),
        bytes => format!("{bytes} bytes of an unfinished piece were removed"),
    }];
    told.push(if repair.append.is_empty() { "no index was missing" } else { "the index was written" }.to_owned());
    told.push(format!("it plays for {}", repair.duration));
    Ok(Some(Mended {
        duration_ms: u64::try_from(repair.duration.millis()).unwrap_or(0),
        size_bytes: repair.keep_bytes + repair.append.len() as u64,
        told: told.join("; "),
    }))
}

/// Length, in milliseconds, and size of a file from which nothing is missing; none if it does not tell its length. Blocks.
fn measure(path: &Path) -> Result<Option<(u64, u64)>, FileError> {
    let source = FileSource::open(path)?;
    let told = FileReader::open(&source)?.told_duration();
    Ok(told.map(|duration| (u64::try_from(duration.millis()).unwrap_or(0), source.len())))
}

/// The record of a take that ended in order, though that was not written down any more: the records are of before, as
/// after a return to a backup.
async fn ended_record(take: &TakeRecord, folder: &Path) -> Option<TakeRecord> {
    let path = folder.join(&take.path);
    let measured = tokio::task::spawn_blocking(move || measure(&path)).await;
    let (duration_ms, size_bytes) = measured.ok()?.ok()??;
    let repair = Some("it was whole; its end was not written down".to_owned());
    Some(TakeRecord { state: TakeState::Complete, duration_ms, size_bytes, repair, ..take.clone() })
}

/// A take's record after a try to mend it.
pub(crate) fn mended_record(take: &TakeRecord, mended: Result<Option<Mended>, FileError>) -> TakeRecord {
    let record = TakeRecord { state: TakeState::CutOff, ..take.clone() };
    match mended {
        Ok(Some(Mended { duration_ms, size_bytes, told })) => {
            TakeRecord { duration_ms, size_bytes, repair: Some(told), ..record }
        }
        Ok(None) => TakeRecord { repair: Some("nothing was missing".to_owned()), ..record },
        Err(error) => TakeRecord { repair: Some(format!("it could not be mended: {error}")), ..record },
    }
}

/// Mends the takes that an earlier run left unfinished, and writes down what was done. Each is handed to `tell` before it
/// counts as finished. Returns how many there were.
///
/// # Errors
/// [`StoreError`] if the database does not answer.
pub async fn recover_takes(
    store: &Store,
    folder: &Path,
    tell: impl AsyncFn(&TakeRecord) -> Result<(), StoreError>,
) -> Result<usize, StoreError> {
    let unfinished = store.unfinished_takes().await?;
    for take in &unfinished {
        let path = folder.join(&take.path);
        let mended = tokio::task::spawn_blocking(move || repair_file(&path)).await;
        let mended = mended.unwrap_or_else(|error| Err(FileError::Io(io::Error::other(error))));
        // A file that is not to be read now is looked at again; the keeper sees to that.
        let record = match mended {
            Err(FileError::Io(error)) => {
                tracing::error!(take = take.path, %error, "a take that was cut off cannot be read now");
                TakeRecord { state: TakeState::CutOff, ..take.clone() }
            }
            Ok(None) => ended_record(take, folder).await.unwrap_or_else(|| mended_record(take, Ok(None))),
            mended => mended_record(take, mended),
        };
        let (duration_ms, told) = (record.duration_ms, record.repair.as_deref());
        tracing::warn!(take = take.path, duration_ms, told, "this take was cut off; it was mended");
        tell(&record).await?;
        store.write_take(&record, written_now()).await?;
    }
    Ok(unfinished.len())
}
