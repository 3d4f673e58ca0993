//! Who was turned away, on its way into the database. It is bounded in memory, and so needs no queue: while the database
//! is away it is counted on.

use std::future::pending;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::time::{MissedTickBehavior, interval, timeout};
use tokio_util::sync::CancellationToken;
use waverant_relay::{AwayAttempt, AwayBook, AwayNews, Occurrence};
use waverant_store::{Store, StoreError};

use crate::Ledger;

/// How often what is new is written.
const INTERVAL: Duration = Duration::from_secs(1);

/// How long the database may take for it.
const PATIENCE: Duration = Duration::from_secs(4);

/// How long a stop waits for the last of it.
const LAST_PATIENCE: Duration = Duration::from_secs(1);

/// The book of who was turned away.
#[derive(Debug, Default)]
pub(crate) struct TurnedAwayBook {
    book: Mutex<AwayBook>,
    news: Mutex<AwayNews>,
}

impl TurnedAwayBook {
    /// What others are told of an attempt.
    pub(crate) fn news(&self, attempt: &AwayAttempt, channel_id: Option<u64>) -> Option<Occurrence> {
        self.news.lock().note(attempt, channel_id)
    }

    pub(crate) fn note(&self, attempt: AwayAttempt) {
        self.book.lock().note(attempt);
    }

    /// Writes what is new. A stop does not wait for a write under way: what it wrote all the same is written once more.
    async fn write(&self, store: &Store, patience: Duration, stopped: impl Future<Output = ()>) {
        let news = self.book.lock().take_news();
        let write = timeout(patience, store.write_turned_away(&news));
        let written = tokio::select! {
            written = write => written.unwrap_or(Err(StoreError::Slow)),
            () = stopped => Err(StoreError::Slow),
        };
        if let Err(error) = written {
            tracing::debug!(%error, "who was turned away is written down later");
            self.book.lock().put_back(&news);
        }
        self.book.lock().sweep(OffsetDateTime::now_utc());
    }

    /// Writes down what is new until the service stops.
    pub(crate) async fn keep(self: Arc<Self>, store: Store, ledger: Ledger, stopping: CancellationToken) {
        let mut ticks = interval(INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = ticks.tick() => self.write(&store, PATIENCE, stopping.cancelled()).await,
                () = stopping.cancelled() => break,
            }
        }
        self.write(&store, LAST_PATIENCE, pending()).await;
        let left = self.book.lock().take_news();
        if !left.is_empty() {
            ledger.write_turned_away(left);
        }
    }
}
