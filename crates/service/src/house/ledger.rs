use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::sync::{Notify, mpsc};
use tokio::task::JoinHandle;
use tokio::time::{Instant, sleep};
use waverant_store::{LegRecord, NewSession, SessionEnd, Store, StoreError, TakeRecord, TurnedAway};

/// Entries that wait while the database is away; beyond this new ones are lost and counted.
const CAPACITY: usize = 4096;

/// Pause between tries while the database is away.
const RETRY_PAUSE: Duration = Duration::from_millis(500);

/// How long a stop waits for a database that is away.
const STOP_PATIENCE: Duration = Duration::from_secs(5);

/// Something that happened and is to be kept.
#[derive(Clone, Debug)]
pub(crate) enum Entry {
    SessionBegan(NewSession),
    SessionEnded(SessionEnd),
    Leg(LegRecord),
    Take(TakeRecord),
    TurnedAway(TurnedAway),
}

/// Writes what happens into the database, in order, from one task. Callers never wait; while
/// the database is away entries wait in a bounded queue.
#[derive(Clone, Debug)]
pub(crate) struct Ledger {
    sender: mpsc::Sender<Option<Entry>>,
    lost_count: Arc<AtomicU64>,
    /// Told when a take was written.
    pub(crate) take_news: Arc<Notify>,
}

impl Ledger {
    pub(crate) fn start(store: Store) -> (Self, JoinHandle<()>) {
        let (sender, receiver) = mpsc::channel(CAPACITY);
        let take_news = Arc::new(Notify::new());
        let task = tokio::spawn(write_all(store, receiver, take_news.clone()));
        (Self { sender, lost_count: Arc::default(), take_news }, task)
    }

    pub(crate) fn write(&self, entry: Entry) {
        if self.sender.try_send(Some(entry)).is_err() {
            let lost = self.lost_count.fetch_add(1, Ordering::Relaxed) + 1;
            tracing::error!(lost, "a record was lost: the database is away and the queue is full");
        }
    }

    /// Says that nothing more comes; the task ends when all is written.
    pub(crate) async fn close(&self) {
        let _ = self.sender.send(None).await;
    }
}

async fn write_all(store: Store, mut receiver: mpsc::Receiver<Option<Entry>>, take_news: Arc<Notify>) {
    while let Some(Some(entry)) = receiver.recv().await {
        let began = Instant::now();
        let mut warned = false;
        while let Err(error) = write(&store, &entry).await {
            if !error.is_unavailable() {
                tracing::error!(%error, "a record could not be written");
                break;
            }
            if !warned {
                tracing::error!(%error, "the database is away; shows go on, records wait");
                warned = true;
            }
            // The last message in a stopping service is the end mark.
            if receiver.sender_strong_count() <= 1 && began.elapsed() > STOP_PATIENCE {
                tracing::error!("records are lost: the service stops while the database is away");
                return;
            }
            sleep(RETRY_PAUSE).await;
        }
        if warned {
            tracing::info!("the database is back");
        }
        if matches!(entry, Entry::Take(_)) {
            take_news.notify_one();
        }
    }
}

async fn write(store: &Store, entry: &Entry) -> Result<(), StoreError> {
    match entry {
        Entry::SessionBegan(session) => store.begin_session(session).await,
        Entry::SessionEnded(end) => store.end_session(end).await,
        Entry::Leg(leg) => store.write_leg(leg).await,
        Entry::Take(take) => store.write_take(take).await,
        Entry::TurnedAway(attempt) => store.write_turned_away(attempt).await,
    }
}
