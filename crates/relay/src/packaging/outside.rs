//! A show as it is told where nobody answers for it, as in object storage: whole segments alone, each told once it was
//! taken there.

use std::collections::{BTreeMap, VecDeque};

use time::{Duration, OffsetDateTime};
use waverant_container::{MediaPlaylist, PlaylistSegment};
use waverant_media::{MediaTime, TrackId};

use super::{Packager, Piece};

/// Segments of two tracks that begin within this time belong together.
const ALIGNED: Duration = Duration::milliseconds(250);

/// A segment that is whole: what playlists tell of it, and its bytes.
#[derive(Clone, Debug)]
pub struct WholeSegment {
    /// What playlists tell.
    pub told: PlaylistSegment,
    /// What is sent.
    pub piece: Piece,
}

impl Packager {
    /// The first segment of a track that is whole and told, from `number` on, and of those that begin at `date` or
    /// later.
    fn whole_from(&self, id: TrackId, number: u64, date: Option<OffsetDateTime>) -> Option<WholeSegment> {
        let track = self.tracks.get(&id)?;
        let of = |segment| PlaylistSegment { parts: Vec::new(), ..self.playlist_segment(track, segment) };
        let from_number = track.shelf.whole().filter(|segment| segment.number >= number);
        let mut told = from_number.map(|segment| (of(segment), segment));
        let (told, segment) = told.find(|(told, _)| date.is_none_or(|date| told.began + ALIGNED >= date))?;
        Some(WholeSegment { told, piece: segment.piece() })
    }
}

/// A show as it is told elsewhere.
#[derive(Debug)]
pub struct OutsideShow {
    window: MediaTime,
    tracks: BTreeMap<TrackId, OutsideTrack>,
    /// How often segments never got there: a discontinuity each, the same for all tracks.
    missed: u64,
}

/// One track of it.
///
/// Source: RFC 8216bis, 6.2.2
#[derive(Debug)]
struct OutsideTrack {
    target_duration: u32,
    told: VecDeque<PlaylistSegment>,
    /// Those that are not told any more, with how much was told since.
    retired: VecDeque<(u64, MediaTime)>,
    /// The number of the next segment.
    wanted: u64,
    is_ended: bool,
}

impl OutsideShow {
    /// A show of which nothing is told yet; segments are told for `window`.
    pub fn new(window: MediaTime) -> Self {
        Self { window, tracks: BTreeMap::new(), missed: 0 }
    }

    /// What is to be sent next, of each track that has something. Where a track has lost segments by now, all begin
    /// anew behind them.
    pub fn next(&mut self, packager: &Packager) -> Vec<(TrackId, WholeSegment)> {
        let Some(plan) = packager.plan else { return Vec::new() };
        for (id, packed) in &packager.tracks {
            let track = self.tracks.entry(*id).or_insert_with(|| OutsideTrack::new(plan.target_duration));
            track.is_ended = packed.has_ended && packager.whole_from(*id, track.wanted, None).is_none();
        }
        let from = |track: &OutsideTrack, id, date| Some((id, packager.whole_from(id, track.wanted, date)?));
        let next: Vec<_> = self.tracks.iter().filter_map(|(id, track)| from(track, *id, None)).collect();
        let is_missed = |(id, segment): &&(TrackId, WholeSegment)| {
            self.tracks.get(id).is_some_and(|track| track.has_begun() && segment.told.number > track.wanted)
        };
        let Some(date) = next.iter().filter(is_missed).map(|(_, segment)| segment.told.began).max() else {
            return next;
        };
        self.missed += 1;
        self.tracks.values_mut().for_each(OutsideTrack::begin_anew);
        self.tracks.iter().filter_map(|(id, track)| from(track, *id, Some(date))).collect()
    }

    /// Tells a segment that is there now.
    pub fn tell(&mut self, id: TrackId, segment: PlaylistSegment) {
        let (window, missed) = (self.window, self.missed);
        if let Some(track) = self.tracks.get_mut(&id) {
            let discontinuity = segment.discontinuity + missed;
            track.tell(PlaylistSegment { discontinuity, ..segment }, window);
        }
    }

    /// Nothing follows.
    pub fn end(&mut self) {
        self.tracks.values_mut().for_each(|track| track.is_ended = true);
    }

    /// True once every track that goes on has something.
    pub fn has_begun(&self) -> bool {
        !self.tracks.is_empty() && self.tracks.values().all(|track| track.has_begun() || track.is_ended)
    }

    /// The date up to which all tracks that go on are told; none before each has something.
    pub fn told_until(&self) -> Option<OffsetDateTime> {
        self.has_begun().then_some(())?;
        let going_on = self.tracks.values().filter(|track| !track.is_ended);
        going_on.filter_map(|track| track.told.back()).map(|last| last.began + last.duration.to_duration()).min()
    }

    /// The tracks of which something is told, each with its playlist as it is now.
    pub fn playlists(&self) -> impl Iterator<Item = (TrackId, String)> {
        self.tracks.iter().filter(|(_, track)| track.has_begun()).map(|(id, track)| (*id, track.playlist()))
    }

    /// Segments of which no player has use any more: as much was told behind each as the longest playlist has that
    /// told it.
    pub fn take_useless(&mut self) -> Vec<(TrackId, u64)> {
        let keep = self.window + self.window;
        let of = |(id, track): (&TrackId, &mut OutsideTrack)| -> Vec<(TrackId, u64)> {
            let count = track.retired.iter().take_while(|(_, since)| *since > keep).count();
            track.retired.drain(..count).map(|(number, _)| (*id, number)).collect()
        };
        self.tracks.iter_mut().flat_map(of).collect()
    }
}

impl OutsideTrack {
    fn new(target_duration: u32) -> Self {
        Self { target_duration, told: VecDeque::new(), retired: VecDeque::new(), wanted: 0, is_ended: false }
    }

    fn has_begun(&self) -> bool {
        !self.told.is_empty()
    }

    fn tell(&mut self, segment: PlaylistSegment, window: MediaTime) {
        self.wanted = segment.number + 1;
        self.retired.iter_mut().for_each(|(_, since)| *since = *since + segment.duration);
        self.told.push_back(segment);
        let least = MediaTime::from_millis(i64::from(self.target_duration) * 4_000);
        let window = window.max(least);
        while let Some(oldest) = self.told.front()
            && self.length() - oldest.duration > window
        {
            self.retired.push_back((oldest.number, MediaTime::ZERO));
            self.told.pop_front();
        }
    }

    /// What is told is told no more, but stays for who fetches it.
    fn begin_anew(&mut self) {
        let left = self.told.drain(..).map(|segment| (segment.number, MediaTime::ZERO));
        self.retired.extend(left);
    }

    fn playlist(&self) -> String {
        let segments: Vec<PlaylistSegment> = self.told.iter().cloned().collect();
        MediaPlaylist {
            target_duration: self.target_duration,
            part_target: None,
            segments: &segments,
            reports: &[],
            is_ended: self.is_ended,
            is_static: true,
        }
        .write(false)
    }

    fn length(&self) -> MediaTime {
        self.told.iter().fold(MediaTime::ZERO, |sum, segment| sum + segment.duration)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::sync::Arc;

    use proptest::prelude::*;
    use time::macros::datetime;
    use waverant_container::PlaylistCheck;
    use waverant_media::testing::h264_and_aac;
    use waverant_media::{Packet, TICKS_PER_SECOND};

    use super::*;
    use crate::{Entry, Origin, PackagingRules, WallClock};

    const WINDOW: MediaTime = MediaTime::from_millis(10_000);

    /// A show of a keyframe every two seconds, with sound, which is packaged as it comes.
    struct Source {
        packager: Packager,
        tracks: Arc<waverant_media::Tracks>,
        at_ms: i64,
        sounds: i64,
    }

    impl Source {
        fn new() -> Self {
            let clock = WallClock { at: MediaTime::ZERO, date: datetime!(2026-05-17 14:00 UTC) };
            let rules = PackagingRules { part: None, window: WINDOW, ..PackagingRules::default() };
            Self { packager: Packager::new(rules, clock), tracks: Arc::new(h264_and_aac()), at_ms: 0, sounds: 0 }
        }

        fn run(&mut self, seconds: i64) {
            let end = self.at_ms + seconds * 1000;
            while self.at_ms < end {
                self.push(TrackId::VIDEO, MediaTime::from_millis(self.at_ms), self.at_ms % 2000 == 0);
                self.at_ms += 40;
                while self.sound_at() < MediaTime::from_millis(self.at_ms) {
                    self.push(TrackId::AUDIO, self.sound_at(), true);
                    self.sounds += 1;
                }
            }
        }

        /// Frames of 1024 samples, 48,000 a second.
        fn sound_at(&self) -> MediaTime {
            MediaTime::from_ticks(self.sounds * 1024 * TICKS_PER_SECOND / 48_000)
        }

        fn push(&mut self, track: TrackId, time: MediaTime, random_access: bool) {
            let (kind, payload) = (track.kind(), vec![0; 40].into());
            let packet = Packet { track, kind, dts: time, pts: time, random_access, payload };
            let tracks = self.tracks.clone();
            self.packager.push(&Entry { packet, tracks, origin: Origin::Show, video_frames_before: 0 });
        }
    }

    /// Object storage that remembers, and playlists that are checked whenever they are written.
    #[derive(Default)]
    struct Storage {
        there: BTreeSet<(TrackId, u64)>,
        checks: BTreeMap<TrackId, PlaylistCheck>,
    }

    impl Storage {
        fn take(&mut self, show: &mut OutsideShow, source: &Source) {
            loop {
                let next = show.next(&source.packager);
                if next.is_empty() {
                    break;
                }
                for (id, segment) in next {
                    assert!(segment.piece.size_bytes() > 0 && self.there.insert((id, segment.told.number)));
                    show.tell(id, segment.told);
                }
            }
            for useless in show.take_useless() {
                assert!(self.there.remove(&useless));
            }
        }

        fn check(&mut self, show: &OutsideShow) {
            for (id, text) in show.playlists() {
                self.checks.entry(id).or_default().read(&text).unwrap();
                assert!(numbers_of(&text).iter().all(|number| self.there.contains(&(id, *number))), "{text}");
            }
        }
    }

    #[test]
    fn segments_are_there_before_they_are_told_and_for_as_long_as_a_player_may_ask() {
        let (mut source, mut show, mut storage) = (Source::new(), OutsideShow::new(WINDOW), Storage::default());
        assert!(!show.has_begun());
        for _ in 0..40 {
            source.run(2);
            storage.take(&mut show, &source);
            storage.check(&show);
        }
        assert!(show.has_begun());
        assert_eq!(show.told_until(), Some(datetime!(2026-05-17 14:01:18 UTC)));
        // Six of each track are told, and ten more may still be fetched.
        assert!((30..=36).contains(&storage.there.len()), "{} are there", storage.there.len());
        source.packager.finish();
        storage.take(&mut show, &source);
        assert!(show.next(&source.packager).is_empty());
        storage.check(&show);
        let ended = |(_, text): (TrackId, String)| text.ends_with("#EXT-X-ENDLIST\n");
        assert!(show.playlists().all(ended) && show.playlists().count() == 2);
    }

    #[test]
    fn behind_what_was_lost_all_tracks_begin_anew_together() {
        let (mut source, mut show, mut storage) = (Source::new(), OutsideShow::new(WINDOW), Storage::default());
        source.run(8);
        storage.take(&mut show, &source);
        let before = storage.there.clone();
        // The storage is away for longer than segments are told here.
        source.run(60);
        storage.take(&mut show, &source);
        let told: Vec<(Vec<u64>, u64)> =
            show.playlists().map(|(_, text)| text).map(|text| (numbers_of(&text), sequence_of(&text))).collect();
        assert_eq!(told.len(), 2);
        assert!(told.iter().all(|(numbers, sequence)| numbers[0] > 20 && *sequence == 1), "{told:?}");
        assert_eq!(told[0].0[0], told[1].0[0]);
        assert!(storage.there.is_superset(&before), "those before may still be fetched");
    }

    fn numbers_of(text: &str) -> Vec<u64> {
        text.lines().filter_map(|line| line.strip_suffix(".m4s")?.parse().ok()).collect()
    }

    fn sequence_of(text: &str) -> u64 {
        text.split("DISCONTINUITY-SEQUENCE:").nth(1).unwrap().lines().next().unwrap().parse().unwrap()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// However often the storage is away, what is told is there, and tracks keep together.
        #[test]
        fn what_is_told_is_there(pauses in prop::collection::vec(1_i64..40, 1..10)) {
            let (mut source, mut show, mut storage) = (Source::new(), OutsideShow::new(WINDOW), Storage::default());
            for pause in pauses {
                source.run(pause);
                storage.take(&mut show, &source);
                let told: Vec<(TrackId, String)> = show.playlists().collect();
                for (id, text) in &told {
                    let is_there = numbers_of(text).iter().all(|number| storage.there.contains(&(*id, *number)));
                    prop_assert!(is_there, "{}", text);
                }
                let sequences: BTreeSet<u64> = told.iter().map(|(_, text)| sequence_of(text)).collect();
                prop_assert!(sequences.len() <= 1, "{:?}", told);
            }
        }
    }
}
