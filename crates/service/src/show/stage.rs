//! Who is on air, and how publishers come and go.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use waverant_media::{Packet, TrackKind, Tracks};
use waverant_relay::{Admission, Offered, OnAir, Origin, Program, SeatId, Takeover};

use super::seat::{Arrival, SeatState};
use super::{Publisher, Seat, Show};
use crate::house::ChannelRules;

/// The program with the tracks of the show.
#[derive(Debug)]
pub(super) struct Stage {
    pub(super) program: Program,
    has_slate: bool,
    /// The tracks of the publisher on air, or of the last one that was.
    pub(super) tracks: Arc<Tracks>,
    /// The same set as that publisher's own, to be told by its address.
    incoming: Arc<Tracks>,
}

impl Stage {
    pub(super) fn new(rules: &ChannelRules, now: Instant) -> Self {
        // The slate is added when one is made that fits.
        let program = Program::new(rules.takeover, false, now);
        Self { program, has_slate: false, tracks: Arc::default(), incoming: Arc::default() }
    }

    pub(super) fn set_takeover(&mut self, takeover: Takeover) {
        self.program.set_rules(takeover, self.has_slate);
    }

    pub(super) fn set_slate(&mut self, takeover: Takeover, has_slate: bool) {
        self.has_slate = has_slate;
        self.program.set_rules(takeover, has_slate);
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
    /// Lets a publisher in: on air at once, in place of another, or as a backup that waits. None if
    /// the channel is busy.
    pub(crate) fn join(self: &Arc<Self>, admission: &Admission, arrival: Arrival) -> Option<Seat> {
        if self.is_rehearsal() {
            return None;
        }
        let now = Instant::now();
        let peer = arrival.peer;
        let publisher = Publisher::new(admission, arrival);
        let label = publisher.key_label.clone();
        let joined = self.stage.lock().program.join(now, publisher.key_id, publisher.key_rank)?;
        let state = Arc::new(SeatState::new(joined.seat, publisher));
        self.seats.lock().insert(joined.seat, state.clone());
        if self.is_over() {
            state.evict("the session has just ended; publish again");
        }
        self.dismiss(&joined.dismissed, &label, peer);
        if self.life.lock().publisher_returned(now) {
            self.life_changed.notify_one();
            self.events.note(format!("the publisher is back: `{label}` from {peer}"));
        } else if joined.is_standby {
            self.events.note(format!("`{label}` from {peer} waits as a backup"));
        }
        tracing::info!(session = self.id, channel = %self.channel.name, %peer, key = label, is_standby = joined.is_standby, "a publisher joins");
        Some(Seat::new(self.clone(), state))
    }

    /// Puts a publisher's packet into the show if it is on air; true if it did.
    pub(super) fn offer(&self, now: Instant, seat: SeatId, mut packet: Packet, tracks: Arc<Tracks>) -> bool {
        let mut stage = self.stage.lock();
        let offered = stage.program.offer(now, seat, &mut packet, &tracks);
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
        let (was_dismissed, was_on_air, others) = {
            let program = &mut self.stage.lock().program;
            let (was_dismissed, was_on_air) = (!program.has_seat(state.id), program.leave(now, state.id));
            // Before anybody sees that the place is empty.
            if was_ended.is_some() && !was_dismissed && !program.has_seats() {
                program.finish(now);
            }
            (was_dismissed, was_on_air, program.has_seats())
        };
        self.seats.lock().remove(&state.id);
        *self.past_counters.lock() += state.counters();
        self.stage_changed.notify_one();
        if was_dismissed {
            return;
        }
        let label = &state.publisher.key_label;
        if others {
            if was_on_air {
                let how = if was_ended.is_some() { "stopped" } else { "was lost" };
                self.events.note(format!("`{label}` {how}; another publisher is there"));
            }
            return;
        }
        if let Some(reason) = was_ended {
            self.note_end(reason);
            return self.end_life();
        }
        if self.is_over() {
            return;
        }
        self.life.lock().publisher_lost(now);
        self.life_changed.notify_one();
        self.events.note(format!("the publisher `{label}` from {} was lost", state.publisher.peer));
        tracing::warn!(session = self.id, channel = %self.channel.name, hold = ?self.channel.hold, "the publisher is lost");
    }
}

/// A set of tracks with the size of its pictures.
fn told(tracks: &Tracks) -> String {
    match tracks.first(TrackKind::Video).and_then(|video| video.codec.picture_size()) {
        Some((width, height)) => format!("{tracks} {width}x{height}"),
        None => tracks.to_string(),
    }
}
