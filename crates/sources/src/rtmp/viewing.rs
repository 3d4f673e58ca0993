use std::sync::Arc;

use waverant_house::ViewerSeat;
use waverant_media::MediaTime;
use waverant_relay::{Cursor, Read, RtmpSink};
use waverant_rtmp::ServerConnection;
use waverant_show::{FeedReader, Show};

/// A player may be this far behind before it jumps to the newest keyframe: it wants to see what
/// happens now.
const ALLOWANCE: MediaTime = MediaTime::from_millis(3_000);

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 64;

/// One stream that is played to a player.
pub(super) struct Viewing {
    stream: u32,
    key_id: u64,
    reader: FeedReader,
    sink: RtmpSink,
    show: Arc<Show>,
    /// Counts the player while it watches.
    seat: ViewerSeat,
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
    pub(super) fn new(stream: u32, key_id: u64, show: Arc<Show>, seat: ViewerSeat) -> Self {
        let mut sink = RtmpSink::new();
        sink.begin_connection(show.context().rates.rates());
        let reader = FeedReader::new(show.live().clone(), Cursor::new(ALLOWANCE), MAX_ENTRIES);
        Self { stream, key_id, reader, sink, show, seat }
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
        self.reader.news().await;
    }

    /// Makes the player begin anew at the newest keyframe, with headers.
    pub(super) fn restart(&mut self) {
        self.reader.restart();
        self.sink.begin_connection(self.show.context().rates.rates());
    }

    /// Puts what is new into the connection.
    pub(super) fn serve(&mut self, connection: &mut ServerConnection) -> Served {
        if self.seat.lost.is_cancelled() {
            return Served::Over("Another player with this key took the place.".to_owned());
        }
        let Some(mut player) = connection.player(self.stream) else {
            // A paused player misses what happens; only the end of the show concerns it.
            self.reader.skip_news();
            return if self.reader.feed().has_ended() { self.over() } else { Served::UpToDate };
        };
        if !self.reader.has_news() {
            return Served::UpToDate;
        }
        match self.reader.take().read {
            Read::End => return self.over(),
            Read::Jumped { .. } => self.sink.skip_to_keyframe(),
            Read::UpToDate => {}
        }
        if self.reader.take_announcement() || !self.sink.has_headers() {
            self.sink.set_rates(self.show.context().rates.rates());
        }
        for entry in self.reader.entries() {
            if let Err(error) = self.sink.send(&mut player, entry) {
                return Served::Over(format!("This player cannot be served: {error}"));
            }
        }
        if self.reader.has_news() { Served::More } else { Served::UpToDate }
    }

    fn over(&self) -> Served {
        Served::Over(self.show.end_reason())
    }
}
