use std::time::{Duration, Instant};

use super::life::{SessionLife, SessionState};
use super::program::{Joined, Program, SeatId, Takeover};
use crate::Opener;

/// Why a publisher cannot join a session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotJoined {
    /// Others are there, and the rules let nobody else in.
    Busy,
    /// Another sends with the same key, which is for one at a time.
    KeyInUse,
    /// The session is over: the publisher begins another one.
    Over,
}

/// A publisher that joined.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attended {
    /// Its seat, and what it changes.
    pub joined: Joined,
    /// True if the session was holding and goes on with it.
    pub has_returned: bool,
}

/// What a publisher's going comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Departure {
    /// It had been dismissed, or the session is over already: nothing.
    OfNoMatter,
    /// Others are there.
    OthersStay {
        /// True if it was on air.
        was_on_air: bool,
    },
    /// It was the last, and ended in order: so does the session.
    Ended,
    /// It was the last, and was lost: the session holds, or is over where the rules say so.
    Lost,
}

/// Who comes to a session and goes, and what that makes of its life: one state machine, so that no
/// publisher falls between another's going and the session's end.
///
/// ```text
/// on air   somebody has a seat
/// holding  nobody has
/// over     nobody can get one
/// ```
#[derive(Clone, Debug)]
pub struct Attendance {
    program: Program,
    life: SessionLife,
}

impl Attendance {
    /// A session that begins at `now` and waits `hold` for publishers that are lost.
    pub fn new(takeover: Takeover, hold: Duration, now: Instant) -> Self {
        // The slate is added when one is made that fits.
        Self { program: Program::new(takeover, false, now), life: SessionLife::new(now, hold) }
    }

    /// Who is on air.
    pub fn program(&mut self) -> &mut Program {
        &mut self.program
    }

    /// Where the session stands.
    pub fn life(&self) -> &SessionLife {
        &self.life
    }

    /// True once nobody can get a seat any more.
    pub fn is_over(&self) -> bool {
        self.life.state() == SessionState::Over
    }

    /// Seats a publisher whose key is for one encoder at a time: it takes over from none that sends.
    ///
    /// # Errors
    /// [`NotJoined`], as for [`join`](Self::join).
    pub fn join_alone(&mut self, now: Instant, opener: Opener, rank: u8) -> Result<Attended, NotJoined> {
        if self.program.has_live(now, opener) { Err(NotJoined::KeyInUse) } else { self.join(now, opener, rank) }
    }

    /// Seats a publisher.
    ///
    /// # Errors
    /// [`NotJoined`]; nothing is changed then, but that a hold whose time is over has ended.
    pub fn join(&mut self, now: Instant, opener: Opener, rank: u8) -> Result<Attended, NotJoined> {
        self.life.handle_timeout(now);
        if self.life.state() == SessionState::Over {
            return Err(NotJoined::Over);
        }
        let joined = self.program.join(now, opener, rank).ok_or(NotJoined::Busy)?;
        let has_returned = self.life.publisher_returned(now);
        Ok(Attended { joined, has_returned })
    }

    /// A publisher is gone: for good if it said so, else it may return.
    pub fn leave(&mut self, now: Instant, seat: SeatId, is_ended: bool) -> Departure {
        let was_dismissed = !self.program.has_seat(seat);
        let was_on_air = self.program.leave(now, seat);
        if was_dismissed || self.life.state() == SessionState::Over {
            return Departure::OfNoMatter;
        }
        if self.program.has_seats() {
            return Departure::OthersStay { was_on_air };
        }
        if is_ended {
            self.end(now);
            return Departure::Ended;
        }
        self.life.publisher_lost(now);
        Departure::Lost
    }

    /// Ends the session from our side.
    pub fn end(&mut self, now: Instant) {
        self.program.finish(now);
        self.life.end(now);
    }

    /// Acts on the end of the hold time; harmless if called early.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.life.handle_timeout(now);
    }

    /// When [`handle_timeout`](Self::handle_timeout) is to be called.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.life.poll_timeout()
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const HOLD: Duration = Duration::from_secs(5);

    #[derive(Clone, Copy, Debug)]
    enum Move {
        Join { key: u64, rank: u8 },
        Leave { which: usize, is_ended: bool },
        Pass { millis: u64 },
        Timeout,
        End,
    }

    fn any_move() -> impl Strategy<Value = Move> {
        prop_oneof![
            4 => (0u64..4, 0u8..2).prop_map(|(key, rank)| Move::Join { key, rank }),
            4 => (0usize..8, any::<bool>()).prop_map(|(which, is_ended)| Move::Leave { which, is_ended }),
            3 => (0u64..6000).prop_map(|millis| Move::Pass { millis }),
            2 => Just(Move::Timeout),
            1 => Just(Move::End),
        ]
    }

    proptest! {
        /// All orders in which publishers come and go, time passes and somebody ends the session.
        #[test]
        fn nobody_falls_between_going_and_coming(
            moves in proptest::collection::vec(any_move(), 0..60),
            replaces: bool,
            holds: bool,
        ) {
            let takeover = if replaces { Takeover::Replace } else { Takeover::Refuse };
            let hold = if holds { HOLD } else { Duration::ZERO };
            let mut now = Instant::now();
            let mut session = Attendance::new(takeover, hold, now);
            let mut seats = vec![session.join(now, Opener::Key(0), 0).unwrap().joined.seat];
            let mut was_over = false;
            for one in moves {
                match one {
                    Move::Join { key, rank } => match session.join(now, Opener::Key(key), rank) {
                        Ok(attended) => {
                            prop_assert_eq!(session.life().state(), SessionState::OnAir);
                            seats.push(attended.joined.seat);
                        }
                        Err(NotJoined::Over) => prop_assert_eq!(session.life().state(), SessionState::Over),
                        Err(NotJoined::Busy | NotJoined::KeyInUse) => prop_assert!(session.program().has_seats()),
                    },
                    Move::Leave { which, is_ended } => {
                        if let Some(seat) = seats.get(which).copied() {
                            session.leave(now, seat, is_ended);
                        }
                    }
                    Move::Pass { millis } => now += Duration::from_millis(millis),
                    Move::Timeout => session.handle_timeout(now),
                    Move::End => session.end(now),
                }
                let has_seats = session.program().has_seats();
                match session.life().state() {
                    SessionState::OnAir => prop_assert!(has_seats, "on air with nobody"),
                    SessionState::Holding { .. } => prop_assert!(!has_seats, "holding with somebody there"),
                    SessionState::Over => {}
                }
                prop_assert!(!was_over || session.life().state() == SessionState::Over, "it began again");
                was_over = session.life().state() == SessionState::Over;
            }
        }
    }

    #[test]
    fn a_key_for_one_at_a_time_is_taken_over_only_once_it_is_silent() {
        let (now, mine) = (Instant::now(), Opener::Key(1));
        let mut session = Attendance::new(Takeover::Refuse, HOLD, now);
        session.join_alone(now, mine, 0).unwrap();
        let soon = now + Duration::from_millis(1999);
        assert_eq!(session.join_alone(soon, mine, 0), Err(NotJoined::KeyInUse));
        let other = session.clone().join_alone(soon, Opener::Key(2), 1);
        assert!(other.is_ok_and(|attended| attended.joined.is_standby), "other keys are another matter");
        assert!(session.join_alone(now + Duration::from_secs(2), mine, 0).is_ok());
    }

    /// The last publisher leaves while another one comes: whichever is first, the session goes on
    /// with it or another one begins.
    #[test]
    fn a_hold_whose_time_is_over_takes_nobody_in() {
        let now = Instant::now();
        let mut session = Attendance::new(Takeover::Refuse, HOLD, now);
        let seat = session.join(now, Opener::Key(1), 0).unwrap().joined.seat;
        assert_eq!(session.leave(now, seat, false), Departure::Lost);
        assert_eq!(session.join(now + HOLD, Opener::Key(1), 0), Err(NotJoined::Over));
        assert_eq!(session.life().loss_count(), 1);
    }
}
