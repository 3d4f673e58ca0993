use std::collections::VecDeque;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use tokio::task::spawn_blocking;
use tokio::time::sleep_until;
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{Cursor, Entry, HubLimits, Origin, Read};

use super::spool::{self, Place, Spool};
use super::{Feed, Show};

/// Packets taken from the live feed at once.
const MAX_ENTRIES: usize = 256;

/// A disk may stall this long before packets are lost to the delayed feed.
const ALLOWANCE: MediaTime = MediaTime::from_millis(15_000);

/// Payload that waits in memory; what is beyond goes to the disk, a chunk at a time.
const IN_MEMORY: usize = 512 * 1024;

/// Written to the disk, and read from it, with one call.
const CHUNK: usize = 256 * 1024;

/// While the disk fails, so much is kept in memory before the feed gets a gap.
const IN_NEED: usize = 32 * 1024 * 1024;

/// Pause before a disk that failed is tried again.
const RETRY_PAUSE: Duration = Duration::from_secs(5);

/// Payload is fetched from the disk this long before it is due.
const READ_AHEAD: Duration = Duration::from_secs(1);

/// Packets that wait at most: 300 s of 1,300 a second, which are 60 pictures and 26 tracks of sound. Each
/// costs some hundred and fifty bytes of memory.
const MAX_WAITING: usize = 400_000;

/// Bytes that wait at most: 300 s of 100 Mbit/s.
const MAX_SPOOLED: u64 = 4_000_000_000;

/// Packets that are due within this time go together.
const TICK: Duration = Duration::from_millis(20);

/// What the legs behind a delay can still be late by.
const LIMITS: HubLimits =
    HubLimits { max_bytes: 8 * 1024 * 1024, max_length: MediaTime::from_millis(10_000), max_packets: 4096 };

/// A packet that waits for its time.
struct Waiting {
    due: Instant,
    /// Without its payload.
    packet: Packet,
    payload: Payload,
    tracks: Arc<Tracks>,
    origin: Origin,
}

enum Payload {
    Memory(Bytes),
    Disk(Place),
}

/// A feed that runs `delay` behind the live one, from now on.
pub(super) fn start(show: &Arc<Show>, delay: Duration, folder: PathBuf, cut: CancellationToken) -> Arc<Feed> {
    let feed = Arc::new(Feed::following(&show.feed, LIMITS, delay, Instant::now() + delay));
    let line = DelayLine {
        live: show.feed.clone(),
        feed: feed.clone(),
        waiting: VecDeque::new(),
        in_memory: 0,
        held: 0,
        spool: None,
        spill_from: Instant::now(),
        folder,
        cursor: Cursor::from_beginning(ALLOWANCE),
    };
    tokio::spawn(line.run(cut));
    feed
}

struct DelayLine {
    live: Arc<Feed>,
    feed: Arc<Feed>,
    waiting: VecDeque<Waiting>,
    in_memory: usize,
    /// Bytes that wait, in memory and on the disk.
    held: u64,
    /// None until it is needed, and while it is at work off the runtime's threads.
    spool: Option<Spool>,
    /// When the disk is used again after it failed.
    spill_from: Instant,
    folder: PathBuf,
    cursor: Cursor,
}

impl Drop for DelayLine {
    fn drop(&mut self) {
        self.feed.end();
    }
}

impl DelayLine {
    /// Runs until everything is passed on, it is cut off, or no leg reads it any more.
    async fn run(mut self, cut: CancellationToken) {
        let mut entries = Vec::with_capacity(MAX_ENTRIES);
        let live = self.live.clone();
        loop {
            if Arc::strong_count(&self.feed) == 1 {
                return;
            }
            let mut news = std::pin::pin!(live.news());
            news.as_mut().enable();
            entries.clear();
            let read = live.read(&mut self.cursor, MAX_ENTRIES, &mut entries).read;
            let took = !entries.is_empty();
            self.take(&mut entries);
            self.use_disk().await;
            self.pass_on();
            if read == Read::End && self.waiting.is_empty() {
                return;
            }
            let next = self.waiting.front().map(|first| first.due + TICK);
            tokio::select! {
                () = cut.cancelled() => return,
                () = news, if !took && read != Read::End => {}
                () = sleep_until(next.unwrap_or_else(Instant::now).into()), if next.is_some() && !took => {}
                () = std::future::ready(()), if took => {}
            }
        }
    }

    fn take(&mut self, entries: &mut Vec<Entry>) {
        let due = Instant::now() + self.feed.delay;
        for Entry { mut packet, tracks, origin, .. } in entries.drain(..) {
            let payload = std::mem::take(&mut packet.payload);
            self.in_memory += payload.len();
            self.held += payload.len() as u64;
            self.waiting.push_back(Waiting { due, packet, payload: Payload::Memory(payload), tracks, origin });
        }
        if self.waiting.len() > MAX_WAITING || self.held > MAX_SPOOLED {
            let (packets, bytes) = (self.waiting.len(), self.held);
            tracing::error!(delay = ?self.feed.delay, packets, bytes, "too much waits for a delayed feed; it has a gap");
            self.begin_anew();
        }
    }

    /// Spills and fetches. A disk that fails costs memory first, and packets only then.
    async fn use_disk(&mut self) {
        let delay = self.feed.delay;
        if self.spill_from <= Instant::now()
            && let Err(error) = self.spill().await
        {
            tracing::error!(?delay, %error, "a delayed feed cannot be kept on the disk; it is kept in memory");
            self.spill_from = Instant::now() + RETRY_PAUSE;
        }
        let fetched = self.fetch().await;
        if let Err(error) = &fetched {
            tracing::error!(?delay, %error, "a delayed feed cannot be read from the disk");
        }
        if fetched.is_err() || self.in_memory > IN_NEED {
            tracing::error!(?delay, "a delayed feed has a gap");
            self.begin_anew();
        }
    }

    /// Lets go of what waits; goes on at the newest keyframe.
    fn begin_anew(&mut self) {
        self.waiting.clear();
        (self.in_memory, self.held, self.spool) = (0, 0, None);
        self.cursor.restart();
    }

    /// Moves what is not due soon to the disk, the oldest first, while there is too much in memory.
    async fn spill(&mut self) -> io::Result<()> {
        if self.in_memory < IN_MEMORY + CHUNK {
            return Ok(());
        }
        let late = Instant::now() + READ_AHEAD * 2;
        let (mut places, mut payloads, mut bytes) = (Vec::new(), Vec::new(), 0);
        for (at, waiting) in self.waiting.iter().enumerate() {
            if let Payload::Memory(payload) = &waiting.payload
                && waiting.due > late
                && bytes < CHUNK
            {
                bytes += payload.len();
                places.push(at);
                payloads.push(payload.clone());
            }
        }
        if payloads.is_empty() {
            return Ok(());
        }
        let mut spool = self.spool.take().unwrap_or_else(|| Spool::new(self.folder.clone()));
        let (spool, written) = off_the_runtime(move || {
            let written = spool.write(&payloads);
            (spool, written)
        })
        .await?;
        self.spool = Some(spool);
        for (at, place) in places.into_iter().zip(written?) {
            if let Some(waiting) = self.waiting.get_mut(at) {
                waiting.payload = Payload::Disk(place);
            }
        }
        self.in_memory -= bytes;
        Ok(())
    }

    /// Fetches what is due soon from the disk.
    async fn fetch(&mut self) -> io::Result<()> {
        let soon = Instant::now() + READ_AHEAD;
        let is_due = |waiting: &Waiting| matches!(waiting.payload, Payload::Disk(_)) && waiting.due <= soon;
        let Some(first) = self.waiting.iter().take_while(|waiting| waiting.due <= soon).position(is_due) else {
            return Ok(());
        };
        let (mut places, mut bytes) = (Vec::<Place>::new(), 0);
        for waiting in self.waiting.range(first..) {
            let Payload::Disk(place) = &waiting.payload else { break };
            if bytes >= CHUNK || places.last().is_some_and(|last| !last.is_followed_by(place)) {
                break;
            }
            bytes += place.length();
            places.push(place.clone());
        }
        let payloads = off_the_runtime(move || spool::read(&places)).await??;
        self.in_memory += bytes;
        for (waiting, payload) in self.waiting.range_mut(first..).zip(payloads) {
            waiting.payload = Payload::Memory(payload);
        }
        Ok(())
    }

    /// Passes on what is due and in memory.
    fn pass_on(&mut self) {
        let now = Instant::now();
        let mut passed = false;
        while self
            .waiting
            .front()
            .is_some_and(|first| first.due <= now + TICK / 2 && matches!(first.payload, Payload::Memory(_)))
        {
            let Some((packet, tracks, origin)) = self.pop() else { break };
            self.feed.push(packet, tracks, origin);
            passed = true;
        }
        if passed {
            self.feed.tell_news();
        }
    }

    fn pop(&mut self) -> Option<(Packet, Arc<Tracks>, Origin)> {
        let Waiting { mut packet, payload, tracks, origin, .. } = self.waiting.pop_front()?;
        self.held -= match &payload {
            Payload::Memory(payload) => payload.len() as u64,
            Payload::Disk(place) => place.length() as u64,
        };
        if let Payload::Memory(payload) = payload {
            self.in_memory -= payload.len();
            packet.payload = payload;
        }
        Some((packet, tracks, origin))
    }
}

async fn off_the_runtime<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> io::Result<T> {
    spawn_blocking(work).await.map_err(io::Error::other)
}
