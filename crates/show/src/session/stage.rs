//! Who is on air, and how publishers come and go: one state behind one lock.

use std::collections::{BTreeMap, HashSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use parking_lot::{Mutex, MutexGuard};
use tokio::sync::Notify;
use waverant_media::{Packet, TrackKind, Tracks};
use waverant_relay::{
    Attendance, Departure, NotJoined, Offered, OnAir, Opener, Origin, Program, SeatId, ShowNews, SourceCounters,
    Takeover,
};
use waverant_rtmp::StreamRates;

use super::seat::SeatState;
use super::{Publisher, Seat, Show};
use crate::clock;
use crate::context::Rates;

/// The program with the seats and tracks of the show. Locked before the hub, behind the source of a seat.
#[derive(Debug)]
pub(super) struct Stage {
    pub(super) attendance: Attendance,
    takeover: Takeover,
    has_slate: bool,
    /// The tracks of the publisher on air, or of the last one that was.
    pub(super) tracks: Arc<Tracks>,
    /// The same set as that publisher's own, to be told by its address.
    incoming: Arc<Tracks>,
    pub(super) seats: BTreeMap<SeatId, Arc<SeatState>>,
    /// The publisher that is shown: the one on air, else the last one that was.
    pub(super) shown: Arc<SeatState>,
    /// What let publishers in so far.
    pub(super) openers: HashSet<Opener>,
    /// What publishers did wrong that are gone.
    pub(super) past_counters: SourceCounters,
    /// What hinders the slate, in words.
    pub(super) slate_findings: Vec<String>,
    /// Why the session ends; the first reason stays.
    end_reason: Option<String>,
}

/// The stage, and who is to be told of its changes.
#[derive(Debug)]
pub(super) struct StageDoor {
    stage: Mutex<Stage>,
    /// Told when somebody else is on air, or nobody.
    pub(super) changed: Notify,
    /// Told when the session holds, goes on or is over.
    pub(super) life_changed: Notify,
}

impl StageDoor {
    pub(super) fn new(stage: Stage) -> Self {
        Self { stage: Mutex::new(stage), changed: Notify::new(), life_changed: Notify::new() }
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, Stage> {
        self.stage.lock()
    }
}

impl Rates for StageDoor {
    fn rates(&self) -> StreamRates {
        let shown = self.lock().shown.clone();
        shown.rates(clock::now())
    }
}

impl Stage {
    pub(super) fn new(attendance: Attendance, takeover: Takeover, first: Arc<SeatState>) -> Self {
        Self {
            attendance,
            takeover,
            has_slate: false,
            tracks: Arc::default(),
            incoming: Arc::default(),
            seats: [(first.id, first.clone())].into(),
            openers: [first.publisher.opener].into(),
            shown: first,
            past_counters: SourceCounters::default(),
            slate_findings: Vec::new(),
            end_reason: None,
        }
    }

    pub(super) fn program(&mut self) -> &mut Program {
        self.attendance.program()
    }

    pub(super) fn set_takeover(&mut self, takeover: Takeover) {
        self.takeover = takeover;
        let has_slate = self.has_slate;
        self.program().set_rules(takeover, has_slate);
    }

    /// Says whether there is a slate that can go on, and what hinders one.
    pub(super) fn set_slate(&mut self, has_slate: bool, findings: Vec<String>) {
        (self.has_slate, self.slate_findings) = (has_slate, findings);
        let takeover = self.takeover;
        self.program().set_rules(takeover, has_slate);
    }

    pub(super) fn end_reason(&self) -> Option<&str> {
        self.end_reason.as_deref()
    }

    pub(super) fn note_end(&mut self, reason: &str) {
        self.end_reason.get_or_insert_with(|| reason.to_owned());
    }

    pub(super) fn end(&mut self, now: Instant) {
        self.attendance.end(now);
    }

    /// Sends away whoever still publishes. To be called once the session is over: who joins later sees that itself.
    pub(super) fn evict_all(&self, reason: &str) {
        self.seats.values().for_each(|seat| seat.evict(reason));
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

    fn dismiss(&self, seats: &[SeatId], label: &str, peer: SocketAddr) {
        for state in seats.iter().filter_map(|seat| self.seats.get(seat)) {
            state.evict(&format!("another encoder took over: `{label}` from {peer}"));
        }
    }
}

impl Show {
    /// Lets a publisher in: on air at once, in place of another, or as a backup that waits.
    ///
    /// # Errors
    /// [`NotJoined`] if the channel is busy, or this session is over.
    pub fn join(self: &Arc<Self>, publisher: Publisher) -> Result<Seat, NotJoined> {
        let now = clock::now();
        let (label, peer) = (publisher.key_label.clone(), publisher.peer);
        let (attended, state) = {
            let mut stage = self.stage.lock();
            if self.is_rehearsal && !stage.attendance.is_over() {
                return Err(NotJoined::Busy);
            }
            let (opener, rank) = (publisher.opener, publisher.rank);
            let attended = if publisher.is_alone {
                stage.attendance.join_alone(now, opener, rank)?
            } else {
                stage.attendance.join(now, opener, rank)?
            };
            stage.openers.insert(opener);
            let state = Arc::new(SeatState::new(attended.joined.seat, publisher));
            // Before anybody else sees the seat: an end that comes now finds everybody who is to be told.
            stage.seats.insert(state.id, state.clone());
            stage.dismiss(&attended.joined.dismissed, &label, peer);
            (attended, state)
        };
        let is_standby = attended.joined.is_standby;
        if attended.has_returned {
            self.stage.life_changed.notify_one();
            self.context.events.note(format!("the publisher is back: `{label}` from {peer}"));
            let news = ShowNews::IsBack { key_label: label.clone(), address: peer.to_string() };
            self.context.ledger.tell(self.id(), news);
        } else if is_standby {
            self.context.events.note(format!("`{label}` from {peer} waits as a backup"));
        }
        tracing::info!(session = self.id(), channel = %self.channel.name, %peer, key = label, is_standby, "a publisher joins");
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
        self.context.feeds.live().push(packet, tracks.clone(), origin);
        if let Offered::CutIn { from, dismissed } = offered {
            self.go_over(&mut stage, seat, from, &dismissed);
        }
        drop(stage);
        if changed {
            if !before.is_empty() {
                let (before, after) = (told(&before), told(&tracks));
                self.context.events.note(format!("the stream changed from {before} to {after}"));
            }
            self.stage.changed.notify_one();
        }
        true
    }

    /// The show has gone over to another publisher.
    fn go_over(&self, stage: &mut Stage, seat: SeatId, from: OnAir, dismissed: &[SeatId]) {
        let Some(state) = stage.seats.get(&seat).cloned() else { return };
        let (label, peer) = (state.publisher.key_label.clone(), state.publisher.peer);
        let before = std::mem::replace(&mut stage.shown, state);
        self.context.feeds.live().count_announcement();
        match from {
            OnAir::Seat(_) => {
                let old = &before.publisher.key_label;
                self.context.events.note(format!("`{label}` from {peer} took over from `{old}`"));
            }
            OnAir::Slate => self.context.events.note(format!("`{label}` is on air again; the slate is off")),
            OnAir::Nobody => {}
        }
        tracing::info!(session = self.id(), channel = %self.channel.name, key = label, %peer, ?from, "on the program");
        stage.dismiss(dismissed, &label, peer);
        self.stage.changed.notify_one();
    }

    /// A publisher is gone: for good if it said so, else it may return.
    pub(super) fn leave(&self, state: &SeatState, was_ended: Option<&str>) {
        let (now, counters) = (clock::now(), state.counters());
        let departure = {
            let mut stage = self.stage.lock();
            let departure = stage.attendance.leave(now, state.id, was_ended.is_some());
            stage.seats.remove(&state.id);
            stage.past_counters += counters;
            if departure == Departure::Ended {
                stage.note_end(was_ended.unwrap_or("the encoder stopped"));
            }
            departure
        };
        self.stage.changed.notify_one();
        let label = &state.publisher.key_label;
        match departure {
            Departure::OfNoMatter | Departure::OthersStay { was_on_air: false } => {}
            Departure::OthersStay { was_on_air: true } => {
                let how = if was_ended.is_some() { "stopped" } else { "was lost" };
                self.context.events.note(format!("`{label}` {how}; another publisher is there"));
            }
            Departure::Ended => self.stage.life_changed.notify_one(),
            Departure::Lost => {
                self.stage.life_changed.notify_one();
                let peer = state.publisher.peer;
                self.context.events.note(format!("the publisher `{label}` from {peer} was lost"));
                let (channel, hold) = (&self.channel.name, self.channel.hold);
                tracing::warn!(session = self.id(), %channel, ?hold, "the publisher is lost");
                self.context.ledger.tell(self.id(), ShowNews::Holds(hold));
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
