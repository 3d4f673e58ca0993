//! Keeps the library in order: digests, copies, what the rules remove, and what people removed.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::sleep;
use waverant_container::{FileError, Source};
use waverant_relay::Kept;
use waverant_store::{CopyState, StoreError, StoredTake, TakeFilter, TakeState};

use super::check::digest;
use super::{Library, LibraryError};
use crate::house::{ChannelRules, House};
use crate::recorder::{RecorderState, mended_record, repair_file};

/// How often the disk is looked at; and after how many looks the library is looked through without news.
const INTERVAL: Duration = Duration::from_secs(5);
const LOOKS: u32 = 2;

/// Less time than this on the disk deserves a warning.
pub(crate) const LOW_TIME: Duration = Duration::from_secs(2 * 3600);

/// Tries after which a copy is not waited for by the rules: with pauses of ten minutes, a day.
const MAX_ATTEMPTS: u32 = 150;

/// The digest of a finished take is read at no more than about 100 MB/s, so that shows have the disk.
const DIGEST_PAUSE: Duration = Duration::from_millis(10);

/// Keeps the library in order until the service stops.
pub(crate) async fn run(house: Arc<House>) {
    let library = house.library.clone();
    let copier = tokio::spawn(copy_all(library.clone()));
    let (mut was_low, mut looks) = (false, 0);
    loop {
        let mut news = std::pin::pin!(library.news.notified());
        news.as_mut().enable();
        // A mount that hangs answers never.
        tokio::select! {
            () = library.look_at_the_disk() => {}
            () = house.stopping.cancelled() => break,
        }
        let is_low = house.recording_time_left().is_some_and(|left| left < LOW_TIME);
        if is_low && !was_low {
            tracing::warn!(left = ?house.recording_time_left(), "the disk of the recordings is nearly full");
        }
        was_low = is_low;
        if looks == 0 {
            let tidied = tokio::select! {
                tidied = library.tidy(&house) => tidied,
                () = house.stopping.cancelled() => break,
            };
            if let Err(error) = tidied {
                tracing::debug!(%error, "the library is looked through later");
            }
        }
        tokio::select! {
            () = news => looks = 0,
            () = sleep(INTERVAL) => looks = (looks + 1) % LOOKS,
            () = house.stopping.cancelled() => break,
        }
    }
    // An upload in parts goes on with the next start.
    copier.abort();
}

async fn copy_all(library: Arc<Library>) {
    loop {
        if let Err(error) = library.send_copies().await {
            tracing::debug!(%error, "copies wait");
        }
        tokio::select! {
            () = library.copy_news.notified() => {}
            () = sleep(INTERVAL) => {}
        }
    }
}

impl House {
    /// How long the disk lasts at the rate of what is being recorded now. None if nothing is.
    pub(crate) fn recording_time_left(&self) -> Option<Duration> {
        let is_recorded = |state: RecorderState| matches!(state, RecorderState::Recording | RecorderState::Waiting);
        let shows = self.shows();
        let recorded = shows.iter().filter(|show| is_recorded(show.recorder.state().0));
        let rate: f64 =
            recorded.map(|show| show.source_snapshot()).map(|source| source.video_bps + source.audio_bps).sum();
        self.library.outlook()?.time_left(rate)
    }
}

impl Library {
    async fn tidy(self: &Arc<Self>, house: &House) -> Result<(), StoreError> {
        if !self.recordings_are_there().await {
            return Ok(());
        }
        let directory = house.directory();
        let rules: HashMap<&str, &ChannelRules> =
            directory.channels().map(|rules| (rules.name.as_str(), rules)).collect();
        // What goes, goes first: decided on a list that was read just now, not on one that became old
        // while files were read.
        for take in self.store.going_takes().await? {
            self.finish_forgetting(&take).await?;
        }
        let takes = self.store.takes(&TakeFilter::default()).await?;
        self.apply_rules(&takes, &rules).await?;
        for take in self.store.takes(&TakeFilter { removed: true, ..TakeFilter::default() }).await? {
            let is_due =
                take.card.removed_at.is_some_and(|removed| removed + self.undo_time <= OffsetDateTime::now_utc());
            if is_due {
                self.forget(&take).await?;
            }
        }
        for take in takes.iter().filter(|take| is_finished(take) && needs_mending(take)) {
            self.mend(take).await?;
        }
        let is_new = |take: &&StoredTake| is_finished(take) && !needs_mending(take) && take.card.sha256.is_none();
        for take in takes.iter().filter(is_new) {
            let depot = rules.get(take.channel_name.as_str()).and_then(|rules| rules.depot.as_deref());
            self.take_in(take, depot).await?;
        }
        Ok(())
    }

    /// True if the recordings folder is the one that it was. A disk that is not mounted says so loudly, and
    /// nothing is judged by what is not there.
    async fn recordings_are_there(&self) -> bool {
        let disk = self.recordings.clone();
        let found = tokio::task::spawn_blocking(move || disk.check_mark()).await;
        let found = found.map_err(std::io::Error::other).flatten();
        let mut was_missing = self.folder_is_missing.lock();
        match found {
            Ok(()) if std::mem::take(&mut *was_missing) => tracing::info!("the recordings folder is back"),
            Ok(()) => {}
            Err(error) => {
                if !std::mem::replace(&mut *was_missing, true) {
                    tracing::error!(%error, "the recordings folder is not there; nothing is recorded or removed");
                }
            }
        }
        !*was_missing
    }

    /// Mends a take whose disk failed while it was written. A disk that is full still is tried again.
    async fn mend(self: &Arc<Self>, take: &StoredTake) -> Result<(), StoreError> {
        let Some(_hold) = self.hold(take.record.session_id, take.record.number) else { return Ok(()) };
        let path = self.path_of(take);
        let mended = tokio::task::spawn_blocking(move || repair_file(&path)).await;
        let Ok(mended) = mended else { return Ok(()) };
        // What the disk says now, it may not say tomorrow; only what stands in the file is final.
        if let Err(FileError::Io(error)) = &mended {
            self.note_unreadable(take, &error.to_string());
            return Ok(());
        }
        let record = mended_record(&take.record, mended);
        tracing::info!(take = record.path, told = record.repair, "a take that was cut off was looked at");
        self.store.write_take(&record).await?;
        self.tell_news();
        Ok(())
    }

    /// A take that was just ended: its digest is written down, and its copy is planned.
    async fn take_in(self: &Arc<Self>, take: &StoredTake, depot: Option<&str>) -> Result<(), StoreError> {
        let (session, number) = (take.record.session_id, take.record.number);
        let Some(_hold) = self.hold(session, number) else { return Ok(()) };
        let stopping = self.stopping.clone();
        let found = self.with_file(take, move |source| {
            let slowly = |bytes: u64| {
                if bytes < source.len() {
                    std::thread::sleep(DIGEST_PAUSE);
                }
            };
            digest(&source, &stopping, slowly).map_err(|error| error.to_string())
        });
        match found.await {
            Ok(digest) => self.store.set_take_digest(session, number, Some(digest)).await?,
            Err(LibraryError::Store(error)) => return Err(error),
            // Missing is a state that may end: somebody puts the file back, or mounts its disk.
            Err(error) => {
                self.note_unreadable(take, &error.told());
                return Ok(());
            }
        }
        self.unreadable.lock().remove(&(session, number));
        if let Some(depot) = depot
            && let Err(error) = self.plan_copy(take, depot).await
        {
            tracing::error!(take = take.record.path, depot, error = error.told(), "the take is not copied");
        }
        self.copy_news.notify_one();
        Ok(())
    }

    /// Says once of each take that it cannot be read; it is tried again with each look.
    fn note_unreadable(&self, take: &StoredTake, error: &str) {
        if self.unreadable.lock().insert((take.record.session_id, take.record.number)) {
            tracing::error!(take = take.record.path, error, "a take cannot be read; it is tried again until it can");
        }
    }

    /// Removes what the channels' rules do not keep.
    async fn apply_rules(
        self: &Arc<Self>,
        takes: &[StoredTake],
        rules: &HashMap<&str, &ChannelRules>,
    ) -> Result<(), StoreError> {
        let copies = self.store.copies().await?;
        let state_of = |take: &StoredTake| {
            let id = (take.record.session_id, take.record.number);
            copies.iter().find(|copy| (copy.session_id, copy.number) == id)
        };
        let is_there = |take: &StoredTake| state_of(take).is_some_and(|copy| copy.state == CopyState::There);
        // A copy that is on its way is waited for; one that failed for a day is not.
        let is_awaited = |take: &StoredTake| {
            state_of(take).is_some_and(|copy| copy.state != CopyState::There && copy.attempt_count < MAX_ATTEMPTS)
        };
        for (name, rules) in rules {
            let own: Vec<&StoredTake> =
                takes.iter().filter(|take| take.channel_name == *name && take.card.is_here).collect();
            let free = |take: &StoredTake| {
                is_finished(take) && !take.card.is_locked && !self.is_held(take.record.session_id, take.record.number)
            };
            if rules.removes_copied {
                for take in own.iter().filter(|take| free(take) && is_there(take)) {
                    self.leave_to_depot(take).await?;
                }
            }
            if rules.keeping.keeps_all() {
                continue;
            }
            let kept: Vec<Kept> = own
                .iter()
                .map(|take| Kept {
                    ended_at: take.record.started_at + Duration::from_millis(take.record.duration_ms),
                    size_bytes: take.record.size_bytes,
                    may_go: free(take) && !is_awaited(take),
                })
                .collect();
            for place in rules.keeping.expired(&kept, OffsetDateTime::now_utc()) {
                let take = own[place];
                tracing::info!(take = take.record.path, channel = name, "the channel's rule removes this take");
                if !self.leave_to_depot(take).await? {
                    self.forget(take).await?;
                }
            }
        }
        Ok(())
    }

    /// Removes a take's file and its record for good, unless the take is not any more what was decided on.
    pub(super) async fn forget(self: &Arc<Self>, take: &StoredTake) -> Result<(), StoreError> {
        let (session, number) = (take.record.session_id, take.record.number);
        let Some(_hold) = self.hold(session, number) else { return Ok(()) };
        if !self.store.begin_forgetting(session, number, take.card.removed_at).await? {
            return Ok(());
        }
        tracing::info!(take = take.record.path, "the take is removed for good");
        self.finish_forgetting(take).await
    }

    async fn finish_forgetting(&self, take: &StoredTake) -> Result<(), StoreError> {
        let (session, number) = (take.record.session_id, take.record.number);
        if let Err(error) = self.abandon_copy(session, number).await {
            tracing::warn!(%error, "the upload of a forgotten take was not given up at its depot");
        }
        // The file first: after a kill in between, the record leads here again.
        if take.card.is_here {
            self.remove_file(take).await;
        }
        self.store.forget_take(session, number).await?;
        Ok(())
    }

    pub(super) async fn remove_file(&self, take: &StoredTake) {
        let (path, strip) = (self.path_of(take), self.strip_path(take));
        let _ = tokio::fs::remove_file(strip).await;
        match tokio::fs::remove_file(&path).await {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                tracing::error!(path = %path.display(), %error, "the file of a removed take stays");
            }
            _ => {
                // Folders that are empty now go as well, as long as they are ours.
                for folder in path.ancestors().skip(1).take_while(|folder| *folder != self.recordings.path) {
                    if tokio::fs::remove_dir(folder).await.is_err() {
                        break;
                    }
                }
            }
        }
    }
}

/// A take of a disk that failed; the start of the service mends those of a run that was killed.
fn needs_mending(take: &StoredTake) -> bool {
    take.record.state == TakeState::CutOff && take.record.repair.is_none()
}

fn is_finished(take: &StoredTake) -> bool {
    take.record.state != TakeState::Writing && take.card.is_here
}
