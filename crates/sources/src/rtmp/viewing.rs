use waverant_house::{Tuner, ViewerSeat};
use waverant_media::MediaTime;
use waverant_relay::RtmpSink;
use waverant_rtmp::ServerConnection;

/// A player may be this far behind before it jumps to the newest keyframe: it wants to see what
/// happens now.
const ALLOWANCE: MediaTime = MediaTime::from_millis(3_000);

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 64;

/// How a player reads a channel.
pub(super) const READING: (MediaTime, usize) = (ALLOWANCE, MAX_ENTRIES);

/// One channel that is played to a player.
pub(super) struct Viewing {
    stream: u32,
    tuner: Tuner,
    sink: RtmpSink,
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
    pub(super) fn new(stream: u32, tuner: Tuner, seat: ViewerSeat) -> Self {
        let mut sink = RtmpSink::new();
        sink.begin_connection(tuner.rates());
        Self { stream, tuner, sink, seat }
    }

    pub(super) fn stream(&self) -> u32 {
        self.stream
    }

    /// The seat that is kept while it watches.
    pub(super) fn seat(&self) -> &ViewerSeat {
        &self.seat
    }

    /// True while no show is on.
    pub(super) fn is_waiting(&self) -> bool {
        self.tuner.session().is_none()
    }

    /// Waits until there is something that the player has not seen.
    pub(super) async fn news(&self) {
        self.tuner.news().await;
    }

    /// Makes the player begin anew at the newest keyframe, with headers.
    pub(super) fn restart(&mut self) {
        self.tuner.restart();
        self.sink.begin_connection(self.tuner.rates());
    }

    /// Puts what is new into the connection.
    pub(super) fn serve(&mut self, connection: &mut ServerConnection) -> Served {
        let Some(mut player) = connection.player(self.stream) else {
            // A paused player misses what happens; only the end concerns it.
            return if self.tuner.skip_news() { self.over() } else { Served::UpToDate };
        };
        if !self.tuner.has_news() {
            return Served::UpToDate;
        }
        let taken = self.tuner.take();
        if taken.is_over {
            return self.over();
        }
        if taken.is_new {
            self.sink.begin_session(self.tuner.rates());
        } else if taken.has_jumped {
            self.sink.skip_to_keyframe();
        }
        if self.tuner.take_announcement() || !self.sink.has_headers() {
            self.sink.set_rates(self.tuner.rates());
        }
        for entry in self.tuner.entries() {
            if let Err(error) = self.sink.send(&mut player, entry) {
                return Served::Over(format!("This player cannot be served: {error}"));
            }
        }
        if self.tuner.has_news() { Served::More } else { Served::UpToDate }
    }

    fn over(&self) -> Served {
        Served::Over(self.tuner.end_reason().to_owned())
    }
}
