//! Changes are applied by a task of the house: channel by channel, several at once where they come at once, and again
//! until the database lets them be read.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::{sleep, timeout};
use waverant_store::StoreError;

use crate::House;

/// How long whoever changed something waits until it holds.
const PATIENCE: Duration = Duration::from_secs(5);

/// Pause before changes are read anew that could not be read.
const RETRY_PAUSE: Duration = Duration::from_millis(500);

impl House {
    /// Makes a change of these channels hold for the directory and for running sessions. What is written is followed,
    /// also when the caller hangs up; until then the caller waits.
    ///
    /// # Errors
    /// [`StoreError::Slow`] if that takes too long; it is followed later then.
    pub(crate) async fn follow(&self, channels: impl IntoIterator<Item = u64>) -> Result<(), StoreError> {
        let ticket = {
            let (touched, count) = &mut *self.touched.channels.lock();
            touched.extend(channels);
            *count += 1;
            *count
        };
        self.touched.news.notify_one();
        let mut applied = self.touched.applied.subscribe();
        match timeout(PATIENCE, applied.wait_for(|applied| *applied >= ticket)).await {
            Ok(_) => Ok(()),
            Err(_) => Err(StoreError::Slow),
        }
    }

    pub(crate) async fn follow_changes(self: Arc<Self>) {
        loop {
            tokio::select! {
                () = self.touched.news.notified() => {}
                () = self.stopping().cancelled() => return,
            }
            let (channels, ticket) = {
                let (touched, count) = &mut *self.touched.channels.lock();
                (std::mem::take(touched), *count)
            };
            if let Err(error) = self.apply(&channels).await {
                tracing::debug!(%error, "changes are followed later");
                self.touched.channels.lock().0.extend(channels);
                self.touched.news.notify_one();
                sleep(RETRY_PAUSE).await;
                continue;
            }
            self.touched.applied.send_replace(ticket);
        }
    }

    async fn apply(&self, channels: &BTreeSet<u64>) -> Result<(), StoreError> {
        let ids: Vec<u64> = channels.iter().copied().collect();
        if ids.is_empty() {
            return Ok(());
        }
        // This task alone writes the directory.
        let directory = Arc::new(self.directory().reload(&self.store, &ids).await?);
        *self.directory.write() = directory.clone();
        for show in ids.iter().filter_map(|id| self.show(*id)) {
            match directory.channel(show.channel_id()) {
                Some(rules) => show.follow(rules, directory.orders(show.channel_id())),
                None => show.follow_removal(),
            }
            show.check_keys(directory.gate(), OffsetDateTime::now_utc());
        }
        // Other rules may keep less.
        self.library().tell_news();
        Ok(())
    }
}
