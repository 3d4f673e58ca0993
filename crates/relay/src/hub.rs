use std::collections::VecDeque;
use std::sync::Arc;

use waverant_media::{MediaTime, Packet, TrackKind, Tracks};

/// How much a hub keeps.
#[derive(Clone, Copy, Debug)]
pub struct HubLimits {
    /// Memory kept, in bytes: payloads, and what each packet costs besides. Default 128 MiB: 20 s at
    /// 50 Mbit/s. A stream of 6 Mbit/s takes 16 MiB of it.
    pub max_bytes: usize,
    /// Length kept. Default 20 s.
    pub max_length: MediaTime,
    /// Packets kept, whatever their size. Default 32768: 20 s of 60 pictures and 32 tracks of sound.
    pub max_packets: usize,
}

impl Default for HubLimits {
    fn default() -> Self {
        Self { max_bytes: 128 * 1024 * 1024, max_length: MediaTime::from_millis(20_000), max_packets: 32_768 }
    }
}

/// What a packet costs besides its payload: its entry in the ring, and the memory that its payload is in.
const PACKET_COST: usize = size_of::<Entry>() + 128;

/// A reader that was there before the first packet begins with it, if it is not further behind by then.
const EARLY: MediaTime = MediaTime::from_millis(3_000);

/// Where a packet comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// The publisher.
    Show,
    /// The publisher, and it is the first one after a loss.
    Returned,
    /// What stands in for the show.
    Slate,
}

/// A packet with the tracks as they were when it came.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The packet.
    pub packet: Packet,
    /// The tracks; a different `Arc` means changed parameters.
    pub tracks: Arc<Tracks>,
    /// Where it comes from.
    pub origin: Origin,
    /// Pictures that the session had before this packet.
    pub(crate) video_frames_before: u64,
}

impl Entry {
    /// A packet that no hub has had, for who reads entries from elsewhere.
    pub fn new(packet: Packet, tracks: Arc<Tracks>, origin: Origin) -> Self {
        Self { packet, tracks, origin, video_frames_before: 0 }
    }
}

/// A reader's place in the hub.
#[derive(Clone, Debug)]
pub struct Cursor {
    /// The number of the next entry; none until a starting point was found.
    next: Option<u64>,
    video_frames_seen: u64,
    /// The time of the last entry read.
    last_seen: Option<MediaTime>,
    allowance: MediaTime,
    /// How much older than the newest packet the starting point is to be.
    back: MediaTime,
    /// True for a reader that was there before the first packet.
    is_early: bool,
}

impl Cursor {
    /// A reader that begins at the newest keyframe, and jumps to the newest keyframe when it is
    /// more than `allowance` behind the writer.
    pub fn new(allowance: MediaTime) -> Self {
        let (last_seen, back) = (None, MediaTime::ZERO);
        Self { next: None, video_frames_seen: 0, last_seen, allowance, back, is_early: false }
    }

    /// A reader that is there before the first packet: it begins at the first starting point there is.
    pub fn from_beginning(allowance: MediaTime) -> Self {
        Self { is_early: true, ..Self::new(allowance) }
    }

    /// Makes the reader begin anew, at a keyframe: one that follows what it read last if that is not long ago,
    /// or the newest, by what repeats and loses least. What it misses by that is told by the next read.
    pub fn restart(&mut self) {
        self.restart_back(MediaTime::ZERO);
    }

    /// Makes the reader begin anew at a keyframe that is `back` older than the newest packet, or at the
    /// oldest one there is.
    pub fn restart_back(&mut self, back: MediaTime) {
        self.next = None;
        self.back = back;
    }

    /// The time of what it read last, if it is to begin anew.
    pub fn stopped_at(&self) -> Option<MediaTime> {
        self.last_seen.filter(|_| self.next.is_none())
    }

    /// True once the reader has begun.
    pub fn has_started(&self) -> bool {
        self.next.is_some()
    }
}

/// What a read came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Read {
    /// Entries were appended, or there are none yet.
    UpToDate,
    /// The reader was too slow and jumped to the newest keyframe.
    Jumped {
        /// Pictures that it missed.
        missed_frame_count: u64,
        /// How much of the show that was.
        missed: MediaTime,
    },
    /// The session is over and everything was read.
    End,
}

/// The ring of a session's newest packets: one writer, any number of readers.
///
/// Readers hold only a cursor. Memory is bounded by the limits, never by readers; whoever is too
/// slow jumps. The hub has no lock of its own.
#[derive(Debug)]
pub struct Hub {
    limits: HubLimits,
    ring: VecDeque<Entry>,
    /// Number of the first entry in the ring.
    first: u64,
    bytes: usize,
    /// Numbers of the entries at which a reader can begin.
    starts: VecDeque<u64>,
    video_frame_count: u64,
    ended: bool,
}

impl Hub {
    /// An empty hub.
    pub fn new(limits: HubLimits) -> Self {
        Self {
            limits,
            ring: VecDeque::new(),
            first: 0,
            bytes: 0,
            starts: VecDeque::new(),
            video_frame_count: 0,
            ended: false,
        }
    }

    /// Appends a packet, and drops the oldest ones beyond the limits.
    pub fn push(&mut self, packet: Packet, tracks: Arc<Tracks>, origin: Origin) {
        let number = self.first + self.ring.len() as u64;
        let without_video = !tracks.has(TrackKind::Video);
        if packet.is_keyframe() || without_video {
            self.starts.push_back(number);
        }
        self.bytes += packet.payload.len() + PACKET_COST;
        let video_frames_before = self.video_frame_count;
        self.video_frame_count += u64::from(packet.kind == TrackKind::Video);
        self.ring.push_back(Entry { packet, tracks, origin, video_frames_before });
        while self.is_over_limits() {
            self.drop_oldest();
        }
    }

    /// Changes how much is kept; what is too much goes at once.
    pub fn set_limits(&mut self, limits: HubLimits) {
        self.limits = limits;
        while self.is_over_limits() {
            self.drop_oldest();
        }
    }

    /// The time of the newest packet.
    pub fn newest(&self) -> Option<MediaTime> {
        self.ring.back().map(|entry| entry.packet.dts)
    }

    /// Says that no packet follows.
    pub fn end(&mut self) {
        self.ended = true;
    }

    /// True once no packet follows; readers may still have some to read.
    pub fn has_ended(&self) -> bool {
        self.ended
    }

    /// Appends up to `max` entries to `out` and moves the cursor on.
    pub fn read(&self, cursor: &mut Cursor, max: usize, out: &mut Vec<Entry>) -> Read {
        let Some((next, outcome)) = self.place(cursor) else {
            return if self.ended { Read::End } else { Read::UpToDate };
        };
        let offset = usize::try_from(next - self.first).unwrap_or(usize::MAX).min(self.ring.len());
        let before = out.len();
        out.extend(self.ring.range(offset..).take(max).cloned());
        let count = out.len() - before;
        cursor.next = Some(next + count as u64);
        if let Some(last) = out.last().filter(|_| count > 0) {
            cursor.video_frames_seen = last.video_frames_before + u64::from(last.packet.kind == TrackKind::Video);
            cursor.last_seen = Some(last.packet.dts);
        }
        if self.ended && count == 0 && outcome == Read::UpToDate { Read::End } else { outcome }
    }

    /// How far the cursor is behind the newest packet.
    pub fn lag(&self, cursor: &Cursor) -> MediaTime {
        let Some(next) = cursor.next else { return MediaTime::ZERO };
        match (self.ring.back(), self.entry(next.max(self.first))) {
            (Some(newest), Some(entry)) => newest.packet.dts - entry.packet.dts,
            _ => MediaTime::ZERO,
        }
    }

    /// Memory held, in bytes.
    pub fn held_bytes(&self) -> usize {
        self.bytes
    }

    /// Where the cursor reads next. None if there is no starting point yet.
    fn place(&self, cursor: &Cursor) -> Option<(u64, Read)> {
        let newest_start = self.starts.back().copied();
        let Some(next) = cursor.next else {
            let start = self.begin(cursor)?;
            let jump = self.jump_to(start, cursor);
            let missed = matches!(jump, Read::Jumped { missed_frame_count: 1.., .. }) && cursor.last_seen.is_some();
            return Some((start, if missed { jump } else { Read::UpToDate }));
        };
        let evicted = next < self.first;
        let too_slow = self.lag(cursor) > cursor.allowance && newest_start.is_some_and(|start| start > next);
        if !evicted && !too_slow {
            return Some((next, Read::UpToDate));
        }
        // Where keyframes are further apart than the ring is long, the next one is waited for: nothing can be
        // begun in the middle of a group.
        let start = newest_start?;
        Some((start, self.jump_to(start, cursor)))
    }

    /// Where a reader begins that has no place. None if that is still to come.
    fn begin(&self, cursor: &Cursor) -> Option<u64> {
        if cursor.back > MediaTime::ZERO {
            return self.start_back(cursor.back);
        }
        match cursor.last_seen {
            Some(seen) => self.resume(seen, cursor.allowance),
            None if cursor.is_early => self.earliest_start(|_, lag| lag <= EARLY),
            None => self.starts.back().copied(),
        }
    }

    /// The first starting point for which `fits` holds of its time and lag, or the newest.
    fn earliest_start(&self, fits: impl Fn(MediaTime, MediaTime) -> bool) -> Option<u64> {
        let newest = self.newest()?;
        let is_it =
            |number: &&u64| self.entry(**number).is_some_and(|entry| fits(entry.packet.dts, newest - entry.packet.dts));
        self.starts.iter().find(is_it).or(self.starts.back()).copied()
    }

    /// Where a reader goes on whose last packet was that of `seen`: at the first keyframe behind it, as far as
    /// the reader can still be behind; else by what is less, repeating from the newest keyframe or losing
    /// what comes until the next. None for the latter.
    fn resume(&self, seen: MediaTime, allowance: MediaTime) -> Option<u64> {
        let most = MediaTime::from_ticks(allowance.ticks() / 2);
        let start = self.earliest_start(|time, lag| time > seen && lag <= most)?;
        let at = self.entry(start)?.packet.dts;
        if at > seen {
            return Some(start);
        }
        let before = self.starts.iter().rev().nth(1).and_then(|before| self.entry(*before));
        let spacing = before.map_or(at, |before| at - before.packet.dts);
        let next = (at + spacing).max(self.newest()?);
        // Both count from what was seen.
        (self.ended || seen - at <= next - seen).then_some(start)
    }

    /// The newest starting point that is `back` older than the newest packet, or the oldest one.
    fn start_back(&self, back: MediaTime) -> Option<u64> {
        let newest = self.newest()?;
        let is_old = |number: &&u64| self.entry(**number).is_some_and(|entry| newest - entry.packet.dts >= back);
        self.starts.iter().rev().find(is_old).or(self.starts.front()).copied()
    }

    /// What a reader misses that goes on at `start`.
    fn jump_to(&self, start: u64, cursor: &Cursor) -> Read {
        let start = self.entry(start);
        let frames_before = start.map_or(self.video_frame_count, |entry| entry.video_frames_before);
        let missed_frame_count = frames_before.saturating_sub(cursor.video_frames_seen);
        let missed = start.zip(cursor.last_seen).map_or(MediaTime::ZERO, |(start, seen)| start.packet.dts - seen);
        Read::Jumped { missed_frame_count, missed: missed.max(MediaTime::ZERO) }
    }

    fn entry(&self, number: u64) -> Option<&Entry> {
        self.ring.get(usize::try_from(number.checked_sub(self.first)?).ok()?)
    }

    fn is_over_limits(&self) -> bool {
        let length = match (self.ring.front(), self.ring.back()) {
            (Some(oldest), Some(newest)) => newest.packet.dts - oldest.packet.dts,
            _ => MediaTime::ZERO,
        };
        let over = self.bytes > self.limits.max_bytes
            || length > self.limits.max_length
            || self.ring.len() > self.limits.max_packets;
        over && self.ring.len() > 1
    }

    fn drop_oldest(&mut self) {
        if let Some(entry) = self.ring.pop_front() {
            self.bytes -= entry.packet.payload.len() + PACKET_COST;
            self.first += 1;
        }
        if self.starts.front().is_some_and(|start| *start < self.first) {
            self.starts.pop_front();
        }
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use proptest::prelude::*;
    use rstest::rstest;
    use waverant_media::{TrackId, testing};

    use super::*;

    const ALLOWANCE: MediaTime = MediaTime::from_millis(5000);

    fn picture(number: i64, keyframe: bool) -> Packet {
        let time = MediaTime::from_millis(number * 40);
        let payload = Bytes::from(number.to_be_bytes().to_vec());
        Packet { track: TrackId::VIDEO, kind: TrackKind::Video, dts: time, pts: time, random_access: keyframe, payload }
    }

    /// Any set that says there is video; its contents do not matter to the hub.
    fn with_video() -> Arc<Tracks> {
        Arc::new(testing::tracks([(TrackId::VIDEO, testing::h264())]))
    }

    fn filled(count: i64, gop: i64, limits: HubLimits) -> Hub {
        let tracks = with_video();
        let mut hub = Hub::new(limits);
        for number in 0..count {
            hub.push(picture(number, number % gop == 0), tracks.clone(), Origin::Show);
        }
        hub
    }

    fn numbers(entries: &[Entry]) -> Vec<i64> {
        entries.iter().map(|entry| entry.packet.dts.millis() / 40).collect()
    }

    #[test]
    fn a_reader_begins_at_the_newest_keyframe() {
        let hub = filled(120, 50, HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        assert_eq!(hub.read(&mut cursor, 5, &mut out), Read::UpToDate);
        assert_eq!(numbers(&out), [100, 101, 102, 103, 104]);
    }

    #[test]
    fn a_reader_waits_for_the_first_keyframe() {
        let mut hub = Hub::new(HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        hub.push(picture(0, false), with_video(), Origin::Show);
        assert_eq!(hub.read(&mut cursor, 5, &mut out), Read::UpToDate);
        assert!(out.is_empty() && !cursor.has_started());
        hub.push(picture(1, true), with_video(), Origin::Show);
        hub.read(&mut cursor, 5, &mut out);
        assert_eq!(numbers(&out), [1]);
    }

    #[test]
    fn a_slow_reader_jumps_and_is_told_what_it_missed() {
        let mut hub = filled(10, 50, HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        hub.read(&mut cursor, 10, &mut out);
        for number in 10..220 {
            hub.push(picture(number, number % 50 == 0), with_video(), Origin::Show);
        }
        out.clear();
        assert_eq!(
            hub.read(&mut cursor, 100, &mut out),
            Read::Jumped { missed_frame_count: 190, missed: MediaTime::from_millis(191 * 40) }
        );
        assert_eq!(numbers(&out)[0], 200);
        assert!(out[0].packet.is_keyframe());
    }

    /// Keyframes are further apart than the ring is long: a reader that fell out of it has nothing to begin
    /// with, and was begun in the middle of a group.
    #[test]
    fn a_reader_without_a_keyframe_waits_for_the_next() {
        let limits = HubLimits { max_packets: 40, ..HubLimits::default() };
        let (mut hub, tracks) = (Hub::new(limits), with_video());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        for number in 0..100 {
            hub.push(picture(number, number == 0), tracks.clone(), Origin::Show);
            if number < 5 {
                hub.read(&mut cursor, 10, &mut out);
            }
        }
        out.clear();
        assert_eq!(hub.read(&mut cursor, 10, &mut out), Read::UpToDate);
        assert!(out.is_empty());
        let mut late = Cursor::new(ALLOWANCE);
        assert_eq!(hub.read(&mut late, 10, &mut out), Read::UpToDate);
        assert!(out.is_empty(), "nor does one begin there that comes new");
        hub.push(picture(100, true), tracks, Origin::Show);
        let missed = MediaTime::from_millis(96 * 40);
        assert_eq!(hub.read(&mut cursor, 10, &mut out), Read::Jumped { missed_frame_count: 95, missed });
        assert_eq!(numbers(&out), [100]);
    }

    fn sound(number: i64) -> Packet {
        Packet { track: TrackId::AUDIO, kind: TrackKind::Audio, ..picture(number, true) }
    }

    /// What was gathered before the headers were known comes in one burst, and each sound is a start.
    #[test]
    fn who_is_there_from_the_beginning_begins_at_the_beginning() {
        let tracks = Arc::new(testing::tracks([(TrackId::AUDIO, testing::aac())]));
        let (mut hub, mut early, mut late) =
            (Hub::new(HubLimits::default()), Cursor::from_beginning(ALLOWANCE), Cursor::new(ALLOWANCE));
        let mut out = Vec::new();
        assert_eq!(hub.read(&mut early, 10, &mut out), Read::UpToDate);
        (0..25).for_each(|number| hub.push(sound(number), tracks.clone(), Origin::Show));
        hub.read(&mut early, 5, &mut out);
        assert_eq!(numbers(&out), [0, 1, 2, 3, 4]);
        out.clear();
        hub.read(&mut late, 5, &mut out);
        assert_eq!(numbers(&out), [24], "who comes later hears what is now");
        // A platform that was reached only after many seconds is not sent all of them.
        (25..200).for_each(|number| hub.push(sound(number), tracks.clone(), Origin::Show));
        out.clear();
        hub.read(&mut Cursor::from_beginning(ALLOWANCE), 1, &mut out);
        assert_eq!(numbers(&out), [124]);
    }

    /// A reader read up to `seen`, and begins anew when `newest` is there; keyframes every `gop` pictures.
    #[rstest]
    #[case::keyframe_right_behind(110, 150, 50, Some(150))]
    #[case::several_behind(40, 95, 10, Some(50))]
    #[case::repeats_little(108, 112, 100, Some(100))]
    #[case::the_next_is_near(190, 195, 100, None)]
    #[case::long_away(40, 480, 50, Some(450))]
    fn a_redial_begins_where_least_repeats_and_is_lost(
        #[case] seen: i64,
        #[case] newest: i64,
        #[case] gop: i64,
        #[case] expected: Option<i64>,
    ) {
        let mut hub = Hub::new(HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        for number in 0..=newest {
            hub.push(picture(number, number % gop == 0), with_video(), Origin::Show);
            if number <= seen {
                hub.read(&mut cursor, 10, &mut out);
            }
        }
        assert_eq!(cursor.stopped_at(), None, "it goes on");
        cursor.restart();
        assert_eq!(cursor.stopped_at(), Some(picture(seen, false).dts));
        out.clear();
        hub.read(&mut cursor, 1, &mut out);
        assert_eq!(numbers(&out).first().copied(), expected);
        if expected.is_none() {
            hub.push(picture(200, true), with_video(), Origin::Show);
            hub.read(&mut cursor, 1, &mut out);
            assert_eq!(numbers(&out), [200]);
        }
    }

    #[test]
    fn the_bound_is_one_of_memory() {
        let limits = HubLimits { max_bytes: 100_000, ..HubLimits::default() };
        let hub = filled(5_000, 50, limits);
        assert!(hub.ring.len() < 100_000 / PACKET_COST + 1, "{} small packets", hub.ring.len());
        assert!(hub.held_bytes() <= 100_000);
    }

    #[test]
    fn a_reader_within_its_allowance_loses_nothing() {
        let hub = filled(120, 50, HubLimits::default());
        let mut cursor = Cursor::new(ALLOWANCE);
        let mut out = Vec::new();
        while hub.read(&mut cursor, 7, &mut out) == Read::UpToDate && numbers(&out).last() != Some(&119) {}
        assert!(numbers(&out).into_iter().eq(100..120));
    }

    #[test]
    fn an_evicted_place_is_a_jump() {
        let limits = HubLimits { max_packets: 60, ..HubLimits::default() };
        let mut hub = filled(10, 50, limits);
        let (mut cursor, mut out) = (Cursor::new(MediaTime::from_millis(1_000_000)), Vec::new());
        hub.read(&mut cursor, 3, &mut out);
        for number in 10..150 {
            hub.push(picture(number, number % 50 == 0), with_video(), Origin::Show);
        }
        out.clear();
        assert_eq!(
            hub.read(&mut cursor, 1, &mut out),
            Read::Jumped { missed_frame_count: 97, missed: MediaTime::from_millis(98 * 40) }
        );
        assert_eq!(numbers(&out), [100]);
    }

    #[rstest::rstest]
    #[case::none(0, 100)]
    #[case::one_second(1000, 50)]
    #[case::more_than_there_is(60_000, 0)]
    fn a_reader_can_begin_further_back(#[case] back: i64, #[case] expected: i64) {
        let hub = filled(120, 50, HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(MediaTime::from_millis(15_000)), Vec::new());
        cursor.restart_back(MediaTime::from_millis(back));
        hub.read(&mut cursor, 500, &mut out);
        assert_eq!((numbers(&out)[0], numbers(&out).last()), (expected, Some(&119)));
    }

    #[test]
    fn the_end_comes_after_the_last_packet() {
        let mut hub = filled(3, 50, HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        hub.end();
        assert_eq!(hub.read(&mut cursor, 10, &mut out), Read::UpToDate);
        assert_eq!(out.len(), 3);
        assert_eq!(hub.read(&mut cursor, 10, &mut out), Read::End);
    }

    #[test]
    fn a_reader_that_begins_anew_is_told_what_went_by() {
        let mut hub = filled(60, 50, HubLimits::default());
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        assert_eq!(hub.read(&mut cursor, 100, &mut out), Read::UpToDate);
        cursor.restart();
        assert_eq!(hub.read(&mut cursor, 100, &mut out), Read::UpToDate, "the same again is no loss");
        for number in 60..130 {
            hub.push(picture(number, number % 50 == 0), with_video(), Origin::Show);
        }
        cursor.restart();
        let missed = MediaTime::from_millis(41 * 40);
        assert_eq!(hub.read(&mut cursor, 100, &mut out), Read::Jumped { missed_frame_count: 40, missed });
    }

    #[test]
    fn sound_alone_can_be_begun_anywhere() {
        let tracks = Arc::new(testing::tracks([(TrackId::AUDIO, testing::aac())]));
        let mut hub = Hub::new(HubLimits::default());
        for number in 0..5 {
            let sound = Packet { track: TrackId::AUDIO, kind: TrackKind::Audio, ..picture(number, true) };
            hub.push(sound, tracks.clone(), Origin::Show);
        }
        let (mut cursor, mut out) = (Cursor::new(ALLOWANCE), Vec::new());
        hub.read(&mut cursor, 10, &mut out);
        assert_eq!(numbers(&out), [4]);
    }

    proptest! {
        #[test]
        fn limits_hold_and_readers_see_rising_times(
            steps in proptest::collection::vec((any::<bool>(), 0usize..20), 1..400),
            gop in 1i64..30,
        ) {
            let limits = HubLimits { max_bytes: 400, max_length: MediaTime::from_millis(1500), max_packets: 40 };
            let mut hub = Hub::new(limits);
            let tracks = with_video();
            let mut cursor = Cursor::new(MediaTime::from_millis(800));
            let mut out = Vec::new();
            let mut missed = 0;
            for (number, (reads, max)) in (0i64..).zip(steps) {
                hub.push(picture(number, number % gop == 0), tracks.clone(), Origin::Show);
                prop_assert!(hub.held_bytes() <= 400 && hub.ring.len() <= 40);
                if reads && let Read::Jumped { missed_frame_count, .. } = hub.read(&mut cursor, max, &mut out) {
                    missed += missed_frame_count;
                }
            }
            let seen = numbers(&out);
            prop_assert!(seen.windows(2).all(|pair| pair[0] < pair[1]));
            if let (Some(first), Some(last)) = (seen.first(), seen.last()) {
                // A jump without a packet read after it is not yet visible in `seen`.
                prop_assert!(i64::try_from(missed).unwrap() >= last - first + 1 - i64::try_from(seen.len()).unwrap());
            }
        }
    }
}
