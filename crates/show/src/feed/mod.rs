use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{Cursor, Entry, Hub, HubLimits, Origin, Read};

/// The packets of a session as its readers get them: at once, or later by a delay.
#[derive(Debug)]
pub(crate) struct Feed {
    /// Held for moments only, never across an await.
    hub: Mutex<Hub>,
    news: Notify,
    /// Counts what is new, so that readers can look without the hub's lock.
    news_count: AtomicU64,
    /// Counts what publishers announced of their streams; shared by all feeds of a show.
    announced: Arc<AtomicU64>,
    /// How much later than the source.
    pub(crate) delay: Duration,
    /// When its first packet can be there.
    pub(crate) begins_at: Instant,
    /// Cancelled when the last packet is in the hub.
    pub(crate) over: CancellationToken,
}

/// What a read came to.
#[derive(Debug)]
pub(crate) struct FeedRead {
    pub(crate) read: Read,
    /// How far the reader still is behind the newest packet.
    pub(crate) lag: MediaTime,
    /// True if nothing follows what is in the hub.
    pub(crate) has_ended: bool,
}

impl Feed {
    pub(crate) fn new(limits: HubLimits, delay: Duration, begins_at: Instant) -> Self {
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
    pub(crate) fn following(live: &Self, limits: HubLimits, delay: Duration, begins_at: Instant) -> Self {
        Self { announced: live.announced.clone(), ..Self::new(limits, delay, begins_at) }
    }

    /// A publisher announced something of its stream.
    pub(crate) fn count_announcement(&self) {
        self.announced.fetch_add(1, Ordering::Release);
    }

    /// How often something was announced; a reader that saw another number tells its peer anew.
    pub(crate) fn announcement_count(&self) -> u64 {
        self.announced.load(Ordering::Acquire)
    }

    /// Appends a packet; readers learn of it by [`tell_news`](Self::tell_news).
    pub(crate) fn push(&self, packet: Packet, tracks: Arc<Tracks>, origin: Origin) {
        self.hub.lock().push(packet, tracks, origin);
    }

    /// The time of the newest packet.
    pub(crate) fn newest(&self) -> Option<MediaTime> {
        self.hub.lock().newest()
    }

    /// Says that no packet follows.
    pub(crate) fn end(&self) {
        self.hub.lock().end();
        self.over.cancel();
        self.tell_news();
    }

    /// Tells readers that there is something new.
    pub(crate) fn tell_news(&self) {
        self.news_count.fetch_add(1, Ordering::Release);
        self.news.notify_waiters();
    }

    /// Wakes when there is something new. Enable it before looking at the count.
    pub(crate) fn news(&self) -> tokio::sync::futures::Notified<'_> {
        self.news.notified()
    }

    /// How often there was news; a reader that saw another number has something to read.
    pub(crate) fn news_count(&self) -> u64 {
        self.news_count.load(Ordering::Acquire)
    }

    /// Appends up to `max` packets to `out`.
    pub(crate) fn read(&self, cursor: &mut Cursor, max: usize, out: &mut Vec<Entry>) -> FeedRead {
        let hub = self.hub.lock();
        let read = hub.read(cursor, max, out);
        FeedRead { read, lag: hub.lag(cursor), has_ended: hub.has_ended() }
    }

    /// True if nothing follows what is in the hub.
    pub(crate) fn has_ended(&self) -> bool {
        self.over.is_cancelled()
    }
}
