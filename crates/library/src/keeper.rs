//! Keeps the library in order: digests, copies, what the rules remove, and what people removed.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::sleep;
use waverant_container::{FileError, Source};
use waverant_relay::{ChannelRules, Kept, TakeState};
use waverant_store::{CopyRecord, CopyState, StoreError, StoredTake, written_now};

use crate::check::digest;
use crate::copies::copy_all;
use crate::repair::{mended_record, repair_file};
use crate::{Library, LibraryError, RuleBook};

/// How often the disk is looked at; and after how many looks the library is looked through without news.
const INTERVAL: Duration = Duration::from_secs(5);
const LOOKS: u32 = 2;

/// Less time than this on the disk deserves a warning.
pub const LOW_TIME: Duration = Duration::from_secs(2 * 3600);

/// Tries after which a copy is not waited for by the rules: with pauses of ten minutes, a day.
const MAX_ATTEMPTS: u32 = 150;

/// Copies that are asked for with one query.
const COPIES_AT_ONCE: usize = 500;

/// The digest of a finished take is read at no more than about 100 MB/s, so that shows have the disk.
const DIGEST_PAUSE: Duration = Duration::from_millis(10);

/// Keeps the library in order until the service stops.
pub async fn keep(library: Arc<Library>, house: Arc<dyn RuleBook>) {
    let copier = tokio::spawn(copy_all(library.clone(), house.clone()));
    let (mut was_low, mut looks) = (false, 0);
    loop {
        let mut news = std::pin::pin!(library.news.notified());
        news.as_mut().enable();
        // A mount that hangs answers never.
        tokio::select! {
            () = library.look_at_the_disk() => {}
            () = library.stopping.cancelled() => break,
        }
        let left = library.outlook().and_then(|outlook| outlook.time_left(house.recording_bps()));
        let is_low = left.is_some_and(|left| left < LOW_TIME);
        if is_low && !was_low {
            tracing::warn!(?left, "the disk of the recordings is nearly full");
        }
        was_low = is_low;
        if looks == 0 {
            let tidied = tokio::select! {
                tidied = library.tidy(house.as_ref()) => tidied,
                () = library.stopping.cancelled() => break,
            };
            if let Err(error) = tidied {
                tracing::debug!(%error, "the library is looked through later");
            }
        }
        tokio::select! {
            () = news => looks = 0,
            () = sleep(INTERVAL) => looks = (looks + 1) % LOOKS,
            () = library.stopping.cancelled() => break,
        }
    }
    // An upload in parts goes on with the next start.
    copier.abort();
}

impl Library {
    async fn tidy(self: &Arc<Self>, house: &dyn RuleBook) -> Result<(), StoreError> {
        if !self.recordings_are_there().await {
            return Ok(());
        }
        let channels = house.channels();
        // What goes, goes first: decided on a list that was read just now, not on one that became old
        // while files were read.
        for take in self.store.going_takes().await? {
            self.finish_forgetting(&take).await?;
        }
        for rules in &channels {
            self.apply_rules(rules).await?;
        }
        for take in self.store.takes_removed_until(OffsetDateTime::now_utc() - self.undo_time).await? {
            self.forget(&take).await?;
        }
        for take in self.store.takes_to_mend().await? {
            self.mend(&take).await?;
        }
        for take in self.store.takes_to_take_in().await? {
            let rules = channels.iter().find(|rules| rules.name.as_str() == take.channel_name);
            self.take_in(&take, rules.and_then(|rules| rules.depot.as_deref())).await?;
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
        self.store.write_take(&record, written_now()).await?;
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
            digest(&source, &stopping, slowly)
        });
        match found.await {
            Ok(digest) => self.store.set_take_digest(session, number, Some(digest)).await?,
            Err(LibraryError::Store(error)) => return Err(error),
            // Missing is a state that may end: somebody puts the file back, or mounts its disk.
            Err(error) => {
                self.note_unreadable(take, &error.to_string());
                return Ok(());
            }
        }
        self.unreadable.lock().remove(&(session, number));
        if let Some(depot) = depot
            && let Err(error) = self.plan_copy(take, depot).await
        {
            tracing::error!(take = take.record.path, depot, %error, "the take is not copied");
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

    /// Removes what a channel's rules do not keep. A channel that keeps all costs nothing.
    async fn apply_rules(self: &Arc<Self>, rules: &ChannelRules) -> Result<(), StoreError> {
        let name = rules.name.as_str();
        if rules.removes_copied {
            for take in self.store.copied_takes_here(name).await? {
                if is_finished(&take) && !self.is_held(take.record.session_id, take.record.number) {
                    self.leave_to_depot(&take).await?;
                }
            }
        }
        if rules.keeping.keeps_all() {
            return Ok(());
        }
        let own = self.store.takes_here(name).await?;
        let ids: Vec<(u64, u32)> = own.iter().map(|take| (take.record.session_id, take.record.number)).collect();
        // A copy that is on its way is waited for; one that failed for a day is not.
        let awaited: HashSet<(u64, u32)> = self
            .copies_of(&ids)
            .await?
            .into_iter()
            .filter(|copy| copy.state != CopyState::There && copy.attempt_count < MAX_ATTEMPTS)
            .map(|copy| (copy.session_id, copy.number))
            .collect();
        let may_go = |take: &StoredTake, id: &(u64, u32)| {
            is_finished(take) && !take.card.is_locked && !self.is_held(id.0, id.1) && !awaited.contains(id)
        };
        let kept = own.iter().zip(&ids).map(|(take, id)| Kept {
            ended_at: take.record.started_at + Duration::from_millis(take.record.duration_ms),
            size_bytes: take.record.size_bytes,
            may_go: may_go(take, id),
        });
        let kept: Vec<Kept> = kept.collect();
        for place in rules.keeping.expired(&kept, OffsetDateTime::now_utc()) {
            let take = &own[place];
            tracing::info!(take = take.record.path, channel = name, "the channel's rule removes this take");
            if !self.leave_to_depot(take).await? {
                self.forget(take).await?;
            }
        }
        Ok(())
    }

    /// The copies of takes, asked for in pieces of a bearable size.
    async fn copies_of(&self, takes: &[(u64, u32)]) -> Result<Vec<CopyRecord>, StoreError> {
        let mut copies = Vec::new();
        for piece in takes.chunks(COPIES_AT_ONCE) {
            copies.extend(self.store.copies_of(piece).await?);
        }
        Ok(copies)
    }

    /// Removes a take's file and its record for good, unless the take is not any more what was decided on.
    pub(crate) async fn forget(self: &Arc<Self>, take: &StoredTake) -> Result<(), StoreError> {
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

    pub(crate) async fn remove_file(&self, take: &StoredTake) {
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

fn is_finished(take: &StoredTake) -> bool {
    take.record.state != TakeState::Writing && take.card.is_here
}
