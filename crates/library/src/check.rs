//! Checking a take: its structure, and the digest of its bytes.

use std::sync::Arc;

use sha2::{Digest, Sha256};
use tokio_util::sync::CancellationToken;
use waverant_container::{Source, survey};

use crate::{CheckedTake, FileSource, Job, JobKind, JobOutcome, Library, LibraryError};

/// Bytes that are read at once.
const CHUNK: usize = 1024 * 1024;

/// Reads all of a file. Blocks, until the service stops. `progress` is told how many bytes were read.
pub(crate) fn digest(
    source: &FileSource,
    stopping: &CancellationToken,
    mut progress: impl FnMut(u64),
) -> Result<[u8; 32], LibraryError> {
    let mut hash = Sha256::new();
    let mut buffer = vec![0; CHUNK];
    let mut at = 0;
    while at < source.len() {
        if stopping.is_cancelled() {
            return Err(LibraryError::Stopping);
        }
        let length = usize::try_from(source.len() - at).unwrap_or(usize::MAX).min(CHUNK);
        source.read_at(at, &mut buffer[..length]).map_err(LibraryError::disk("the file cannot be read"))?;
        hash.update(&buffer[..length]);
        at += length as u64;
        progress(at);
    }
    Ok(hash.finalize().into())
}

impl Library {
    /// Checks a take in a job.
    ///
    /// # Errors
    /// [`LibraryError`] if there is no such take, or it is not whole and here.
    pub async fn start_check(self: &Arc<Self>, session: u64, number: u32) -> Result<Arc<Job>, LibraryError> {
        let take = self.ended_take(session, number).await?;
        let library = self.clone();
        Ok(self.jobs.start(JobKind::Check, (session, number), move |job| async move {
            let (recorded_sha256, stopping) = (take.card.sha256, library.stopping.clone());
            let checked = library.with_file(&take, move |source| {
                job.set_total(source.len() * 2);
                let survey = survey(&source, &mut |bytes| job.set_done(bytes))?;
                let sha256 = digest(&source, &stopping, |bytes| job.set_done(source.len() + bytes))?;
                Ok(CheckedTake { survey, size_bytes: source.len(), sha256, recorded_sha256 })
            });
            Ok(JobOutcome::Checked(Arc::new(checked.await?)))
        }))
    }
}
