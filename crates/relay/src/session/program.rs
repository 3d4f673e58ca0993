use std::time::{Duration, Instant};

use waverant_media::{MediaTime, Packet, TrackKind, Tracks};

use crate::Opener;

/// A publisher that sends nothing for this long is as good as lost: a backup or the slate goes on.
const STARVED_AFTER: Duration = Duration::from_secs(2);

/// Distance between the last packet of one publisher and the first of the next.
const SPLICE: MediaTime = MediaTime::from_millis(33);

/// Publishers of one session at a time: the one on air, those that wait, those that are replaced.
const MAX_SEATS: usize = 8;

/// A publisher's number within its session.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SeatId(u32);

/// What becomes of a second publisher with a key of the same rank.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Takeover {
    /// It is turned away.
    #[default]
    Refuse,
    /// It goes on air with its first keyframe, and the one before is dismissed.
    Replace,
}

/// Whose packets are the show's.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnAir {
    /// Nobody's.
    #[default]
    Nobody,
    /// A publisher's.
    Seat(SeatId),
    /// Those of the slate.
    Slate,
}

/// What a newcomer changes at once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Joined {
    /// The newcomer's seat.
    pub seat: SeatId,
    /// Those who have to leave.
    pub dismissed: Vec<SeatId>,
    /// True if it waits behind a publisher of higher rank.
    pub is_standby: bool,
}

/// What became of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Offered {
    /// It is the show's; its times are the session's now.
    Passed,
    /// The show goes over to this publisher with it.
    CutIn {
        /// What was on air before.
        from: OnAir,
        /// Those who are replaced and have to leave.
        dismissed: Vec<SeatId>,
    },
    /// It is not the show's.
    Held,
}

#[derive(Clone, Debug)]
struct Contender {
    id: SeatId,
    opener: Opener,
    /// 0 is the highest.
    rank: u8,
    last_packet: Instant,
    /// Added to the publisher's time; known from when it went on air.
    offset: MediaTime,
}

/// Decides which publisher of a session is on air, and joins their clocks into one timeline that
/// begins at 0 and never goes back.
///
/// The wish is always for the live publisher of the highest rank, and of two with the same rank
/// for the newer. The show goes over to it with its next keyframe; until then whoever is on air
/// stays. When nobody sends, the slate is due.
#[derive(Clone, Debug)]
pub struct Program {
    takeover: Takeover,
    has_slate: bool,
    is_finished: bool,
    contenders: Vec<Contender>,
    next_seat: u32,
    on_air: OnAir,
    /// Since when the slate or nobody is on air.
    since: Instant,
    /// The latest time given out; none before the first packet.
    latest: Option<MediaTime>,
    /// Where the present publisher's first packet went: nothing of it goes before.
    cut_at: MediaTime,
    /// The session's time as the clock on the wall had it when the last packet of a publisher passed.
    anchor: (Instant, MediaTime),
}

impl Program {
    /// The program of a session that begins at `now`.
    pub fn new(takeover: Takeover, has_slate: bool, now: Instant) -> Self {
        Self {
            takeover,
            has_slate,
            is_finished: false,
            contenders: Vec::new(),
            next_seat: 0,
            on_air: OnAir::Nobody,
            since: now,
            latest: None,
            cut_at: MediaTime::ZERO,
            anchor: (now, MediaTime::ZERO),
        }
    }

    /// Changes the rules in mid-show.
    pub fn set_rules(&mut self, takeover: Takeover, has_slate: bool) {
        (self.takeover, self.has_slate) = (takeover, has_slate);
    }

    /// Whose packets are the show's.
    pub fn on_air(&self) -> OnAir {
        self.on_air
    }

    /// True while somebody publishes, on air or not.
    pub fn has_seats(&self) -> bool {
        !self.contenders.is_empty()
    }

    /// True until the publisher leaves or is dismissed.
    pub fn has_seat(&self, seat: SeatId) -> bool {
        self.contender(seat).is_some()
    }

    /// Seats a publisher of `rank`, 0 being the highest. None if the channel is busy.
    ///
    /// The same key coming again replaces its older connection: a phone that changed networks.
    pub fn join(&mut self, now: Instant, opener: Opener, rank: u8) -> Option<Joined> {
        let rival = |contender: &Contender| contender.rank == rank && contender.opener != opener;
        if self.takeover == Takeover::Refuse && self.contenders.iter().any(rival) {
            return None;
        }
        let is_replaced = |contender: &Contender| {
            contender.opener == opener && contender.rank == rank && self.on_air != OnAir::Seat(contender.id)
        };
        let dismissed: Vec<SeatId> =
            self.contenders.iter().filter(|contender| is_replaced(contender)).map(|contender| contender.id).collect();
        if self.contenders.len() - dismissed.len() >= MAX_SEATS {
            return None;
        }
        self.contenders.retain(|contender| !dismissed.contains(&contender.id));
        let is_standby = self.contenders.iter().any(|contender| contender.rank < rank);
        let seat = SeatId(self.next_seat);
        self.next_seat += 1;
        self.contenders.push(Contender { id: seat, opener, rank, last_packet: now, offset: MediaTime::ZERO });
        Some(Joined { seat, dismissed, is_standby })
    }

    /// True if a publisher that `opener` let in sends, or did so a moment ago.
    pub fn has_live(&self, now: Instant, opener: Opener) -> bool {
        self.contenders.iter().any(|contender| contender.opener == opener && is_live(contender, now))
    }

    /// A publisher is gone. True if it was on air.
    pub fn leave(&mut self, now: Instant, seat: SeatId) -> bool {
        self.contenders.retain(|contender| contender.id != seat);
        let was_on_air = self.on_air == OnAir::Seat(seat);
        if was_on_air {
            self.on_air = OnAir::Nobody;
            self.since = now;
        }
        was_on_air
    }

    /// Judges a publisher's packet; one that passes gets the session's times.
    pub fn offer(&mut self, now: Instant, seat: SeatId, packet: &mut Packet, tracks: &Tracks) -> Offered {
        let Some(contender) = self.contenders.iter_mut().find(|contender| contender.id == seat) else {
            return Offered::Held;
        };
        contender.last_packet = now;
        if self.on_air == OnAir::Seat(seat) {
            let offset = contender.offset;
            return self.pass(now, packet, offset);
        }
        if self.wanted(now) != Some(seat) || !is_start(packet, tracks) {
            return Offered::Held;
        }
        self.cut_in(now, seat, packet)
    }

    /// When the slate goes on if nothing changes. None while it is on, or if there is none.
    #[must_use]
    pub fn slate_due(&self) -> Option<Instant> {
        // Before the first packet there is no show to hold.
        if self.is_finished || !self.has_slate || self.latest.is_none() {
            return None;
        }
        match self.on_air {
            OnAir::Slate => None,
            OnAir::Seat(seat) => Some(self.contender(seat)?.last_packet + STARVED_AFTER),
            OnAir::Nobody if self.contenders.is_empty() => Some(self.since),
            // Somebody is there and will soon have a keyframe.
            OnAir::Nobody => Some(self.since + STARVED_AFTER),
        }
    }

    /// Puts the slate on air if it is due; returns the time of its first packet.
    pub fn begin_slate(&mut self, now: Instant) -> Option<MediaTime> {
        if self.slate_due()? > now {
            return None;
        }
        self.on_air = OnAir::Slate;
        self.since = now;
        Some(self.latest.unwrap_or_default() + SPLICE)
    }

    /// Takes a packet of the slate, whose times are the session's already. False if the slate is
    /// no longer on air.
    pub fn offer_slate(&mut self, packet: &Packet) -> bool {
        let is_on = self.on_air == OnAir::Slate;
        if is_on {
            self.latest = self.latest.max(Some(packet.dts));
        }
        is_on
    }

    /// Takes the slate off, such as when another one is wanted.
    pub fn end_slate(&mut self, now: Instant) {
        if self.on_air == OnAir::Slate {
            (self.on_air, self.since) = (OnAir::Nobody, now);
        }
    }

    /// The show is ended in order: nothing stands in for who leaves now.
    pub fn finish(&mut self, now: Instant) {
        self.is_finished = true;
        self.end_slate(now);
    }

    /// The session's time at `now`, as it would run on.
    pub fn time_at(&self, now: Instant) -> MediaTime {
        self.anchor.1 + MediaTime::from_duration(now.saturating_duration_since(self.anchor.0))
    }

    fn pass(&mut self, now: Instant, packet: &mut Packet, offset: MediaTime) -> Offered {
        let dts = packet.dts + offset;
        // Sound from before the keyframe that the publisher went on air with.
        if dts < self.cut_at {
            return Offered::Held;
        }
        packet.pts = packet.pts + offset;
        packet.dts = dts;
        self.latest = self.latest.max(Some(dts));
        self.anchor = (now, self.latest.unwrap_or(dts));
        Offered::Passed
    }

    fn cut_in(&mut self, now: Instant, seat: SeatId, packet: &mut Packet) -> Offered {
        let at = match self.latest {
            Some(latest) => (latest + SPLICE).max(self.time_at(now)),
            None => MediaTime::ZERO,
        };
        let offset = at - packet.dts;
        self.cut_at = at;
        self.pass(now, packet, offset);
        let from = std::mem::replace(&mut self.on_air, OnAir::Seat(seat));
        self.since = now;
        let rank = self.contender(seat).map(|contender| contender.rank);
        let dismissed: Vec<SeatId> = self
            .contenders
            .iter()
            .filter(|contender| Some(contender.rank) == rank && contender.id < seat)
            .map(|contender| contender.id)
            .collect();
        self.contenders.retain(|contender| !dismissed.contains(&contender.id));
        if let Some(contender) = self.contenders.iter_mut().find(|contender| contender.id == seat) {
            contender.offset = offset;
        }
        Offered::CutIn { from, dismissed }
    }

    /// The live publisher of the highest rank; of two with the same rank the newer one.
    fn wanted(&self, now: Instant) -> Option<SeatId> {
        let best = self
            .contenders
            .iter()
            .filter(|contender| is_live(contender, now))
            .min_by_key(|contender| (contender.rank, std::cmp::Reverse(contender.id)));
        best.map(|contender| contender.id)
    }

    fn contender(&self, seat: SeatId) -> Option<&Contender> {
        self.contenders.iter().find(|contender| contender.id == seat)
    }
}

fn is_live(contender: &Contender, now: Instant) -> bool {
    now.saturating_duration_since(contender.last_packet) < STARVED_AFTER
}

/// True if a decoder, and so a show, can begin with this packet.
fn is_start(packet: &Packet, tracks: &Tracks) -> bool {
    match tracks.first(TrackKind::Video) {
        Some(video) => packet.track == video.id && packet.is_keyframe(),
        None => true,
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use bytes::Bytes;
    use proptest::prelude::*;
    use rstest::rstest;
    use waverant_media::TrackId;
    use waverant_media::testing::h264_and_aac;

    use super::*;

    /// A program on a clock that is only moved by hand.
    struct ProgramBench {
        program: Program,
        tracks: Tracks,
        began: Instant,
        now: Instant,
    }

    impl ProgramBench {
        fn new(takeover: Takeover, has_slate: bool) -> Self {
            let began = Instant::now();
            Self { program: Program::new(takeover, has_slate, began), tracks: h264_and_aac(), began, now: began }
        }

        fn at(&mut self, millis: u64) -> &mut Self {
            self.now = self.began + Duration::from_millis(millis);
            self
        }

        fn join(&mut self, key_id: u64, rank: u8) -> Option<Joined> {
            self.program.join(self.now, Opener::Key(key_id), rank)
        }

        fn seat(&mut self, key_id: u64, rank: u8) -> SeatId {
            self.join(key_id, rank).expect("a seat is free").seat
        }

        /// Offers a picture with its publisher's time; returns the session's time if it passed.
        fn picture(&mut self, seat: SeatId, millis: i64, keyframe: bool) -> (Offered, Option<i64>) {
            let mut packet = packet(TrackId::VIDEO, millis, keyframe);
            let offered = self.program.offer(self.now, seat, &mut packet, &self.tracks);
            let passed = (offered != Offered::Held).then(|| packet.dts.millis());
            (offered, passed)
        }

        fn passed(&mut self, seat: SeatId, millis: i64, keyframe: bool) -> Option<i64> {
            self.picture(seat, millis, keyframe).1
        }
    }

    fn packet(track: TrackId, millis: i64, keyframe: bool) -> Packet {
        let kind = if track == TrackId::VIDEO { TrackKind::Video } else { TrackKind::Audio };
        let dts = MediaTime::from_millis(millis);
        let random_access = keyframe || kind == TrackKind::Audio;
        Packet { track, kind, dts, pts: dts, random_access, payload: Bytes::from_static(b"x") }
    }

    #[test]
    fn a_show_begins_at_zero_with_a_keyframe_whatever_the_publisher_counts() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        let seat = stage.seat(1, 0);
        assert_eq!(stage.passed(seat, 70_000, false), None);
        assert_eq!(stage.passed(seat, 70_040, true), Some(0));
        assert_eq!(stage.passed(seat, 70_080, false), Some(40));
        let mut early = packet(TrackId::AUDIO, 70_020, true);
        assert_eq!(stage.program.offer(stage.now, seat, &mut early, &stage.tracks), Offered::Held);
    }

    #[test]
    fn sound_alone_begins_anywhere() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        let seat = stage.seat(1, 0);
        let mut sound = packet(TrackId::AUDIO, 500, true);
        assert!(matches!(stage.program.offer(stage.now, seat, &mut sound, &Tracks::new()), Offered::CutIn { .. }));
        assert_eq!(sound.dts, MediaTime::ZERO);
    }

    #[test]
    fn a_returning_publisher_goes_on_after_the_gap() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        let first = stage.seat(1, 0);
        stage.passed(first, 5000, true);
        stage.at(1000).passed(first, 6000, false);
        assert!(stage.program.leave(stage.now, first));
        let second = stage.at(5000).seat(1, 0);
        assert_eq!(stage.passed(second, 0, false), None, "it begins with a keyframe");
        assert_eq!(stage.at(5040).passed(second, 40, true), Some(5040));
        assert_eq!(stage.at(5080).passed(second, 80, false), Some(5080));
    }

    #[test]
    fn a_second_publisher_is_refused_or_takes_over_at_its_keyframe() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        let first = stage.seat(1, 0);
        assert_eq!(stage.join(2, 0), None);
        stage.program.set_rules(Takeover::Replace, false);
        stage.passed(first, 0, true);
        let second = stage.seat(2, 0);
        assert_eq!(stage.passed(second, 9000, false), None);
        assert_eq!(stage.at(40).passed(first, 40, false), Some(40), "the first stays until the second is ready");
        let (offered, time) = stage.at(80).picture(second, 9080, true);
        assert_eq!(offered, Offered::CutIn { from: OnAir::Seat(first), dismissed: vec![first] });
        assert_eq!(time, Some(80), "without a gap");
        assert_eq!(stage.passed(first, 80, true), None, "who is dismissed is not heard any more");
    }

    /// A phone that changed networks: its old connection still looks alive.
    #[rstest]
    #[case(Takeover::Refuse)]
    #[case(Takeover::Replace)]
    fn the_same_key_replaces_its_older_connection(#[case] takeover: Takeover) {
        let mut stage = ProgramBench::new(takeover, false);
        let old = stage.seat(1, 0);
        stage.passed(old, 0, true);
        let new = stage.at(700).seat(1, 0);
        let (offered, time) = stage.picture(new, 0, true);
        assert_eq!(offered, Offered::CutIn { from: OnAir::Seat(old), dismissed: vec![old] });
        assert_eq!(time, Some(700));
        assert!(!stage.program.leave(stage.now, old), "the old one goes unnoticed");
        assert_eq!(stage.program.on_air(), OnAir::Seat(new));
    }

    #[test]
    fn a_newcomer_that_never_sends_a_keyframe_changes_nothing() {
        let mut stage = ProgramBench::new(Takeover::Replace, false);
        let first = stage.seat(1, 0);
        stage.passed(first, 0, true);
        let second = stage.seat(2, 0);
        stage.passed(second, 0, false);
        assert!(!stage.program.leave(stage.now, second));
        assert_eq!(stage.passed(first, 40, false), Some(40));
    }

    #[test]
    fn a_backup_waits_takes_over_and_gives_back() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        let main = stage.seat(1, 0);
        let joined = stage.join(2, 1).unwrap();
        assert!(joined.is_standby && joined.dismissed.is_empty());
        let backup = joined.seat;
        stage.passed(main, 0, true);
        assert_eq!(stage.passed(backup, 0, true), None);
        stage.at(1000);
        assert!(stage.program.leave(stage.now, main));
        assert_eq!(stage.passed(backup, 1000, false), None);
        assert_eq!(stage.at(1400).passed(backup, 1400, true), Some(1400));
        let main = stage.at(2000).seat(1, 0);
        assert_eq!(stage.passed(backup, 2000, false), Some(2000));
        let (offered, _) = stage.at(2040).picture(main, 0, true);
        assert_eq!(offered, Offered::CutIn { from: OnAir::Seat(backup), dismissed: vec![] });
        assert_eq!(stage.passed(backup, 2040, true), None, "the backup waits again");
        // A main that falls silent without leaving is as good as lost.
        assert_eq!(stage.at(4100).passed(backup, 4100, true), Some(4100));
        assert_eq!(stage.at(4200).passed(main, 2200, false), None);
        assert_eq!(stage.at(4240).passed(main, 2240, true), Some(4240));
    }

    #[test]
    fn a_backup_that_comes_again_replaces_itself_on_standby() {
        let mut stage = ProgramBench::new(Takeover::Refuse, false);
        stage.seat(1, 0);
        let old = stage.seat(2, 1);
        let again = stage.join(2, 1).unwrap();
        assert_eq!(again.dismissed, [old]);
    }

    #[test]
    fn the_slate_goes_on_at_a_loss_and_off_at_a_keyframe() {
        let mut stage = ProgramBench::new(Takeover::Refuse, true);
        let seat = stage.seat(1, 0);
        assert_eq!(stage.program.slate_due(), None, "before the show there is nothing to hold");
        stage.passed(seat, 0, true);
        stage.at(1000).passed(seat, 1000, false);
        assert_eq!(stage.program.slate_due(), Some(stage.now + STARVED_AFTER));
        stage.program.leave(stage.now, seat);
        assert_eq!(stage.program.begin_slate(stage.now), Some(MediaTime::from_millis(1033)));
        for millis in [1033, 1066, 1500] {
            assert!(stage.program.offer_slate(&packet(TrackId::VIDEO, millis, true)));
        }
        let back = stage.at(1520).seat(1, 0);
        assert_eq!(stage.passed(back, 0, false), None);
        assert!(stage.program.offer_slate(&packet(TrackId::VIDEO, 1533, false)));
        let (offered, time) = stage.at(1540).picture(back, 20, true);
        assert_eq!(offered, Offered::CutIn { from: OnAir::Slate, dismissed: vec![] });
        assert_eq!(time, Some(1566));
        assert!(!stage.program.offer_slate(&packet(TrackId::VIDEO, 1566, false)));
    }

    #[test]
    fn a_silent_publisher_gets_the_slate_and_returns_at_a_keyframe() {
        let mut stage = ProgramBench::new(Takeover::Refuse, true);
        let seat = stage.seat(1, 0);
        stage.passed(seat, 0, true);
        let due = stage.now + STARVED_AFTER;
        assert_eq!(stage.program.begin_slate(due - Duration::from_millis(1)), None);
        assert!(stage.program.begin_slate(due).is_some());
        assert_eq!(stage.at(2500).passed(seat, 40, false), None);
        assert_eq!(stage.at(2540).passed(seat, 80, true), Some(2540));
    }

    #[test]
    fn seats_are_bounded() {
        let mut stage = ProgramBench::new(Takeover::Replace, false);
        for key in 0..8 {
            stage.seat(key, 0);
        }
        assert_eq!(stage.join(9, 0), None);
    }

    /// The slate used to flash between the last publisher's goodbye and the end of the session.
    #[test]
    fn a_show_that_ends_in_order_ends_without_the_slate() {
        let mut stage = ProgramBench::new(Takeover::Refuse, true);
        let seat = stage.seat(1, 0);
        stage.picture(seat, 0, true);
        let now = stage.at(500).now;
        stage.program.finish(now);
        stage.program.leave(now, seat);
        assert_eq!(stage.program.slate_due(), None);
        assert_eq!(stage.program.begin_slate(now + Duration::from_secs(5)), None);
        // Ended while the slate is on.
        let mut stage = ProgramBench::new(Takeover::Refuse, true);
        let seat = stage.seat(1, 0);
        stage.picture(seat, 0, true);
        let now = stage.at(500).now;
        stage.program.leave(now, seat);
        assert!(stage.program.begin_slate(now).is_some());
        stage.program.finish(stage.now);
        assert!(
            stage.program.on_air() != OnAir::Slate && !stage.program.offer_slate(&packet(TrackId::VIDEO, 600, true))
        );
    }

    proptest! {
        /// Whoever comes, goes, falls silent or counts however: the show's times never go back, and
        /// every change begins with a keyframe.
        #[test]
        fn times_rise_and_changes_begin_with_keyframes(
            steps in proptest::collection::vec((0u8..6, 0u64..4, 0i64..100_000, any::<bool>(), 0u64..3000), 1..300),
            has_slate in any::<bool>(),
            replaces in any::<bool>(),
        ) {
            let takeover = if replaces { Takeover::Replace } else { Takeover::Refuse };
            let mut stage = ProgramBench::new(takeover, has_slate);
            let mut seats: Vec<(SeatId, i64)> = Vec::new();
            let (mut latest, mut millis) = (None, 0);
            for (action, key, time, keyframe, wait) in steps {
                millis += wait / 10;
                stage.at(millis);
                match action {
                    0 => seats.extend(stage.join(key, u8::from(key > 1)).map(|joined| (joined.seat, time))),
                    1 if !seats.is_empty() => {
                        let (seat, _) = seats.remove(usize::try_from(key).unwrap() % seats.len());
                        let now = stage.now;
                        stage.program.leave(now, seat);
                    }
                    2 => {
                        let now = stage.now;
                        if let Some(time) = stage.program.begin_slate(now) {
                            prop_assert!(Some(time.millis()) > latest);
                            prop_assert!(stage.program.offer_slate(&packet(TrackId::VIDEO, time.millis(), true)));
                            latest = Some(time.millis());
                        }
                    }
                    _ if !seats.is_empty() => {
                        let place = usize::try_from(key).unwrap() % seats.len();
                        seats[place].1 += i64::try_from(wait).unwrap() / 10;
                        let (seat, time) = seats[place];
                        let (offered, passed) = stage.picture(seat, time, keyframe);
                        if matches!(offered, Offered::CutIn { .. }) {
                            prop_assert!(keyframe);
                            prop_assert!(passed > latest);
                        }
                        if passed.is_some() {
                            prop_assert!(passed >= latest);
                            latest = passed;
                        }
                    }
                    _ => {}
                }
            }
        }
    }
}
