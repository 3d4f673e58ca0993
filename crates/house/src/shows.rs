use std::collections::HashMap;
use std::sync::Arc;

use parking_lot::{Mutex, MutexGuard};
use tokio::sync::watch;
use waverant_relay::{SessionEnd, ShowRecord};
use waverant_show::{Ledger as _, Registry, Show, ShowEnd};

use crate::Ledger;
use crate::report::report_of;
use crate::timelines::TimelineShelf;

/// The sessions that run, by channel.
#[derive(Debug)]
pub(crate) struct Shows {
    by_channel: Mutex<HashMap<u64, Arc<Show>>>,
    /// Counts sessions that began.
    begun: watch::Sender<u64>,
    ledger: Ledger,
    timelines: Arc<TimelineShelf>,
}

impl Shows {
    pub(crate) fn new(ledger: Ledger, timelines: Arc<TimelineShelf>) -> Self {
        Self { by_channel: Mutex::default(), begun: watch::Sender::new(0), ledger, timelines }
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, HashMap<u64, Arc<Show>>> {
        self.by_channel.lock()
    }

    /// Puts a session on air, and tells who waits for one.
    pub(crate) fn put(&self, shows: &mut HashMap<u64, Arc<Show>>, show: &Arc<Show>) {
        shows.insert(show.channel_id(), show.clone());
        self.begun.send_modify(|count| *count += 1);
    }

    /// Changes with each session that begins.
    pub(crate) fn begun(&self) -> watch::Receiver<u64> {
        self.begun.subscribe()
    }

    pub(crate) fn all(&self) -> Vec<Arc<Show>> {
        self.lock().values().cloned().collect()
    }

    pub(crate) fn of_channel(&self, channel_id: u64) -> Option<Arc<Show>> {
        self.lock().get(&channel_id).cloned()
    }
}

impl Registry for Shows {
    fn forget(&self, show: &Arc<Show>) {
        let mut shows = self.lock();
        if shows.get(&show.channel_id()).is_some_and(|current| Arc::ptr_eq(current, show)) {
            shows.remove(&show.channel_id());
        }
    }

    fn ended(&self, end: ShowEnd) {
        let report = serde_json::to_string(&report_of(&end.report)).unwrap_or_default();
        let ShowEnd { id, started_at, ended_at, reason, loss_count, timeline, .. } = end;
        self.timelines.keep(id, started_at, timeline);
        self.ledger.write(ShowRecord::SessionEnded(SessionEnd { id, ended_at, reason, loss_count, report }));
    }
}
