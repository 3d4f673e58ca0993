use std::collections::BTreeSet;

use parking_lot::Mutex;
use tokio::sync::{Notify, watch};

/// Channels that were changed and not read anew yet.
#[derive(Debug)]
pub(crate) struct Touched {
    pub(crate) channels: Mutex<(BTreeSet<u64>, u64)>,
    pub(crate) news: Notify,
    /// The number of the newest change that holds.
    pub(crate) applied: watch::Sender<u64>,
}

impl Default for Touched {
    fn default() -> Self {
        Self { channels: Mutex::default(), news: Notify::new(), applied: watch::Sender::new(0) }
    }
}
