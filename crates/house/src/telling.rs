//! Who is told what happens: the targets as they are now, in memory, so that nobody waits for the database to know whether
//! somebody wants to hear.

use std::collections::HashSet;
use std::sync::Arc;

use parking_lot::{Mutex, RwLock};
use time::OffsetDateTime;
use waverant_relay::{Announcement, CallTarget, Chronicle, Occurrence, OfChannel, ShowNews, ShowRecord, TakeRecord};
use waverant_store::{Store, StoreError, new_call_id};

/// Who is told, and how far each show was told.
#[derive(Debug, Default)]
pub(crate) struct Telling {
    chronicle: Mutex<Chronicle>,
    targets: RwLock<Arc<[Arc<CallTarget>]>>,
    /// Targets for which so much waits that nothing is added.
    full: RwLock<HashSet<u64>>,
}

impl Telling {
    /// What follows from a record of a show for who is told.
    pub(crate) fn note(&self, record: &ShowRecord) -> Option<Announcement> {
        let happened = self.chronicle.lock().note(record, OffsetDateTime::now_utc())?;
        self.announce(happened)
    }

    /// What follows from news of a session.
    pub(crate) fn tell(&self, session: u64, news: &ShowNews) -> Option<Announcement> {
        let happened = self.chronicle.lock().tell(session, news, OffsetDateTime::now_utc())?;
        self.announce(happened)
    }

    /// Whom something is told to, if to anybody.
    pub(crate) fn announce(&self, occurrence: Occurrence) -> Option<Announcement> {
        let full = self.full.read();
        let wanting = |target: &&Arc<CallTarget>| target.rules.wants(&occurrence) && !full.contains(&target.id);
        let targets: Vec<u64> = self.targets().iter().filter(wanting).map(|target| target.id).collect();
        (!targets.is_empty()).then(|| Announcement { event_id: new_call_id("evt"), targets, occurrence })
    }

    /// All targets, by name.
    pub(crate) fn targets(&self) -> Arc<[Arc<CallTarget>]> {
        self.targets.read().clone()
    }

    /// One of them.
    pub(crate) fn target(&self, id: u64) -> Option<Arc<CallTarget>> {
        self.targets().iter().find(|target| target.id == id).cloned()
    }

    /// A target is there, or is changed.
    pub(crate) fn put_target(&self, target: CallTarget) {
        let mut targets = self.targets.write();
        let others = targets.iter().filter(|known| known.id != target.id).cloned();
        let mut all: Vec<Arc<CallTarget>> = others.chain([Arc::new(target.clone())]).collect();
        all.sort_by(|one, other| one.name.cmp(&other.name));
        *targets = all.into();
    }

    /// Targets are gone.
    pub(crate) fn drop_targets(&self, is_gone: impl Fn(&CallTarget) -> bool) {
        let mut targets = self.targets.write();
        *targets = targets.iter().filter(|target| !is_gone(target)).cloned().collect();
    }

    /// Follows the records.
    pub(crate) fn set_targets(&self, targets: Vec<CallTarget>) {
        *self.targets.write() = targets.into_iter().map(Arc::new).collect();
    }

    /// Says for which targets so much waits that nothing is added.
    pub(crate) fn set_full(&self, full: HashSet<u64>) {
        *self.full.write() = full;
    }
}

/// Tells others of what an earlier run left open and this start closes. Its events have numbers that follow from what
/// they are about: a start that is broken off tells nothing twice.
#[derive(Debug)]
pub struct LeftOpen<'a> {
    store: &'a Store,
    targets: Vec<CallTarget>,
    now: OffsetDateTime,
}

impl<'a> LeftOpen<'a> {
    /// Looks who is told.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn new(store: &'a Store, now: OffsetDateTime) -> Result<Self, StoreError> {
        Ok(Self { store, targets: store.call_targets().await?, now })
    }

    async fn tell(&self, event_id: String, occurrence: Occurrence) -> Result<(), StoreError> {
        let wanting = self.targets.iter().filter(|target| target.rules.wants(&occurrence));
        let targets: Vec<u64> = wanting.map(|target| target.id).collect();
        if targets.is_empty() {
            return Ok(());
        }
        self.store.write_announcement(&Announcement { event_id, targets, occurrence }).await
    }

    /// None if nobody is told anything, or nothing is known of the session: that keeps no house closed.
    async fn channel(&self, session: u64) -> Result<Option<OfChannel>, StoreError> {
        if self.targets.is_empty() {
            return Ok(None);
        }
        match self.store.session(session).await {
            Ok(found) => Ok(Some(OfChannel { id: found.begun.channel_id, name: found.begun.channel_name })),
            Err(StoreError::NotFound { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Tells that a take was mended.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn tell_take(&self, take: &TakeRecord) -> Result<(), StoreError> {
        let id = format!("evt_take_{}_{}_mended", take.session_id, take.number);
        let Some(channel) = self.channel(take.session_id).await? else { return Ok(()) };
        self.tell(id, Occurrence::take_ready(&channel, take, self.now)).await
    }

    /// Tells that a session is over.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn tell_session(&self, session: u64, reason: &str) -> Result<(), StoreError> {
        let Some(channel) = self.channel(session).await? else { return Ok(()) };
        let over = Occurrence::cut_session(session, &channel, reason, self.now);
        self.tell(format!("evt_session_{session}_cut"), over).await
    }
}
