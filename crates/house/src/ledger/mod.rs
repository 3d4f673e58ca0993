//! What happens and is to be kept, on its way into the database. Callers never wait. What shows
//! cause is never dropped; what strangers do has a queue of its own, and may be.

mod pending;
mod spill;

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use parking_lot::Mutex;
use tokio::sync::{Notify, mpsc};
use tokio::task::{JoinHandle, spawn_blocking};
use tokio::time::{Instant, sleep, timeout};
use tokio_util::sync::CancellationToken;
use waverant_relay::{Act, ActBy, Announcement, AwayGroup, KeyUse, Occurrence, ShowNews, ShowRecord, SpreadMeter};
use waverant_store::{Store, StoreError, new_call_id, written_now};

use crate::telling::Telling;
use pending::{Entry, Pending};
use spill::Spill;

/// What strangers did and is not written down yet; more is only counted.
const STRANGERS: usize = 256;

/// Pause between tries while the database is away.
const RETRY_PAUSE: Duration = Duration::from_millis(500);

/// How long a stop waits for a database that is away, before it leaves what is left to the next run.
const STOP_PATIENCE: Duration = Duration::from_secs(3);

/// How long the database may take for one record; then it counts as away.
const WRITE_PATIENCE: Duration = Duration::from_secs(4);

/// Of the time, one part in so many is spent on putting what waits on the disk.
const SPILL_REST: u32 = 10;

/// How long a file of the state folder may take.
const DISK_PATIENCE: Duration = Duration::from_secs(2);

/// Writes what happens into the database, in order, from tasks of its own.
#[derive(Clone, Debug)]
pub struct Ledger {
    shared: Arc<Shared>,
    strangers: mpsc::Sender<Act>,
    strangers_lost: Arc<AtomicU64>,
    /// Who is told what happens.
    pub(crate) telling: Arc<Telling>,
    /// Told when a take was written.
    pub(crate) take_news: Arc<Notify>,
    /// Told when it was written that others are to be told something.
    pub(crate) call_news: Arc<Notify>,
    /// How long the database took for each record.
    pub(crate) write_times: Arc<SpreadMeter>,
}

#[derive(Debug)]
struct Shared {
    pending: Mutex<Pending>,
    news: Notify,
    closing: CancellationToken,
    /// Why nothing is written, while nothing is.
    fault: Mutex<Option<String>>,
}

impl Ledger {
    /// Writes what an earlier run left, and begins.
    ///
    /// # Errors
    /// [`StoreError`] if what was left cannot be written; the file stays.
    pub async fn start(store: Store, state_folder: &Path) -> Result<(Self, JoinHandle<()>), StoreError> {
        let spill = Spill::new(state_folder);
        write_leftover(&store, &spill).await?;
        let shared = Arc::new(Shared {
            pending: Mutex::new(Pending::new(written_now())),
            news: Notify::new(),
            closing: CancellationToken::new(),
            fault: Mutex::default(),
        });
        let (strangers, receiver) = mpsc::channel(STRANGERS);
        let (take_news, call_news, strangers_lost) =
            (Arc::<Notify>::default(), Arc::<Notify>::default(), Arc::default());
        let write_times = Arc::<SpreadMeter>::default();
        let writer = Writer {
            store: store.clone(),
            shared: shared.clone(),
            spill,
            spilled: None,
            take_news: take_news.clone(),
            call_news: call_news.clone(),
            write_times: write_times.clone(),
            away_since: None,
            next_spill: None,
        };
        tokio::spawn(write_strangers(store, receiver, shared.closing.clone()));
        let task = tokio::spawn(writer.run());
        let telling = Arc::default();
        Ok((Self { shared, strangers, strangers_lost, telling, take_news, call_news, write_times }, task))
    }

    /// Writes down what somebody did. What strangers did is kept if there is room for them.
    pub fn write_act(&self, act: Act) {
        let act = Act { mark: new_call_id("act"), ..act };
        if act.by == ActBy::Stranger {
            return self.write_of_stranger(act);
        }
        if let Err(lost) = self.shared.pending.lock().add_act(act)
            && lost.is_power_of_two()
        {
            tracing::error!(lost, "who did what is not written down: the database is away, and there was too much");
        }
        self.shared.news.notify_one();
    }

    /// Writes down who was turned away and is not written down at a stop; they are so many at most.
    pub(crate) fn write_turned_away(&self, groups: Vec<AwayGroup>) {
        self.shared.pending.lock().add_turned_away(groups);
        self.shared.news.notify_one();
    }

    /// Why records wait, while they do.
    pub fn fault(&self) -> Option<String> {
        self.shared.fault.lock().clone()
    }

    /// Writes down that a key was used.
    pub fn write_key_use(&self, used: KeyUse) {
        self.shared.pending.lock().add_key_use(used);
        self.shared.news.notify_one();
    }

    /// Tells others what happened, if somebody wants to hear of it.
    pub fn tell_others(&self, happened: Occurrence) {
        self.add_announcement(self.telling.announce(happened));
    }

    fn add_announcement(&self, announced: Option<Announcement>) {
        let Some(announced) = announced else { return };
        if let Err(lost) = self.shared.pending.lock().add_announcement(announced)
            && lost.is_power_of_two()
        {
            tracing::error!(
                lost,
                "others are not told of all that happens: the database is away, and there was too much"
            );
        }
        self.shared.news.notify_one();
    }

    fn write_of_stranger(&self, act: Act) {
        if self.strangers.try_send(act).is_err() {
            let lost = self.strangers_lost.fetch_add(1, Ordering::Relaxed) + 1;
            if lost.is_power_of_two() {
                tracing::warn!(lost, "strangers are not written down: there are too many, or the database is away");
            }
        }
    }

    /// Says that nothing more comes; the task ends when all is written, or lies on the disk.
    pub fn close(&self) {
        self.shared.closing.cancel();
        self.shared.news.notify_one();
    }
}

impl waverant_show::Ledger for Ledger {
    fn write(&self, record: ShowRecord) {
        let announced = self.telling.note(&record);
        self.shared.pending.lock().add(record);
        self.add_announcement(announced);
        self.shared.news.notify_one();
    }

    fn tell(&self, session: u64, news: ShowNews) {
        self.add_announcement(self.telling.tell(session, &news));
    }
}

async fn write_leftover(store: &Store, spill: &Spill) -> Result<(), StoreError> {
    let entries = match spill.read() {
        Ok(entries) => entries,
        Err(error) => {
            let file = spill.path().display();
            tracing::error!(%file, %error, "records that an earlier run could not write cannot be read; the file is left");
            return Ok(());
        }
    };
    if entries.is_empty() {
        return Ok(());
    }
    tracing::info!(count = entries.len(), "writing records that an earlier run could not write");
    for record in &entries {
        match write(store, record, written_now()).await {
            Err(error) if error.is_unavailable() => return Err(error),
            Err(error) => tracing::error!(%error, ?record, "a record could not be written"),
            Ok(()) => {}
        }
    }
    if let Err(error) = spill.remove() {
        tracing::warn!(%error, "a file of the state folder could not be removed");
    }
    Ok(())
}

struct Writer {
    store: Store,
    shared: Arc<Shared>,
    spill: Spill,
    /// Which version of what is pending lies on the disk.
    spilled: Option<u64>,
    /// Before this it is not put there again: many records take a while.
    next_spill: Option<Instant>,
    take_news: Arc<Notify>,
    call_news: Arc<Notify>,
    away_since: Option<Instant>,
    write_times: Arc<SpreadMeter>,
}

impl Writer {
    async fn run(mut self) {
        loop {
            let first = self.shared.pending.lock().first();
            let Some((ticket, record)) = first else {
                self.remove_spill().await;
                if self.shared.closing.is_cancelled() {
                    return;
                }
                self.shared.news.notified().await;
                continue;
            };
            let began = Instant::now();
            let written = write(&self.store, &record, ticket.version).await;
            if written.is_ok() {
                self.write_times.note(u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX));
            }
            match written {
                Err(error) if error.is_unavailable() => {
                    if self.wait_for_database(&error).await {
                        continue;
                    }
                    return tracing::warn!("records wait on the disk for the next start: the database is away");
                }
                Err(error) => tracing::error!(%error, "a record could not be written"),
                Ok(()) if self.away_since.take().is_some() => {
                    *self.shared.fault.lock() = None;
                    tracing::info!("the database is back");
                }
                Ok(()) => {}
            }
            self.shared.pending.lock().done(ticket);
            match record {
                Entry::Show(ShowRecord::Take(_)) => self.take_news.notify_one(),
                Entry::Announcement(_) => self.call_news.notify_one(),
                _ => {}
            }
        }
    }

    /// Puts what is pending on the disk, and waits a moment. False if the service stops and there
    /// is no more time.
    async fn wait_for_database(&mut self, error: &StoreError) -> bool {
        let since = *self.away_since.get_or_insert_with(|| {
            tracing::error!(%error, "the database is away; shows go on, records wait");
            Instant::now()
        });
        *self.shared.fault.lock() = Some(error.to_string());
        let is_closing = self.shared.closing.is_cancelled();
        if is_closing || self.next_spill.is_none_or(|next| Instant::now() >= next) {
            let began = Instant::now();
            self.write_spill().await;
            self.next_spill = Some(Instant::now() + began.elapsed() * SPILL_REST);
        }
        if is_closing && since.elapsed() > STOP_PATIENCE {
            return false;
        }
        sleep(RETRY_PAUSE).await;
        true
    }

    async fn write_spill(&mut self) {
        let (version, entries) = {
            let pending = self.shared.pending.lock();
            if self.spilled == Some(pending.version()) {
                return;
            }
            (pending.version(), pending.entries())
        };
        let spill = self.spill.clone();
        let written = timeout(DISK_PATIENCE, spawn_blocking(move || spill.write(&entries))).await;
        match written {
            Ok(Ok(Ok(()))) => self.spilled = Some(version),
            Ok(Ok(Err(error))) => tracing::error!(%error, "records that wait cannot be put on the disk"),
            _ => tracing::error!("records that wait cannot be put on the disk: it does not answer"),
        }
    }

    async fn remove_spill(&mut self) {
        if self.spilled.take().is_some() {
            let spill = self.spill.clone();
            let _ = timeout(DISK_PATIENCE, spawn_blocking(move || spill.remove())).await;
        }
    }
}

/// Writes what strangers did. While the database is away the queue fills, and what comes then is
/// only counted.
async fn write_strangers(store: Store, mut receiver: mpsc::Receiver<Act>, closing: CancellationToken) {
    loop {
        let act = tokio::select! {
            act = receiver.recv() => act,
            () = closing.cancelled() => None,
        };
        let Some(act) = act else { return };
        let write = || async { timeout(WRITE_PATIENCE, store.write_act(&act)).await.unwrap_or(Err(StoreError::Slow)) };
        while let Err(error) = write().await {
            if !error.is_unavailable() {
                tracing::error!(%error, "what a stranger did could not be written down");
                break;
            }
            tokio::select! {
                () = sleep(RETRY_PAUSE) => {}
                () = closing.cancelled() => return,
            }
        }
    }
}

async fn write(store: &Store, record: &Entry, written: u64) -> Result<(), StoreError> {
    timeout(WRITE_PATIENCE, write_record(store, record, written)).await.unwrap_or(Err(StoreError::Slow))
}

async fn write_record(store: &Store, record: &Entry, written: u64) -> Result<(), StoreError> {
    match record {
        Entry::Show(ShowRecord::SessionBegan(session)) => store.begin_session(session).await,
        Entry::Show(ShowRecord::SessionEnded(end)) => store.end_session(end).await,
        Entry::Show(ShowRecord::Leg(leg)) => store.write_leg(leg, written).await,
        Entry::Show(ShowRecord::Take(take)) => store.write_take(take, written).await,
        Entry::Act(act) => store.write_act(act).await,
        Entry::KeyUse(used) => store.write_key_use(used).await,
        Entry::Announcement(announced) => store.write_announcement(announced).await,
        Entry::TurnedAway(groups) => store.write_turned_away(groups).await,
    }
}
