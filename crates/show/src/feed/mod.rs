//! The packets of a show as its readers get them: at once, or later by a delay. Renditions, meters and viewers are
//! further readers of the same thing.

mod delay;
mod feeds;
mod reader;
mod spool;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{Cursor, Entry, Hub, HubLimits, Origin, Read};

pub(crate) use delay::ALLOWANCE as DELAY_ALLOWANCE;
pub use feeds::{FeedKey, Feeds, Rendition};
pub use reader::{FeedReader, Taken};

/// The packets of a session, with everything that readers need to wait for them.
#[derive(Debug)]
pub struct Feed {
    /// Held for moments only, never across an await.
    hub: Mutex<Hub>,
    news: Notify,
    /// Counts what is new, so that readers can look without the hub's lock.
    news_count: AtomicU64,
    /// Counts what publishers announced of their streams; shared by all feeds of a show.
    announced: Arc<AtomicU64>,
    delay: Duration,
    begins_at: Instant,
    over: CancellationToken,
}

/// What a read came to.
#[derive(Debug)]
struct FeedRead {
    read: Read,
    lag: MediaTime,
    has_ended: bool,
}

impl Feed {
    /// An empty feed that runs `delay` behind its source, and has its first packet at `begins_at` at the earliest.
    pub fn new(limits: HubLimits, delay: Duration, begins_at: Instant) -> Self {
        Self {
            hub: Mutex::new(Hub::new(limits)),
            news: Notify::new(),
            news_count: AtomicU64::new(0),
            announced: Arc::default(),
            delay,
            begins_at,
            over: CancellationToken::new(),
        }
    }

    /// The same show, later: what is announced holds for both.
    fn following(live: &Self, limits: HubLimits, delay: Duration, begins_at: Instant) -> Self {
        Self { announced: live.announced.clone(), ..Self::new(limits, delay, begins_at) }
    }

    /// How much later than the source.
    pub fn delay(&self) -> Duration {
        self.delay
    }

    /// When its first packet can be there.
    pub fn begins_at(&self) -> Instant {
        self.begins_at
    }

    /// Cancelled when the last packet is in the hub.
    pub fn over(&self) -> &CancellationToken {
        &self.over
    }

    /// A publisher announced something of its stream.
    pub fn count_announcement(&self) {
        self.announced.fetch_add(1, Ordering::Release);
    }

    /// Appends a packet; readers learn of it by [`tell_news`](Self::tell_news).
    pub fn push(&self, packet: Packet, tracks: Arc<Tracks>, origin: Origin) {
        self.hub.lock().push(packet, tracks, origin);
    }

    /// Changes how much is kept.
    pub fn set_limits(&self, limits: HubLimits) {
        self.hub.lock().set_limits(limits);
    }

    /// The time of the newest packet.
    pub fn newest(&self) -> Option<MediaTime> {
        self.hub.lock().newest()
    }

    /// Says that no packet follows.
    pub fn end(&self) {
        self.hub.lock().end();
        self.over.cancel();
        self.tell_news();
    }

    /// Tells readers that there is something new.
    pub fn tell_news(&self) {
        self.news_count.fetch_add(1, Ordering::Release);
        self.news.notify_waiters();
    }

    /// True if nothing follows what is in the hub.
    pub fn has_ended(&self) -> bool {
        self.over.is_cancelled()
    }

    fn read(&self, cursor: &mut Cursor, max: usize, out: &mut Vec<Entry>) -> FeedRead {
        let hub = self.hub.lock();
        let read = hub.read(cursor, max, out);
        FeedRead { read, lag: hub.lag(cursor), has_ended: hub.has_ended() }
    }
}
