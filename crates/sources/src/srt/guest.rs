use std::time::{Duration, Instant};

use bytes::Bytes;
use waverant_house::{House, Tuner, ViewerSeat};
use waverant_media::MediaTime;
use waverant_relay::{AudioChoice, SinkRules, TsSink};
use waverant_show::Seat;
use waverant_srt::{CloseReason, Connection, Message, SendError, Statistics};
use waverant_udp::Onward;

use crate::per_address::AddressPlace;

/// A player may be this far behind before it jumps to the newest keyframe.
const ALLOWANCE: MediaTime = MediaTime::from_millis(3_000);

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 64;

/// How a player reads a channel.
pub(super) const READING: (MediaTime, usize) = (ALLOWANCE, MAX_ENTRIES);

/// How long the end of a show may take to get through to a player.
const LAST_WORDS: Duration = Duration::from_secs(3);

/// What the door keeps of a connection.
#[derive(Debug)]
pub(super) struct Guest {
    role: Role,
    _place: AddressPlace,
}

#[derive(Debug)]
enum Role {
    Publisher(Seat),
    Viewer(Box<Watching>),
}

/// A channel that is sent to a player as a transport stream.
#[derive(Debug)]
pub(super) struct Watching {
    tuner: Tuner,
    sink: TsSink,
    pending: Vec<u8>,
    /// When the goodbye may be said, once the show is over.
    goodbye_at: Option<Instant>,
    /// Counts the player while it watches.
    seat: ViewerSeat,
}

impl Guest {
    pub(super) fn publisher(seat: Seat, place: AddressPlace) -> Self {
        Self { role: Role::Publisher(seat), _place: place }
    }

    pub(super) fn viewer(watching: Watching, place: AddressPlace) -> Self {
        Self { role: Role::Viewer(Box::new(watching)), _place: place }
    }

    /// Takes a message of a publisher. What a player sends is of no interest.
    pub(super) fn message(&self, message: &Message<'_>) {
        if let Role::Publisher(seat) = &self.role {
            if message.lost_before > 0 {
                seat.lose_bytes();
            }
            seat.bytes(message.payload);
        }
    }

    pub(super) fn serve(&mut self, house: &House, connection: &mut Connection, now: Instant) -> Onward {
        match &mut self.role {
            Role::Publisher(seat) if seat.is_evicted() => Onward::Ends,
            Role::Publisher(_) => Onward::GoesOn,
            Role::Viewer(watching) => watching.serve(house, connection, now),
        }
    }

    pub(super) fn figures(&self, statistics: &Statistics) {
        if let Role::Publisher(seat) = &self.role {
            seat.set_line(statistics);
        }
    }

    /// The publisher said goodbye, or was lost.
    pub(super) fn close(self, reason: CloseReason) {
        let Role::Publisher(seat) = self.role else { return };
        seat.finish_bytes();
        match reason {
            CloseReason::Shutdown => seat.end("the encoder stopped"),
            // Dropped without an end: the session holds.
            _ => drop(seat),
        }
    }
}

impl Watching {
    pub(super) fn new(tuner: Tuner, seat: ViewerSeat, audio: AudioChoice) -> Self {
        let sink = TsSink::new(SinkRules { audio, ..SinkRules::default() });
        Self { tuner, sink, pending: Vec::new(), goodbye_at: None, seat }
    }

    fn serve(&mut self, house: &House, connection: &mut Connection, now: Instant) -> Onward {
        if house.player_fault(&self.seat).is_some() {
            return Onward::Ends;
        }
        let is_over = loop {
            let taken = self.tuner.take();
            if taken.is_new {
                self.sink.begin_session();
            } else if taken.has_jumped {
                self.sink.skip_to_keyframe();
            }
            if self.tuner.entries().is_empty() {
                break taken.is_over;
            }
            for entry in self.tuner.entries() {
                if let Err(error) = self.sink.send(entry, &mut self.pending) {
                    let session = self.tuner.session();
                    tracing::info!(session, %error, "a player over SRT cannot be served");
                    return Onward::Ends;
                }
            }
        };
        match self.send(connection, now) {
            Onward::GoesOn if is_over => self.end(connection, now),
            service => service,
        }
    }

    /// Players forget what waits for its time when they hear the goodbye: so it is said only when
    /// all has come and its time is over.
    fn end(&mut self, connection: &Connection, now: Instant) -> Onward {
        let latest = *self.goodbye_at.get_or_insert(now + connection.send_latency() + LAST_WORDS);
        if connection.is_flushed() {
            self.goodbye_at = Some(latest.min(now + connection.send_latency()));
        }
        if now >= latest { Onward::Ends } else { Onward::GoesOn }
    }

    /// Sends what is whole; nothing waits for a packet to be filled.
    fn send(&mut self, connection: &mut Connection, now: Instant) -> Onward {
        let mut rest = Bytes::from(std::mem::take(&mut self.pending));
        let size = connection.payload_size() / 188 * 188;
        while !rest.is_empty() {
            let message = rest.split_to(rest.len().min(size));
            match connection.send(now, &message) {
                Ok(()) => {}
                // The line is too slow: what does not fit is lost, and the player begins anew.
                Err(SendError::Full) => {
                    self.tuner.restart();
                    self.sink.skip_to_keyframe();
                    return Onward::GoesOn;
                }
                Err(_) => return Onward::Ends,
            }
        }
        Onward::GoesOn
    }
}
