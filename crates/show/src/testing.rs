//! What tests of a show's parts have in place of a house.

use std::path::PathBuf;
use std::sync::Arc;

use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use waverant_relay::{HubLimits, ShowNews, ShowRecord};
use waverant_rtmp::StreamRates;

use crate::clock;
use crate::context::{Ledger, Rates, ShowContext};
use crate::events::Events;
use crate::feed::Feeds;

/// A ledger in memory.
#[derive(Debug, Default)]
pub(crate) struct MemoryLedger(Mutex<Vec<ShowRecord>>);

impl MemoryLedger {
    pub(crate) fn records(&self) -> Vec<ShowRecord> {
        self.0.lock().clone()
    }
}

impl Ledger for MemoryLedger {
    fn write(&self, record: ShowRecord) {
        self.0.lock().push(record);
    }

    fn tell(&self, _: u64, _: ShowNews) {}
}

#[derive(Debug)]
struct NoRates;

impl Rates for NoRates {
    fn rates(&self) -> StreamRates {
        StreamRates::default()
    }
}

/// What the parts of a show get that has just begun.
pub(crate) fn context(ledger: Arc<MemoryLedger>, spool_folder: PathBuf) -> ShowContext {
    let began = clock::now();
    let feeds = Feeds::new(HubLimits::default(), began, spool_folder, CancellationToken::new());
    ShowContext {
        channel: "finish-line".parse().unwrap(),
        lags: Arc::default(),
        id: 7,
        began,
        feeds: Arc::new(feeds),
        rates: Arc::new(NoRates),
        ledger,
        events: Arc::new(Events::new(began)),
    }
}
