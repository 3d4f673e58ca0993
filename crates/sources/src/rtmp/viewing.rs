use std::sync::Arc;

use waverant_media::MediaTime;
use waverant_relay::{Cursor, Entry, Read, RtmpSink};
use waverant_rtmp::ServerConnection;

use crate::show::{Show, Viewer};

/// A player may be this far behind before it jumps to the newest keyframe: it wants to see what
/// happens now.
const ALLOWANCE: MediaTime = MediaTime::from_millis(3_000);

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 64;

/// One stream that is played to a player.
pub(super) struct Viewing {
    stream: u32,
    key_id: u64,
    show: Arc<Show>,
    cursor: Cursor,
    sink: RtmpSink,
    entries: Vec<Entry>,
    /// The hub's news count when it was read to its end.
    seen: Option<u64>,
    /// The announcements that the player knows.
    announced: Option<u64>,
    /// Counts the player while it watches.
    _viewer: Viewer,
}

/// How far a player is served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Served {
    /// It has everything there is.
    UpToDate,
    /// There is more to be sent.
    More,
    /// The show is over, or cannot be sent to this player.
    Over(String),
}

impl Viewing {
    pub(super) fn new(stream: u32, key_id: u64, show: Arc<Show>) -> Self {
        let mut sink = RtmpSink::new();
        sink.begin_connection(show.rates());
        let viewer = show.count_viewer();
        let (cursor, entries) = (Cursor::new(ALLOWANCE), Vec::with_capacity(MAX_ENTRIES));
        Self { stream, key_id, show, cursor, sink, entries, seen: None, announced: None, _viewer: viewer }
    }

    pub(super) fn stream(&self) -> u32 {
        self.stream
    }

    /// The viewing key that was used.
    pub(super) fn key_id(&self) -> u64 {
        self.key_id
    }

    /// Waits until there is something that the player has not seen.
    pub(super) async fn news(&self) {
        let mut news = std::pin::pin!(self.show.feed.news());
        // Registered before the count is read, so that no news falls between.
        news.as_mut().enable();
        if self.seen == Some(self.show.feed.news_count()) {
            news.await;
        }
    }

    /// Makes the player begin anew at the newest keyframe, with headers.
    pub(super) fn restart(&mut self) {
        self.cursor.restart();
        self.sink.begin_connection(self.show.rates());
        self.seen = None;
    }

    /// Puts what is new into the connection.
    pub(super) fn serve(&mut self, connection: &mut ServerConnection) -> Served {
        let Some(mut player) = connection.player(self.stream) else {
            // A paused player misses what happens; only the end of the show concerns it.
            self.seen = Some(self.show.feed.news_count());
            let has_ended = self.show.feed.has_ended();
            return if has_ended { Served::Over(self.show.end_reason()) } else { Served::UpToDate };
        };
        let count = self.show.feed.news_count();
        if self.seen == Some(count) {
            return Served::UpToDate;
        }
        self.entries.clear();
        let read = self.show.feed.read(&mut self.cursor, MAX_ENTRIES, &mut self.entries).read;
        match read {
            Read::End => return Served::Over(self.show.end_reason()),
            Read::Jumped { .. } => self.sink.skip_to_keyframe(),
            Read::UpToDate => {}
        }
        let announced = Some(self.show.feed.announcement_count());
        if self.announced != announced || !self.sink.has_headers() {
            self.announced = announced;
            self.sink.set_rates(self.show.rates());
        }
        for entry in &self.entries {
            if let Err(error) = self.sink.send(&mut player, entry) {
                return Served::Over(format!("This player cannot be served: {error}"));
            }
        }
        if self.entries.is_empty() {
            self.seen = Some(count);
            return Served::UpToDate;
        }
        Served::More
    }
}
