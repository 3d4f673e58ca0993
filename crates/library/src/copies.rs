//! Copying takes to depots, one after the other, and getting them back.

use std::collections::HashMap;
use std::io::Write;
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use time::OffsetDateTime;
use tokio::time::sleep;
use tokio_util::task::AbortOnDropHandle;
use waverant_store::{CopyRecord, CopyState, StoreError, StoredTake};

use crate::check::digest;
use crate::depot::CopyOutcome;
use crate::{DepotClient, FileSource, Job, JobKind, JobOutcome, Library, LibraryError, MadeTake, RuleBook};

/// How often it is looked for copies that are due.
const LOOK_INTERVAL: Duration = Duration::from_secs(5);

/// Pause after the first try in vain; it doubles, up to the longest.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(600);

const NOT_RESTORED: &str = "the take cannot be written";

/// When a copy that failed is tried again.
fn due(copy: &CopyRecord) -> OffsetDateTime {
    let doubled = FIRST_PAUSE.saturating_mul(1 << copy.attempt_count.saturating_sub(1).min(16));
    match copy.state {
        CopyState::Failing => copy.changed_at + doubled.min(LONGEST_PAUSE),
        _ => copy.changed_at,
    }
}

/// Sends copies until it is dropped: to each depot one after the other, to several depots at the same time, so that
/// one that is slow or away holds up no other.
pub(crate) async fn copy_all(library: Arc<Library>, house: Arc<dyn RuleBook>) {
    let mut copiers: HashMap<String, AbortOnDropHandle<()>> = HashMap::new();
    loop {
        copiers.retain(|_, copier| !copier.is_finished());
        match library.store.depots_in_use().await {
            Ok(depots) => {
                for depot in depots.into_iter().filter(|depot| !copiers.contains_key(depot)).collect::<Vec<_>>() {
                    let (library, name, house) = (library.clone(), depot.clone(), house.clone());
                    let copier = tokio::spawn(async move {
                        if let Err(error) = library.send_copies(&name, house.as_ref()).await {
                            tracing::debug!(%error, depot = name, "copies wait");
                        }
                    });
                    copiers.insert(depot, AbortOnDropHandle::new(copier));
                }
            }
            Err(error) => tracing::debug!(%error, "copies wait"),
        }
        tokio::select! {
            () = library.copy_news.notified() => {}
            () = sleep(LOOK_INTERVAL) => {}
        }
    }
}

impl Library {
    /// Plans to copy a take; one that is there or on its way stays as it is.
    ///
    /// # Errors
    /// [`LibraryError`] if there is no such depot, or its settings cannot be used.
    pub async fn plan_copy(&self, take: &StoredTake, depot: &str) -> Result<CopyRecord, LibraryError> {
        let (session, number) = (take.record.session_id, take.record.number);
        let present = self.store.copy_of(session, number).await?;
        if let Some(mut copy) = present.filter(|copy| copy.depot == depot) {
            if copy.state == CopyState::Failing {
                // Somebody asked: it is not made to wait.
                (copy.state, copy.changed_at) = (CopyState::Waiting, OffsetDateTime::now_utc());
                self.store.write_copy(&copy).await?;
                self.tell_news();
            }
            return Ok(copy);
        }
        let client = DepotClient::new(&self.store.depot(depot).await?)?;
        let copy = CopyRecord {
            session_id: session,
            number,
            depot: depot.to_owned(),
            object_key: client.object_key(&take.record.path),
            state: CopyState::Waiting,
            upload: None,
            sent_bytes: 0,
            attempt_count: 0,
            error: None,
            changed_at: OffsetDateTime::now_utc(),
        };
        self.store.write_copy(&copy).await?;
        self.tell_news();
        Ok(copy)
    }

    /// Sends the copies to a depot that are due, one after the other.
    async fn send_copies(self: &Arc<Self>, depot: &str, house: &dyn RuleBook) -> Result<(), StoreError> {
        let now = OffsetDateTime::now_utc();
        for copy in self.store.unfinished_copies(depot).await? {
            if due(&copy) <= now {
                self.send_copy(copy, house).await?;
            }
        }
        Ok(())
    }

    async fn send_copy(self: &Arc<Self>, mut copy: CopyRecord, house: &dyn RuleBook) -> Result<(), StoreError> {
        let take = self.store.take(copy.session_id, copy.number).await?;
        let Some(_hold) = self.hold(copy.session_id, copy.number) else { return Ok(()) };
        copy.state = CopyState::Sending;
        self.store.write_copy(&copy).await?;
        let outcome = self.try_to_send(&mut copy, &take).await;
        copy.changed_at = OffsetDateTime::now_utc();
        match outcome {
            CopyOutcome::There => {
                tracing::info!(take = take.record.path, depot = copy.depot, "the take is copied");
                (copy.state, copy.error) = (CopyState::There, None);
                self.store.forget_copy_parts(copy.session_id, copy.number).await?;
            }
            CopyOutcome::Failed(error) => {
                copy.attempt_count += 1;
                tracing::warn!(take = take.record.path, depot = copy.depot, error, "the take is not copied yet");
                (copy.state, copy.error) = (CopyState::Failing, Some(error));
            }
        }
        self.store.write_copy(&copy).await?;
        match &copy.error {
            None => house.take_copied(&take, &copy.depot, Ok(())),
            // It is tried on and on; that is told once.
            Some(error) if copy.attempt_count == 1 => house.take_copied(&take, &copy.depot, Err(error)),
            Some(_) => {}
        }
        Ok(())
    }

    async fn try_to_send(&self, copy: &mut CopyRecord, take: &StoredTake) -> CopyOutcome {
        let client = match self.store.depot(&copy.depot).await {
            Ok(depot) => DepotClient::new(&depot).map_err(LibraryError::from),
            Err(error) => Err(error.into()),
        };
        let source = self.with_file(take, |source| Ok(Arc::new(source))).await;
        match (client, source) {
            (Ok(client), Ok(source)) => client.send(copy, source, &self.store).await,
            (Err(error), _) | (_, Err(error)) => CopyOutcome::Failed(error.to_string()),
        }
    }

    /// Gives up the copy of a take that is forgotten.
    pub(crate) async fn abandon_copy(&self, session: u64, number: u32) -> Result<(), StoreError> {
        let Some(copy) = self.store.copy_of(session, number).await? else { return Ok(()) };
        if copy.upload.is_some()
            && let Ok(client) = DepotClient::new(&self.store.depot(&copy.depot).await?)
        {
            client.abandon(&copy).await;
        }
        Ok(())
    }

    /// The copy of a take that is at its depot, whole.
    ///
    /// # Errors
    /// [`LibraryError::State`] if there is none.
    pub async fn copy_there(&self, session: u64, number: u32) -> Result<(CopyRecord, DepotClient), LibraryError> {
        self.store.take(session, number).await?;
        let copy = self.store.copy_of(session, number).await?.filter(|copy| copy.state == CopyState::There);
        let missing = || LibraryError::State(format!("The take {session}/{number} has no whole copy at a depot."));
        let copy = copy.ok_or_else(missing)?;
        let client = DepotClient::new(&self.store.depot(&copy.depot).await?)?;
        Ok((copy, client))
    }

    /// Brings a take back from its depot, in a job.
    ///
    /// # Errors
    /// [`LibraryError`] if there is no such take or copy, or it is on this disk.
    pub async fn start_restore(self: &Arc<Self>, session: u64, number: u32) -> Result<Arc<Job>, LibraryError> {
        let take = self.store.take(session, number).await?;
        if take.card.is_here {
            return Err(LibraryError::State(format!("The take {session}/{number} is on this disk.")));
        }
        let (copy, client) = self.copy_there(session, number).await?;
        let library = self.clone();
        Ok(self.jobs.start(JobKind::Restore, (session, number), move |job| async move {
            let Some(_hold) = library.hold(session, number) else {
                return Err(LibraryError::State("something else is being done with the take".to_owned()));
            };
            library.restore(&take, &copy, &client, &job).await?;
            let size_bytes = take.record.size_bytes;
            Ok(JobOutcome::Made(MadeTake { session, take: number, duration_ms: None, size_bytes }))
        }))
    }

    async fn restore(
        &self,
        take: &StoredTake,
        copy: &CopyRecord,
        client: &DepotClient,
        job: &Job,
    ) -> Result<(), LibraryError> {
        let path = self.path_of(take);
        let partial = path.with_extension("restoring");
        if let Some(folder) = path.parent() {
            tokio::fs::create_dir_all(folder).await.map_err(LibraryError::disk(NOT_RESTORED))?;
        }
        // What an earlier try brought is not brought again; it may have brought all.
        let there = tokio::fs::metadata(&partial).await.map_or(0, |metadata| metadata.len());
        let opened = tokio::fs::OpenOptions::new().create(true).append(true).open(&partial).await;
        let mut file = opened.map_err(LibraryError::disk(NOT_RESTORED))?.into_std().await;
        if there < take.record.size_bytes || there == 0 {
            file = bring(client, &copy.object_key, file, there, job).await?;
        }
        let (expected, stopping) = (take.card.sha256, self.stopping.clone());
        let checked = tokio::task::spawn_blocking(move || {
            let failed = || LibraryError::disk(NOT_RESTORED);
            file.sync_all().map_err(failed())?;
            let source = FileSource::open(&partial).map_err(failed())?;
            let found = digest(&source, &stopping, |_| {})?;
            if expected.is_some_and(|expected| expected != found) {
                std::fs::remove_file(&partial).map_err(failed())?;
                let told = "what came back is not what was sent: its SHA-256 is another";
                return Err(LibraryError::File(told.to_owned()));
            }
            std::fs::rename(&partial, &path).map_err(failed())
        });
        checked.await??;
        let id = (take.record.session_id, take.record.number);
        Ok(self.store.set_take_here(id.0, id.1, true).await?)
    }

    /// Takes a take from the disk whose copy is at its depot. True if it is gone.
    pub(crate) async fn leave_to_depot(self: &Arc<Self>, take: &StoredTake) -> Result<bool, StoreError> {
        let (session, number) = (take.record.session_id, take.record.number);
        let Some(_hold) = self.hold(session, number) else { return Ok(false) };
        // The records first: a file without a record of it is found and removed later by hand, but a
        // record without its file would be a lie. They say whether it is still right.
        if !self.store.leave_take_to_depot(session, number).await? {
            return Ok(false);
        }
        self.remove_file(take).await;
        Ok(true)
    }
}

/// Appends what is missing of an object behind `there` bytes.
async fn bring(
    client: &DepotClient,
    object_key: &str,
    mut file: std::fs::File,
    there: u64,
    job: &Job,
) -> Result<std::fs::File, LibraryError> {
    let (size, mut stream) = client.fetch(object_key, there).await?;
    job.set_total(size);
    let mut at = there;
    while let Some(piece) = stream.next().await {
        let piece = piece?;
        at += piece.len() as u64;
        let written = tokio::task::spawn_blocking(move || file.write_all(&piece).map(|()| file)).await;
        file = written?.map_err(LibraryError::disk(NOT_RESTORED))?;
        job.set_done(at);
    }
    Ok(file)
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn tries_in_vain_make_the_pause_longer() {
        let changed_at = datetime!(2026-05-17 12:00 UTC);
        let failing = |attempt_count| CopyRecord {
            session_id: 1,
            number: 1,
            depot: "attic".into(),
            object_key: "key".into(),
            state: CopyState::Failing,
            upload: None,
            sent_bytes: 0,
            attempt_count,
            error: None,
            changed_at,
        };
        let pauses = [1, 2, 3, 40].map(|count| (due(&failing(count)) - changed_at).whole_seconds());
        assert_eq!(pauses, [5, 10, 20, 600]);
        assert_eq!(due(&CopyRecord { state: CopyState::Waiting, ..failing(9) }), changed_at);
    }
}
