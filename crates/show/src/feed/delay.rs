use std::collections::VecDeque;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use tokio::task::spawn_blocking;
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{Cursor, Entry, HubLimits, Origin};

use super::spool::{self, Spool, Spooled};
use super::{Feed, FeedReader};

/// Packets taken from the live feed at once.
const MAX_ENTRIES: usize = 256;

/// A disk may stall this long before packets are lost to the delayed feed.
pub(crate) const ALLOWANCE: MediaTime = MediaTime::from_millis(15_000);

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
    Disk(Spooled),
}

/// A feed that runs `delay` behind the live one, from now on.
pub(super) fn start(live: &Arc<Feed>, delay: Duration, folder: PathBuf, cut: CancellationToken) -> Arc<Feed> {
    let line = DelayLine::behind(live.clone(), delay, folder);
    let feed = line.feed.clone();
    tokio::spawn(line.run(cut));
    feed
}

struct DelayLine {
    reader: FeedReader,
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
}

impl Drop for DelayLine {
    fn drop(&mut self) {
        self.feed.end();
    }
}

impl DelayLine {
    fn behind(live: Arc<Feed>, delay: Duration, folder: PathBuf) -> Self {
        let begins_at = (Instant::now() + delay).into_std();
        Self {
            feed: Arc::new(Feed::following(&live, LIMITS, delay, begins_at)),
            reader: FeedReader::new(live, Cursor::from_beginning(ALLOWANCE), MAX_ENTRIES),
            waiting: VecDeque::new(),
            in_memory: 0,
            held: 0,
            spool: None,
            spill_from: Instant::now(),
            folder,
        }
    }

    /// Runs until everything is passed on, it is cut off, or no leg reads it any more.
    async fn run(mut self, cut: CancellationToken) {
        loop {
            if Arc::strong_count(&self.feed) == 1 {
                return;
            }
            let is_over = self.reader.take().is_end();
            let took = self.take();
            self.use_disk().await;
            self.pass_on();
            if is_over && self.waiting.is_empty() {
                return;
            }
            let next = self.waiting.front().map(|first| first.due + TICK);
            tokio::select! {
                () = cut.cancelled() => return,
                () = self.reader.news(), if !took && !is_over => {}
                () = sleep_until(next.unwrap_or_else(Instant::now)), if next.is_some() && !took => {}
                () = std::future::ready(()), if took => {}
            }
        }
    }

    /// Takes what was read; true if there was something.
    fn take(&mut self) -> bool {
        let due = Instant::now() + self.feed.delay;
        let took = !self.reader.entries().is_empty();
        for Entry { mut packet, tracks, origin, .. } in self.reader.drain() {
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
        took
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
        self.reader.restart();
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
        let (mut places, mut bytes) = (Vec::<Spooled>::new(), 0);
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

#[cfg(test)]
mod tests {
    use waverant_media::testing::{aac, h264, tracks};
    use waverant_media::{TrackId, TrackKind};

    use super::*;

    const DELAY: Duration = Duration::from_secs(300);
    const SECOND_AUDIO: TrackId = TrackId(TrackId::AUDIO.0 + 1);
    /// Track, kind, microseconds between packets, bytes of each.
    const TRACKS: [(TrackId, TrackKind, u64, usize); 3] = [
        (TrackId::VIDEO, TrackKind::Video, 16_667, 2000),
        (TrackId::AUDIO, TrackKind::Audio, 21_333, 300),
        (SECOND_AUDIO, TrackKind::Audio, 21_333, 300),
    ];

    /// The packets of all tracks up to a time, in microseconds, each numbered.
    fn push_until(live: &Feed, counts: &mut [u64; 3], now: u64, tracks: &Arc<Tracks>) {
        for (place, (track, kind, step, size)) in TRACKS.into_iter().enumerate() {
            while counts[place] * step < now {
                let time = MediaTime::from_millis(i64::try_from(counts[place] * step / 1000).unwrap());
                let mut payload = vec![0; size];
                payload[..8].copy_from_slice(&counts[place].to_be_bytes());
                let random_access = kind == TrackKind::Audio || counts[place].is_multiple_of(120);
                let packet = Packet { track, kind, dts: time, pts: time, random_access, payload: payload.into() };
                live.push(packet, tracks.clone(), Origin::Show);
                counts[place] += 1;
            }
        }
        live.tell_news();
    }

    /// Five minutes of 60 pictures a second and two tracks of sound wait, and come to the packet.
    #[tokio::test(start_paused = true)]
    async fn the_longest_delay_of_a_fast_show_is_carried_to_the_packet() {
        let folder = tempfile::tempdir().unwrap();
        let limits = HubLimits { max_packets: 8192, ..LIMITS };
        let live = Arc::new(Feed::new(limits, Duration::ZERO, Instant::now().into_std()));
        let line = DelayLine::behind(live.clone(), DELAY, folder.path().to_owned());
        let feed = line.feed.clone();
        let running = tokio::spawn(line.run(CancellationToken::new()));
        let all = [(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac()), (SECOND_AUDIO, aac())];
        let tracks = Arc::new(tracks(all));
        let (mut pushed, mut got, began) = ([0; 3], [0; 3], Instant::now());
        let mut reader = FeedReader::new(feed, Cursor::from_beginning(ALLOWANCE), 1024);
        let (mut earliest, mut latest) = (i64::MAX, i64::MIN);
        loop {
            let now = began.elapsed();
            if now < DELAY + Duration::from_secs(10) {
                push_until(&live, &mut pushed, u64::try_from(now.as_micros()).unwrap(), &tracks);
            } else {
                live.end();
            }
            let is_over = reader.take().is_end();
            for entry in reader.entries() {
                let place = TRACKS.iter().position(|track| track.0 == entry.packet.track).unwrap();
                assert_eq!(entry.packet.payload[..8], u64::to_be_bytes(got[place]), "track {place}");
                got[place] += 1;
                let late = i64::try_from((now - DELAY).as_millis()).unwrap() - entry.packet.dts.millis();
                (earliest, latest) = (earliest.min(late), latest.max(late));
            }
            if is_over {
                break;
            }
            tokio::time::sleep(TICK).await;
        }
        running.await.unwrap();
        assert_eq!(got, pushed);
        assert!(pushed.iter().sum::<u64>() > 45_000);
        assert!(earliest >= -10 && latest <= 100, "from {earliest} to {latest} ms late");
    }
}
