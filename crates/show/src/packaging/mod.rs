//! A show as viewers fetch it: a reader of the feed that keeps segments and playlists, for as long as somebody asks.

mod on_disk;
mod texts;

#[cfg(test)]
mod tests;

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio_util::sync::{CancellationToken, DropGuard};
use waverant_container::PieceName;
use waverant_media::{MediaTime, TrackId};
use waverant_relay::{Cursor, Found, OutsideShow, Packager, PackagingRules, Position, Read, WallClock, WholeSegment};

use crate::clock;
use crate::context::ShowContext;
use crate::feed::FeedReader;
use on_disk::RunFolder;
pub use on_disk::{SegmentFolder, StoredSegment};
use texts::Texts;
pub use texts::Told;

/// How far behind the packager may be: as far as the ring is long, since it begins behind and waits for nobody.
const ALLOWANCE: MediaTime = MediaTime::from_millis(20_000);

/// Packets taken at once.
const MAX_ENTRIES: usize = 256;

/// The pause between two reads: one wake-up for some packets, at a tenth of the length of a part.
const REST: Duration = Duration::from_millis(20);

/// So long nobody may ask before the packager ends.
const IDLE: Duration = Duration::from_secs(30);

/// So long after the end of the show its last segments can be fetched.
const LINGER: Duration = Duration::from_secs(60);

/// How much of what was sent is there for the first viewer at once.
const BACK: MediaTime = MediaTime::from_millis(8_000);

/// A show as segments and playlists, from the first time that somebody asked on.
#[derive(Debug)]
pub struct Packaging {
    /// The number that tells this run's pieces from those of any other.
    run: u64,
    began: Instant,
    packager: Mutex<Packager>,
    texts: Mutex<Texts>,
    news: Notify,
    /// When somebody last asked, in milliseconds since the begin.
    asked_ms: AtomicU64,
    stopped: CancellationToken,
    /// Where old segments lie, if the rules say so.
    on_disk: Option<RunFolder>,
}

/// What follows for whom a playlist is kept back until it has something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Waited {
    /// It is there.
    There,
    /// It did not come in time.
    Late,
    /// It is too far ahead, or of no track that there is.
    Wrong,
}

impl Packaging {
    /// Begins to package a show; `always` keeps it going while nobody asks. What is too old for memory goes to `folder`.
    pub fn start(show: &ShowContext, rules: PackagingRules, always: bool, folder: &SegmentFolder) -> Arc<Self> {
        let feed = show.feeds.live().clone();
        let date = OffsetDateTime::now_utc();
        let at = feed.newest().unwrap_or_default();
        let mut packager = Packager::new(rules, WallClock { at, date });
        packager.set_frame_rate(show.rates.rates().frame_rate);
        // Unique even where the same session is packaged again.
        let run = u64::try_from(date.unix_timestamp_nanos() / 1_000_000).unwrap_or(0);
        let packaging = Arc::new(Self {
            run,
            began: clock::now(),
            packager: Mutex::new(packager),
            texts: Mutex::default(),
            news: Notify::new(),
            asked_ms: AtomicU64::new(0),
            stopped: CancellationToken::new(),
            on_disk: rules.in_memory.map(|_| folder.of_run(run)),
        });
        let mut cursor = Cursor::from_beginning(ALLOWANCE);
        cursor.restart_back(BACK);
        let reader = FeedReader::new(feed, cursor, MAX_ENTRIES);
        let over = CancellationToken::new();
        if packaging.on_disk.is_some() {
            tokio::spawn(on_disk::keep(Arc::downgrade(&packaging), over.clone()));
        }
        tokio::spawn(carry(packaging.clone(), reader, always, over.drop_guard()));
        packaging
    }

    /// The number in the path of all pieces of this run.
    pub fn run(&self) -> u64 {
        self.run
    }

    /// True if nothing is added any more because nobody asked: who asks now begins another.
    pub fn is_stopped(&self) -> bool {
        self.stopped.is_cancelled()
    }

    /// True once the show is over and all of it is told.
    pub fn has_ended(&self) -> bool {
        self.packager.lock().has_ended()
    }

    /// Somebody asks.
    fn touch(&self) {
        let since = clock::now().saturating_duration_since(self.began);
        self.asked_ms.store(u64::try_from(since.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    fn is_idle(&self) -> bool {
        let asked = Duration::from_millis(self.asked_ms.load(Ordering::Relaxed));
        clock::now().saturating_duration_since(self.began + asked) > IDLE
    }

    /// The playlist that players are given; none while there is nothing to play.
    pub fn multivariant(&self) -> Option<Arc<str>> {
        self.touch();
        self.packager.lock().multivariant(&format!("{}/", self.run)).map(Into::into)
    }

    /// The manifest of DASH; none while no segment is whole.
    pub fn manifest(&self) -> Option<Arc<str>> {
        self.touch();
        self.packager.lock().manifest(&format!("{}/", self.run), OffsetDateTime::now_utc()).map(Into::into)
    }

    /// A track's playlist as it is now; the same text for all who ask before it changes.
    pub fn playlist(&self, track: TrackId, skips: bool) -> Option<Arc<Told>> {
        self.touch();
        let packager = self.packager.lock();
        let version = (self.run, packager.version());
        self.texts.lock().get((track, skips), version, || packager.playlist(track, skips))
    }

    /// A segment that lies on the disk. Blocks.
    ///
    /// # Errors
    /// What the system said, or that nothing is kept there.
    pub fn find_stored(&self, track: TrackId, number: u64) -> io::Result<StoredSegment> {
        self.on_disk.as_ref().ok_or(io::ErrorKind::NotFound)?.find(track, number)
    }

    /// What is to be sent of a show that is told elsewhere.
    pub fn next_outside(&self, show: &mut OutsideShow) -> Vec<(TrackId, WholeSegment)> {
        self.touch();
        show.next(&self.packager.lock())
    }

    /// Waits until anything is new; `patience` at most.
    pub async fn wait_for_news(&self, patience: Duration) {
        let _ = tokio::time::timeout(patience, self.news.notified()).await;
    }

    /// What there is under a name.
    pub fn find(&self, track: TrackId, name: PieceName) -> Found {
        self.touch();
        self.packager.lock().find(track, name)
    }

    /// Waits until a track has come to a segment, or to a part of it; `patience` at most.
    ///
    /// # Cancel safety
    /// Nothing is lost.
    pub async fn wait_for(&self, track: TrackId, number: u64, part: Option<u32>, patience: Duration) -> Waited {
        let outcome = tokio::time::timeout(
            patience,
            self.until(|packager| {
                let Some(position) = packager.position(track) else { return Some(Waited::Wrong) };
                if position.has(number, part) || packager.has_ended() {
                    return Some(Waited::There);
                }
                is_too_far(position, number).then_some(Waited::Wrong)
            }),
        );
        outcome.await.unwrap_or(Waited::Late)
    }

    /// Waits for a piece that will come next, and gives it; `patience` at most.
    ///
    /// # Cancel safety
    /// Nothing is lost.
    pub async fn wait_to_find(&self, track: TrackId, name: PieceName, patience: Duration) -> Found {
        let found = self.until(|packager| match packager.find(track, name) {
            Found::NotYet => None,
            found => Some(found),
        });
        tokio::time::timeout(patience, found).await.unwrap_or(Found::NotYet)
    }

    /// Waits until there is something to play; `patience` at most.
    pub async fn wait_to_begin(&self, patience: Duration) {
        let begun = self.until(|packager| (packager.has_begun() || packager.has_ended()).then_some(()));
        let _ = tokio::time::timeout(patience, begun).await;
    }

    async fn until<T>(&self, look: impl Fn(&Packager) -> Option<T>) -> T {
        loop {
            let mut news = std::pin::pin!(self.news.notified());
            // Registered before it is looked, so that nothing comes between.
            news.as_mut().enable();
            self.touch();
            if let Some(found) = look(&self.packager.lock()) {
                return found;
            }
            news.await;
        }
    }
}

/// A player asks for the next thing, or for the one behind it; nobody asks for more by right.
///
/// Source: RFC 8216bis, 6.2.5.2
fn is_too_far(position: Position, number: u64) -> bool {
    number > position.segment.unwrap_or(0) + 2
}

/// Moves packets from the feed into the packager, until the show is over or nobody asks any more.
async fn carry(packaging: Arc<Packaging>, mut reader: FeedReader, always: bool, _over: DropGuard) {
    loop {
        tokio::select! {
            () = reader.news() => {}
            () = tokio::time::sleep(IDLE) => {}
        }
        let taken = reader.take();
        let (before, after) = {
            let mut packager = packaging.packager.lock();
            let before = packager.version();
            if matches!(taken.read, Read::Jumped { missed_frame_count: 1.., .. }) {
                packager.note_gap();
            }
            reader.drain().for_each(|entry| packager.push(&entry));
            if taken.is_end() {
                packager.finish();
            }
            (before, packager.version())
        };
        if before != after {
            packaging.news.notify_waiters();
        }
        if taken.is_end() {
            // Who is some seconds behind still fetches the end.
            tokio::time::sleep(LINGER).await;
            return;
        }
        if packaging.is_idle() && !always {
            packaging.stopped.cancel();
            packaging.news.notify_waiters();
            return;
        }
        if !reader.has_news() {
            tokio::time::sleep_until(clock::on_grid(clock::now(), REST).into()).await;
        }
    }
}
