use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use waverant_relay::HubLimits;

use super::{Feed, delay};

/// What of a show a feed has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Rendition {
    /// The show as it comes in.
    #[default]
    Source,
}

/// By what a feed is had.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FeedKey {
    /// What it has.
    pub rendition: Rendition,
    /// How much later than the source.
    pub delay: Duration,
}

/// All feeds of a show. What is late is made when it is asked for, and ends when nobody has it any more.
#[derive(Debug)]
pub struct Feeds {
    live: Arc<Feed>,
    derived: Mutex<BTreeMap<FeedKey, Weak<Feed>>>,
    spool_folder: PathBuf,
    /// Cancelled when what is late is not to play on.
    cut: CancellationToken,
}

impl Feeds {
    /// The feeds of a show that began at `began`. What waits for its time is kept in `spool_folder`.
    pub fn new(limits: HubLimits, began: Instant, spool_folder: PathBuf, cut: CancellationToken) -> Self {
        let live = Arc::new(Feed::new(limits, Duration::ZERO, began));
        Self { live, derived: Mutex::default(), spool_folder, cut }
    }

    /// The show as it comes in, at once.
    pub fn live(&self) -> &Arc<Feed> {
        &self.live
    }

    /// The feed that is had by `key`.
    pub fn get(&self, key: FeedKey) -> Arc<Feed> {
        if key.delay.is_zero() {
            return self.live.clone();
        }
        let mut derived = self.derived.lock();
        derived.retain(|_, feed| feed.strong_count() > 0);
        if let Some(feed) = derived.get(&key).and_then(Weak::upgrade).filter(|feed| !feed.has_ended()) {
            return feed;
        }
        let feed = delay::start(&self.live, key.delay, self.spool_folder.clone(), self.cut.clone());
        derived.insert(key, Arc::downgrade(&feed));
        feed
    }

    /// No more packets come into the show. What is late plays on.
    pub fn end(&self) {
        self.live.end();
    }

    /// What is late does not play on.
    pub fn cut(&self) {
        self.cut.cancel();
    }

    /// True if no more packets come to any feed.
    pub fn is_done(&self) -> bool {
        self.live.has_ended() || self.cut.is_cancelled()
    }

    /// How long the last packets still are on their way after the end.
    pub fn longest_delay(&self) -> Duration {
        let derived = self.derived.lock();
        let running = derived.iter().filter(|(_, feed)| feed.strong_count() > 0);
        running.map(|(key, _)| key.delay).max().unwrap_or_default()
    }
}
