use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use bytes::Bytes;
use waverant_media::{MediaTime, Packet, Track, TrackId, TrackKind, Tracks};

use super::SourceCounters;
use super::mended_clock::MendedClock;

/// At the start, packets wait this long for the headers of all announced tracks, so that a take
/// does not begin without its sound.
const GATHER_LENGTH: MediaTime = MediaTime::from_millis(1_000);

/// The most packets that wait at the start.
const GATHER_PACKETS: usize = 256;

/// What was damaged is told for so long after the last time.
const DAMAGE_SHOWN: MediaTime = MediaTime::from_millis(60_000);

/// Tracks of one session. A multitrack encoder sends a handful.
pub(super) const MAX_TRACKS: usize = 16;

/// A frame of a publisher, on the publisher's own clock.
#[derive(Debug)]
pub(super) struct Frame {
    pub(super) track: TrackId,
    pub(super) kind: TrackKind,
    pub(super) time: MediaTime,
    pub(super) composition: MediaTime,
    pub(super) random_access: bool,
    pub(super) payload: Bytes,
}

/// Makes packets of a publisher's frames, whatever brings them: one mended clock for all tracks,
/// and a start that waits until all of them are known.
#[derive(Debug)]
pub(super) struct Assembly {
    tracks: Arc<Tracks>,
    clock: MendedClock,
    last_dts: BTreeMap<TrackId, MediaTime>,
    gathering: Option<VecDeque<Packet>>,
    ready: VecDeque<(Packet, Arc<Tracks>)>,
    pub(super) counters: SourceCounters,
    last_problem: Option<String>,
    /// When the last problem is past, on the publisher's clock; None if it stands.
    problem_fades_at: Option<MediaTime>,
    /// What is not carried, which does not pass by itself.
    standing: Option<String>,
    latest: MediaTime,
}

impl Default for Assembly {
    fn default() -> Self {
        Self {
            tracks: Arc::default(),
            clock: MendedClock::default(),
            last_dts: BTreeMap::new(),
            gathering: Some(VecDeque::new()),
            ready: VecDeque::new(),
            counters: SourceCounters::default(),
            last_problem: None,
            problem_fades_at: None,
            standing: None,
            latest: MediaTime::ZERO,
        }
    }
}

impl Assembly {
    pub(super) fn tracks(&self) -> &Arc<Tracks> {
        &self.tracks
    }

    pub(super) fn counters(&self) -> SourceCounters {
        SourceCounters { clock_jump_count: self.clock.jump_count(), ..self.counters }
    }

    pub(super) fn last_problem(&self) -> Option<&str> {
        self.last_problem.as_deref()
    }

    /// True if the last problem is damage that passes; false if it is what is not carried.
    pub(super) fn is_damage(&self) -> bool {
        self.problem_fades_at.is_some()
    }

    pub(super) fn poll_packet(&mut self) -> Option<(Packet, Arc<Tracks>)> {
        self.ready.pop_front()
    }

    /// True if a track with this number is there or can still be added.
    pub(super) fn has_room_for(&self, id: TrackId) -> bool {
        self.tracks.get(id).is_some() || self.tracks.len() < MAX_TRACKS
    }

    /// A change makes a new set of tracks; what is as it was does not.
    pub(super) fn set_track(&mut self, track: Track) {
        if self.tracks.get(track.id) != Some(&track) {
            let mut tracks = Tracks::clone(&self.tracks);
            tracks.set(track);
            self.tracks = Arc::new(tracks);
        }
    }

    pub(super) fn push(&mut self, frame: Frame) {
        let Frame { track, kind, time, composition, random_access, payload } = frame;
        let mapped = self.clock.map(time);
        let last = self.last_dts.entry(track).or_insert(mapped);
        let dts = mapped.max(*last);
        *last = dts;
        self.latest = self.latest.max(dts);
        if self.problem_fades_at.is_some_and(|at| at <= dts) {
            (self.last_problem, self.problem_fades_at) = (self.standing.clone(), None);
        }
        self.counters.backward_count += u64::from(dts != mapped);
        let packet = Packet { track, kind, dts, pts: dts + composition, random_access, payload };
        match &mut self.gathering {
            Some(waiting) => waiting.push_back(packet),
            None => self.ready.push_back((packet, self.tracks.clone())),
        }
    }

    /// Ends the waiting at the start once `is_complete` says that all tracks are known, or time
    /// is up. It is told how long packets have waited.
    pub(super) fn release(&mut self, is_complete: impl FnOnce(&Tracks, MediaTime) -> bool) {
        let Some(waiting) = &self.gathering else { return };
        let length = match (waiting.front(), waiting.back()) {
            (Some(first), Some(last)) => last.dts - first.dts,
            _ => MediaTime::ZERO,
        };
        let is_over = length >= GATHER_LENGTH || waiting.len() >= GATHER_PACKETS;
        if !is_over && (waiting.is_empty() || !is_complete(&self.tracks, length)) {
            return;
        }
        // A track may begin before the one that came first; times begin at 0 all the same.
        let earliest = waiting.iter().map(|packet| packet.dts).min().unwrap_or(MediaTime::ZERO);
        let shift = (MediaTime::ZERO - earliest).max(MediaTime::ZERO);
        self.clock.shift(shift);
        self.last_dts.values_mut().for_each(|last| *last = *last + shift);
        for packet in self.gathering.take().into_iter().flatten() {
            let packet = Packet { dts: packet.dts + shift, pts: packet.pts + shift, ..packet };
            self.ready.push_back((packet, self.tracks.clone()));
        }
    }

    pub(super) fn damaged(&mut self, problem: String) {
        self.counters.damaged_count += 1;
        (self.last_problem, self.problem_fades_at) = (Some(problem), Some(self.latest + DAMAGE_SHOWN));
    }

    pub(super) fn unsupported(&mut self, problem: String) {
        self.counters.unsupported_count += 1;
        self.standing = Some(problem.clone());
        (self.last_problem, self.problem_fades_at) = (Some(problem), None);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn push(assembly: &mut Assembly, millis: i64) {
        let time = MediaTime::from_millis(millis);
        let (track, kind) = (TrackId::VIDEO, TrackKind::Video);
        assembly.push(Frame {
            track,
            kind,
            time,
            composition: MediaTime::ZERO,
            random_access: true,
            payload: Bytes::new(),
        });
    }

    /// A glitch is no news an hour later; what is not carried stays so.
    #[test]
    fn damage_fades_and_what_is_not_carried_stands() {
        let mut assembly = Assembly::default();
        (0..20).for_each(|step| push(&mut assembly, step * 500));
        assembly.unsupported("MPEG-2 video is not carried".to_owned());
        assembly.damaged("packets are missing".to_owned());
        (20..130).for_each(|step| push(&mut assembly, step * 500));
        assert_eq!(assembly.last_problem(), Some("packets are missing"));
        (130..150).for_each(|step| push(&mut assembly, step * 500));
        assert_eq!(assembly.last_problem(), Some("MPEG-2 video is not carried"));
        assert_eq!((assembly.counters.damaged_count, assembly.counters.unsupported_count), (1, 1));
    }
}
