use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use waverant_media::{MediaTime, TICKS_PER_SECOND, Track, TrackId, TrackKind, Tracks};

use super::PackagingRules;
use super::Piece;
use super::plan::Plan;
use super::track::TrackPackager;
use super::wall_clock::WallClock;
use crate::hub::{Entry, Origin};

/// A hole in a track that is longer begins a new period, for all tracks.
const LONGEST_HOLE: MediaTime = MediaTime::from_millis(1_000);

/// Later than any moment.
const EVER: MediaTime = MediaTime::from_ticks(i64::MAX);

/// Segments of a track that are told at most if the window is short, and as many that were.
const MAX_TOLD: usize = 256;

/// Packets at most from which the plan is made.
const MAX_FIRST: usize = 8192;

/// Makes segments and parts of a session's packets, and tells of them in playlists.
///
/// What is told, once told, stays as it was; so a player may come at any time. Memory is bounded by the rules. There
/// is no clock in here: the dates of samples follow from one that is given.
#[derive(Debug)]
pub struct Packager {
    pub(super) rules: PackagingRules,
    pub(super) clock: WallClock,
    /// Packets from which the plan is made.
    first: Vec<Entry>,
    pub(super) plan: Option<Plan>,
    pub(super) tracks: BTreeMap<TrackId, TrackPackager>,
    /// The set that the newest packet came with.
    current: Option<Arc<Tracks>>,
    pub(super) periods: Periods,
    /// Whether packets were missed before the next one.
    has_gap: bool,
    pub(super) frame_rate: Option<f64>,
    pub(super) has_ended: bool,
    version: u64,
}

/// The stretches between discontinuities.
#[derive(Debug, Default)]
pub(super) struct Periods {
    /// The number of the newest.
    pub(super) newest: u64,
    /// Their numbers, with when they began on the pieces' clock, oldest first.
    pub(super) began: VecDeque<(u64, MediaTime)>,
}

impl Packager {
    /// A packager that begins with the next packet.
    pub fn new(rules: PackagingRules, clock: WallClock) -> Self {
        Self {
            rules,
            clock,
            first: Vec::new(),
            plan: None,
            tracks: BTreeMap::new(),
            current: None,
            periods: Periods::default(),
            has_gap: false,
            frame_rate: None,
            has_ended: false,
            version: 0,
        }
    }

    /// Counts up with everything new that can be fetched.
    pub fn version(&self) -> u64 {
        self.version
    }

    /// True once there is something to play.
    pub fn has_begun(&self) -> bool {
        self.tracks.values().any(|track| !track.shelf.told.is_empty())
    }

    /// True once nothing follows.
    pub fn has_ended(&self) -> bool {
        self.has_ended
    }

    /// Memory held, in bytes: headers, and payloads that the session's ring may hold as well.
    pub fn held_bytes(&self) -> u64 {
        self.first_bytes() + self.tracks.values().map(TrackPackager::held_bytes).sum::<u64>()
    }

    fn first_bytes(&self) -> u64 {
        self.first.iter().map(|entry| entry.packet.payload.len() as u64).sum()
    }

    /// Tells how many pictures a second there are.
    pub fn set_frame_rate(&mut self, rate: Option<f64>) {
        self.frame_rate = rate;
    }

    /// Takes the next packet.
    pub fn push(&mut self, entry: &Entry) {
        if self.has_ended {
            return;
        }
        match self.plan {
            Some(plan) => self.take(&plan, entry),
            None => {
                self.first.push(entry.clone());
                let is_enough = self.first.len() >= MAX_FIRST || self.first_bytes() > self.rules.max_bytes / 4;
                self.decide(is_enough);
            }
        }
    }

    /// Packets were missed before the next one.
    pub fn note_gap(&mut self) {
        self.has_gap = true;
    }

    /// Nothing follows: the last parts are told, and the playlists say so.
    pub fn finish(&mut self) {
        self.decide(true);
        for track in self.tracks.values_mut() {
            track.flush();
            track.has_ended = true;
        }
        self.has_ended = true;
        self.version += 1;
    }

    fn decide(&mut self, is_over: bool) {
        if self.plan.is_some() {
            return;
        }
        self.plan = Plan::decide(&self.rules, &self.first, is_over);
        if let Some(plan) = self.plan {
            for entry in std::mem::take(&mut self.first) {
                self.take(&plan, &entry);
            }
        }
    }

    fn take(&mut self, plan: &Plan, entry: &Entry) {
        self.follow_tracks(plan, entry);
        let id = entry.packet.track;
        let lead = self.lead();
        let Some(track) = self.tracks.get_mut(&id) else { return };
        let leads = lead == Some(id);
        let outcome = track.push(&entry.packet, plan, leads);
        if let Some(moment) = outcome.began_segment.filter(|_| leads) {
            self.tracks.values_mut().filter(|track| track.track.id != id).for_each(|track| track.cut_at(moment));
        }
        if outcome.has_part {
            self.version += 1;
            self.prune();
        }
    }

    /// The track that says where segments end.
    fn lead(&self) -> Option<TrackId> {
        self.tracks.iter().find(|(_, track)| !track.has_ended).map(|(id, _)| *id)
    }

    /// Begins a new period where parameters changed, a publisher returned, or something is missing.
    fn follow_tracks(&mut self, plan: &Plan, entry: &Entry) {
        let tracks = &entry.tracks;
        let is_same = self.current.as_ref().is_some_and(|current| have_same_form(current, tracks));
        let newest = self.tracks.get(&entry.packet.track).and_then(|track| track.newest);
        let hole = newest.map_or(MediaTime::ZERO, |newest| entry.packet.dts - newest);
        let has_gap = std::mem::take(&mut self.has_gap);
        if is_same && entry.origin != Origin::Returned && hole <= LONGEST_HOLE && !has_gap {
            return self.follow_names(tracks);
        }
        self.current = Some(tracks.clone());
        let start = (entry.packet.dts - plan.origin).max(MediaTime::ZERO);
        let is_first = self.periods.began.is_empty();
        self.periods.newest += u64::from(!is_first);
        let period = self.periods.newest;
        self.periods.began.push_back((period, start));
        let mut has_part = false;
        for (id, packager) in &mut self.tracks {
            match tracks.get(*id) {
                Some(track) if !packager.has_ended => has_part |= packager.begin_period(track, plan, period),
                // A playlist that ended does not go on.
                _ => {
                    has_part |= packager.flush();
                    packager.has_ended = true;
                }
            }
        }
        for track in shown(tracks) {
            self.tracks.entry(track.id).or_insert_with(|| TrackPackager::new(track, plan, period));
        }
        self.version += u64::from(has_part);
        self.prune();
    }

    /// Languages and names may change without anything else.
    fn follow_names(&mut self, tracks: &Arc<Tracks>) {
        if self.current.as_ref().is_some_and(|current| !Arc::ptr_eq(current, tracks)) {
            for (id, packager) in &mut self.tracks {
                packager.track = tracks.get(*id).unwrap_or(&packager.track).clone();
            }
            self.current = Some(tracks.clone());
        }
    }

    /// Keeps to the rules' window and memory.
    fn prune(&mut self) {
        let Some(plan) = self.plan else { return };
        let least = MediaTime::from_ticks(i64::from(plan.target_duration) * 4 * TICKS_PER_SECOND);
        let window = self.rules.window.max(least);
        let newest = self.tracks.values().filter_map(|track| track.shelf.told.back()).map(|segment| segment.end_time());
        let newest = newest.max().unwrap_or_default();
        let most = self.most_told(window);
        for track in self.tracks.values_mut() {
            while track.shelf.told.len() > most
                || track.shelf.told.len() > 1
                    && track.shelf.told.front().is_some_and(|oldest| track.told_length() - oldest.length() > window)
            {
                track.shelf.retire_oldest();
            }
            // A player with the playlist that told it last may take as long as that is.
            while track.shelf.retired_count() > most
                || track.shelf.oldest_retired_end().is_some_and(|end| newest - end > window + window)
            {
                track.shelf.forget_oldest();
            }
        }
        if let Some(in_memory) = self.rules.in_memory {
            let moment = newest - in_memory.max(least);
            self.tracks.values_mut().for_each(|track| while track.shelf.leave_oldest_to_disk(moment) {});
        }
        self.keep_to_memory();
        self.periods.forget(self.tracks.values());
    }

    /// Segments of a track that are told at most: short ones do not make a playlist endless.
    fn most_told(&self, window: MediaTime) -> usize {
        let usual = window.ticks() / self.rules.segment.ticks().max(1) * 2;
        usize::try_from(usual).unwrap_or(0).max(MAX_TOLD)
    }

    /// The next segment that is to go to a disk, if the rules say so.
    pub fn next_to_keep(&self) -> Option<(TrackId, u64, Piece)> {
        self.rules.in_memory?;
        let of = |(id, track): (&TrackId, &TrackPackager)| Some((*id, track.shelf.to_keep()?.clone()));
        let oldest = self.tracks.iter().filter_map(of).min_by_key(|(_, segment)| segment.start_time());
        oldest.map(|(id, segment)| (id, segment.number, segment.piece()))
    }

    /// A segment is on the disk now, or, if it could not be written, will never be.
    pub fn note_kept(&mut self, id: TrackId, number: u64, is_there: bool) {
        if let Some(track) = self.tracks.get_mut(&id) {
            track.shelf.note_kept(number, is_there);
        }
    }

    /// Segments on the disk that nobody has use for any more.
    pub fn take_useless(&mut self) -> Vec<(TrackId, u64)> {
        let of = |(id, track): (&TrackId, &mut TrackPackager)| {
            let id = *id;
            track.shelf.take_useless().into_iter().map(move |number| (id, number))
        };
        self.tracks.iter_mut().flat_map(of).collect()
    }

    fn keep_to_memory(&mut self) {
        while self.held_bytes() > self.rules.max_bytes {
            let mut tracks = self.tracks.values_mut();
            if tracks.any(|track| track.shelf.leave_oldest_to_disk(EVER)) {
                continue;
            }
            let forgotten =
                self.tracks.values_mut().filter_map(|track| track.shelf.forget_oldest().then_some(())).count();
            if forgotten > 0 {
                continue;
            }
            // What is told goes where that is not enough; the newest stays.
            let longest = self.tracks.values_mut().filter(|track| track.shelf.told.len() > 1);
            let Some(track) = longest.max_by_key(|track| track.shelf.bytes()) else { return };
            track.shelf.retire_oldest();
        }
    }
}

impl Periods {
    /// Forgets periods of which no segment is told.
    fn forget<'a>(&mut self, tracks: impl Iterator<Item = &'a TrackPackager>) {
        let oldest = tracks.filter_map(|track| track.shelf.told.front()).map(|segment| segment.period).min();
        while self.began.len() > 1 && self.began.front().is_some_and(|(number, _)| Some(*number) < oldest) {
            self.began.pop_front();
        }
    }
}

/// True if one header each does for both.
fn have_same_form(one: &Arc<Tracks>, other: &Arc<Tracks>) -> bool {
    Arc::ptr_eq(one, other)
        || one.len() == other.len()
            && one.iter().zip(other.iter()).all(|(one, other)| one.id == other.id && one.codec == other.codec)
}

/// The tracks that viewers get: the first of the pictures, and every sound.
fn shown(tracks: &Tracks) -> impl Iterator<Item = &Track> {
    let picture = tracks.first(TrackKind::Video).map(|track| track.id);
    tracks.iter().filter(move |track| track.id.kind() == TrackKind::Audio || Some(track.id) == picture)
}
