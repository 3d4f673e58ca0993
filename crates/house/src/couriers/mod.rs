//! Tells other systems and people what happened: out of the records, in order for each target and channel, until it is
//! taken. A target that does not answer holds no other.

mod errand;
mod line;
mod mailing;
mod request;

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use waverant_calls::{CallClient, Postbox};
use waverant_relay::{CallTarget, RetryRules};
use waverant_store::{Store, StoreError};

use crate::telling::Telling;
pub use line::TargetCondition;
use line::TargetLine;
pub(crate) use request::{Request, Sent};

/// How often it is looked for what waits, though nobody said that something does.
const LOOK_INTERVAL: Duration = Duration::from_secs(30);

/// Pause between looks: what comes within it is found together.
const LEAST_PAUSE: Duration = Duration::from_millis(50);

/// Pause while the database is away.
const RETRY_PAUSE: Duration = Duration::from_millis(500);

/// How often it is looked how much waits, and what is old is forgotten.
const TIDY_INTERVAL: Duration = Duration::from_secs(60);

/// How long it is kept what was told.
const KEPT: time::Duration = time::Duration::days(30);

/// A target that takes nothing for so long is a finding.
const FAILING_AFTER: time::Duration = time::Duration::minutes(5);

/// Where more waits than this, nothing is added.
const MOST_WAITING: u64 = 20_000;

/// What couriers work with.
pub(crate) struct CourierDesk {
    store: Store,
    client: CallClient,
    postbox: Postbox,
    digest: Duration,
    telling: Arc<Telling>,
    /// Told when something new waits, or a courier is back.
    news: Arc<Notify>,
    rules: RetryRules,
    /// Lanes that a courier is on.
    busy: Mutex<HashSet<LaneKey>>,
    lines: Mutex<HashMap<u64, Arc<TargetLine>>>,
    /// Held while targets are changed: what is in memory follows what is written, in the same order.
    pub(crate) changing: tokio::sync::Mutex<()>,
    stopping: CancellationToken,
    tasks: TaskTracker,
}

/// A target and one of its lanes; mail is one lane for all.
type LaneKey = (u64, Option<u64>);

impl fmt::Debug for CourierDesk {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("CourierDesk").finish_non_exhaustive()
    }
}

/// What couriers are set up with.
#[derive(Debug)]
pub(crate) struct CourierSetup {
    pub(crate) store: Store,
    pub(crate) client: CallClient,
    pub(crate) postbox: Postbox,
    pub(crate) digest: Duration,
    pub(crate) telling: Arc<Telling>,
    pub(crate) news: Arc<Notify>,
    pub(crate) stopping: CancellationToken,
    pub(crate) tasks: TaskTracker,
}

impl CourierDesk {
    pub(crate) fn new(setup: CourierSetup) -> Self {
        let CourierSetup { store, client, postbox, digest, telling, news, stopping, tasks } = setup;
        let (busy, lines, changing) = (Mutex::default(), Mutex::default(), tokio::sync::Mutex::default());
        let rules = RetryRules::default();
        Self { store, client, postbox, digest, telling, news, rules, busy, lines, changing, stopping, tasks }
    }

    /// True if mail can be sent.
    pub(crate) fn has_mail(&self) -> bool {
        self.postbox.is_there()
    }

    /// How a target does.
    pub(crate) fn condition(&self, target: u64) -> TargetCondition {
        self.line(target).condition()
    }

    /// Why a target takes nothing that took nothing for long; of several one.
    pub(crate) fn failing(&self, now: OffsetDateTime) -> Option<String> {
        let targets = self.telling.targets();
        targets.iter().filter(|target| target.rules.is_on).find_map(|target| {
            let (since, why) = self.condition(target.id).failing?;
            let told = || format!("{} takes no calls: {why}", target.name);
            (now - since >= FAILING_AFTER).then(told)
        })
    }

    /// A target was changed: what waits for it is tried at once.
    pub(crate) async fn target_changed(&self, target: u64) -> Result<(), StoreError> {
        self.line(target).forget();
        self.store.hurry_deliveries(target, OffsetDateTime::now_utc()).await?;
        self.news.notify_one();
        Ok(())
    }

    /// Something waits that is to be tried at once.
    pub(crate) fn look_now(&self) {
        self.news.notify_one();
    }

    fn line(&self, target: u64) -> Arc<TargetLine> {
        self.lines.lock().entry(target).or_default().clone()
    }

    /// Sends couriers out until the service stops.
    pub(crate) async fn run(self: Arc<Self>) {
        let mut tidied: Option<OffsetDateTime> = None;
        loop {
            let now = OffsetDateTime::now_utc();
            let looked = self.send_out(now).await;
            if looked.is_ok() && tidied.is_none_or(|at| now - at >= TIDY_INTERVAL) {
                match self.tidy(now).await {
                    Ok(()) => tidied = Some(now),
                    Err(error) => tracing::debug!(%error, "what was told long ago is forgotten later"),
                }
            }
            let pause = match looked {
                Ok(next) => next.map_or(LOOK_INTERVAL, |next| until(next, now)).clamp(LEAST_PAUSE, LOOK_INTERVAL),
                Err(error) => {
                    tracing::debug!(%error, "others are told later what happened");
                    RETRY_PAUSE
                }
            };
            tokio::select! {
                () = self.news.notified() => sleep(LEAST_PAUSE).await,
                () = sleep(pause) => {}
                () = self.stopping.cancelled() => return,
            }
        }
    }

    /// Sends a courier into each lane in which something is due; says when the next is.
    async fn send_out(self: &Arc<Self>, now: OffsetDateTime) -> Result<Option<OffsetDateTime>, StoreError> {
        let mut next: Option<OffsetDateTime> = None;
        for lane in self.store.waiting_lanes().await? {
            let target = self.telling.target(lane.target_id);
            let Some(target) = target.filter(|target| target.rules.is_on) else { continue };
            let is_mail = target.mailboxes().is_some();
            let key = (target.id, (!is_mail).then_some(lane.lane));
            let due = if is_mail { self.line(target.id).mail_due(lane.next_at, self.digest) } else { lane.next_at };
            if due > now {
                next = Some(next.map_or(due, |next| next.min(due)));
            } else if self.busy.lock().insert(key) {
                self.tasks.spawn(self.clone().walk(OnLane { desk: self.clone(), key }));
            }
        }
        Ok(next)
    }

    /// What a courier does: one after the other, until nothing is due in its lane or something was not taken.
    async fn walk(self: Arc<Self>, on: OnLane) {
        let key = on.key;
        let line = self.line(key.0);
        let turn = tokio::select! {
            turn = line.turns.acquire() => turn.ok(),
            () = self.stopping.cancelled() => None,
        };
        while turn.is_some() && !self.stopping.is_cancelled() {
            let Some(target) = self.telling.target(key.0).filter(|target| target.rules.is_on) else { break };
            match self.take_next(&line, &target, key.1).await {
                Ok(true) => {}
                Ok(false) => break,
                Err(error) => {
                    tracing::debug!(%error, target = target.name, "a target is told later what happened");
                    sleep(RETRY_PAUSE).await;
                    break;
                }
            }
        }
    }

    /// Tells the next that is due; true if there may be more.
    async fn take_next(&self, line: &TargetLine, target: &CallTarget, lane: Option<u64>) -> Result<bool, StoreError> {
        match lane {
            Some(lane) => self.call_next(line, target, lane).await,
            None => self.mail_next(line, target).await,
        }
    }

    async fn tidy(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        let counts = self.store.waiting_counts().await?;
        let full = counts.iter().filter(|waiting| waiting.count >= MOST_WAITING).map(|waiting| waiting.target_id);
        let full: HashSet<u64> = full.collect();
        if !full.is_empty() {
            tracing::warn!(?full, "so much waits for these targets of calls that nothing is added");
        }
        self.telling.set_full(full);
        let known: HashSet<u64> = self.telling.targets().iter().map(|target| target.id).collect();
        self.lines.lock().retain(|id, _| known.contains(id));
        self.store.forget_deliveries(now - KEPT).await
    }
}

/// A courier on its lane; another may walk it when this is dropped.
struct OnLane {
    desk: Arc<CourierDesk>,
    key: LaneKey,
}

impl Drop for OnLane {
    fn drop(&mut self) {
        self.desk.busy.lock().remove(&self.key);
        self.desk.news.notify_one();
    }
}

fn until(next: OffsetDateTime, now: OffsetDateTime) -> Duration {
    (next - now).try_into().unwrap_or(Duration::ZERO)
}
