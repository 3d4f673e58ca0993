//! Who is on air, and how publishers come and go.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use waverant_media::{Packet, TrackKind, Tracks};
use waverant_relay::{Admission, Attendance, Departure, NotJoined, Offered, OnAir, Origin, Program, SeatId, Takeover};

use super::seat::{Arrival, SeatState};
use super::{Publisher, Seat, Show};
use crate::house::ChannelRules;

/// The program with the tracks of the show.
#[derive(Debug)]
pub(super) struct Stage {
    pub(super) attendance: Attendance,
    has_slate: bool,
    /// The tracks of the publisher on air, or of the last one that was.
    pub(super) tracks: Arc<Tracks>,
    /// The same set as that publisher's own, to be told by its address.
    incoming: Arc<Tracks>,
}

impl Stage {
    pub(super) fn new(rules: &ChannelRules, now: Instant) -> Self {
        let attendance = Attendance::new(rules.takeover, rules.hold, now);
        Self { attendance, has_slate: false, tracks: Arc::default(), incoming: Arc::default() }
    }

    pub(super) fn program(&mut self) -> &mut Program {
        self.attendance.program()
    }

    pub(super) fn set_takeover(&mut self, takeover: Takeover) {
        let has_slate = self.has_slate;
        self.program().set_rules(takeover, has_slate);
    }

    pub(super) fn set_slate(&mut self, takeover: Takeover, has_slate: bool) {
        self.has_slate = has_slate;
        self.program().set_rules(takeover, has_slate);
    }

    /// The show's set for a publisher's: the same one for as long as nothing in it changes, so that
    /// an encoder that comes back is no change. True if it changed.
    fn shared(&mut self, tracks: Arc<Tracks>) -> (Arc<Tracks>, bool) {
        if Arc::ptr_eq(&tracks, &self.incoming) {
            return (self.tracks.clone(), false);
        }
        self.incoming = tracks.clone();
        let changed = *tracks != *self.tracks;
        if changed {
            self.tracks = tracks;
        }
        (self.tracks.clone(), changed)
    }
}

impl Show {
    /// Lets a publisher in: on air at once, in place of another, or as a backup that waits.
    ///
    /// # Errors
    /// [`NotJoined`] if the channel is busy, or this session is over.
    pub(crate) fn join(self: &Arc<Self>, admission: &Admission, arrival: Arrival) -> Result<Seat, NotJoined> {
        if self.is_rehearsal() && !self.is_over() {
            return Err(NotJoined::Busy);
        }
        let now = Instant::now();
        let peer = arrival.peer;
        let publisher = Publisher::new(admission, arrival);
        let label = publisher.key_label.clone();
        let mut stage = self.stage.lock();
        let attended = stage.attendance.join(now, publisher.key_id, publisher.key_rank)?;
        let joined = attended.joined;
        let state = Arc::new(SeatState::new(joined.seat, publisher));
        // Before anybody else sees the seat: an end that comes now finds everybody who is to be told.
        self.seats.lock().insert(joined.seat, state.clone());
        drop(stage);
        self.dismiss(&joined.dismissed, &label, peer);
        if attended.has_returned {
            self.life_changed.notify_one();
            self.events.note(format!("the publisher is back: `{label}` from {peer}"));
        } else if joined.is_standby {
            self.events.note(format!("`{label}` from {peer} waits as a backup"));
        }
        tracing::info!(session = self.id, channel = %self.channel.name, %peer, key = label, is_standby = joined.is_standby, "a publisher joins");
        Ok(Seat::new(self.clone(), state))
    }

    /// Puts a publisher's packet into the show if it is on air; true if it did.
    pub(super) fn offer(&self, now: Instant, seat: SeatId, mut packet: Packet, tracks: Arc<Tracks>) -> bool {
        let mut stage = self.stage.lock();
        let offered = stage.program().offer(now, seat, &mut packet, &tracks);
        if offered == Offered::Held {
            return false;
        }
        let before = stage.tracks.clone();
        let (tracks, changed) = stage.shared(tracks);
        let is_return =
            !before.is_empty() && matches!(offered, Offered::CutIn { from: OnAir::Slate | OnAir::Nobody, .. });
        let origin = if is_return { Origin::Returned } else { Origin::Show };
        self.feed.push(packet, tracks.clone(), origin);
        drop(stage);
        if changed && !before.is_empty() {
            self.events.note(format!("the stream changed from {} to {}", told(&before), told(&tracks)));
        }
        if let Offered::CutIn { from, dismissed } = offered {
            self.go_over(seat, from, &dismissed);
        }
        if changed {
            self.stage_changed.notify_one();
        }
        true
    }

    /// The show has gone over to another publisher.
    fn go_over(&self, seat: SeatId, from: OnAir, dismissed: &[SeatId]) {
        let Some(state) = self.seats.lock().get(&seat).cloned() else { return };
        let (label, peer) = (state.publisher.key_label.clone(), state.publisher.peer);
        let before = std::mem::replace(&mut *self.shown.lock(), state);
        self.feed.count_announcement();
        match from {
            OnAir::Seat(_) => {
                let old = &before.publisher.key_label;
                self.events.note(format!("`{label}` from {peer} took over from `{old}`"));
            }
            OnAir::Slate => self.events.note(format!("`{label}` is on air again; the slate is off")),
            OnAir::Nobody => {}
        }
        tracing::info!(session = self.id, key = label, %peer, ?from, "on the program");
        self.dismiss(dismissed, &label, peer);
        self.stage_changed.notify_one();
    }

    fn dismiss(&self, seats: &[SeatId], label: &str, peer: SocketAddr) {
        let states = self.seats.lock();
        for state in seats.iter().filter_map(|seat| states.get(seat)) {
            state.evict(&format!("another encoder took over: `{label}` from {peer}"));
        }
    }

    /// A publisher is gone: for good if it said so, else it may return.
    pub(super) fn leave(&self, state: &SeatState, was_ended: Option<&str>) {
        let now = Instant::now();
        let departure = {
            let mut stage = self.stage.lock();
            let departure = stage.attendance.leave(now, state.id, was_ended.is_some());
            self.seats.lock().remove(&state.id);
            departure
        };
        *self.past_counters.lock() += state.counters();
        self.stage_changed.notify_one();
        let label = &state.publisher.key_label;
        match departure {
            Departure::OfNoMatter => {}
            Departure::OthersStay { was_on_air: false } => {}
            Departure::OthersStay { was_on_air: true } => {
                let how = if was_ended.is_some() { "stopped" } else { "was lost" };
                self.events.note(format!("`{label}` {how}; another publisher is there"));
            }
            Departure::Ended => {
                self.note_end(was_ended.unwrap_or("the encoder stopped"));
                self.life_changed.notify_one();
            }
            Departure::Lost => {
                self.life_changed.notify_one();
                self.events.note(format!("the publisher `{label}` from {} was lost", state.publisher.peer));
                tracing::warn!(session = self.id, channel = %self.channel.name, hold = ?self.channel.hold, "the publisher is lost");
            }
        }
    }
}

/// A set of tracks with the size of its pictures.
fn told(tracks: &Tracks) -> String {
    match tracks.first(TrackKind::Video).and_then(|video| video.codec.picture_size()) {
        Some((width, height)) => format!("{tracks} {width}x{height}"),
        None => tracks.to_string(),
    }
}
