use std::time::Instant;

use super::{LegHistory, LegPolicy};

/// Where a leg stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LegState {
    /// A connection is being made.
    Dialing,
    /// The platform takes the stream.
    Carrying,
    /// The connection was lost or could not be made.
    WaitingToRedial {
        /// When it is tried again.
        until: Instant,
    },
    /// The platform said no.
    Refused {
        /// When it is tried again.
        until: Instant,
    },
    /// Switched off, held back, not yet to start, or the session is over.
    Off {
        /// When it starts by itself; none if it waits for an order.
        until: Option<Instant>,
    },
}

/// The life of a leg. A move that the state does not allow changes nothing.
///
/// ```text
/// off ─▶ dialing ─▶ carrying
///          ▲  │        │
///          │  ├────────┴─▶ waiting to redial ─┐      (moved: dialing or carrying ─▶ dialing)
///          │  └──────────▶ refused ───────────┤
///          └──────────────────────────────────┘
/// ```
///
/// Off can be reached from everywhere: for good, until an order comes, or until a time at which
/// the leg starts by itself.
#[derive(Clone, Debug)]
pub struct Leg {
    policy: LegPolicy,
    state: LegState,
    since: Instant,
    reason: Option<String>,
    attempt: u32,
    refusal_count: u32,
    redial_count: u32,
    random: u32,
    history: LegHistory,
}

impl Leg {
    /// A leg that is off at `now`; `seed` spreads its redials.
    pub fn new(policy: LegPolicy, now: Instant, seed: u32) -> Self {
        Self {
            policy,
            state: LegState::Off { until: None },
            since: now,
            reason: None,
            attempt: 0,
            refusal_count: 0,
            redial_count: 0,
            random: seed | 1,
            history: LegHistory::default(),
        }
    }

    /// Where the leg stands.
    pub fn state(&self) -> LegState {
        self.state
    }

    /// Since when it stands there.
    pub fn since(&self) -> Instant {
        self.since
    }

    /// Why the last connection ended, or could not be made.
    pub fn reason(&self) -> Option<&str> {
        self.reason.as_deref()
    }

    /// How often the leg dialed again.
    pub fn redial_count(&self) -> u32 {
        self.redial_count
    }

    /// What the leg did so far.
    pub fn history(&self) -> &LegHistory {
        &self.history
    }

    /// Switches the leg on: it dials.
    pub fn switch_on(&mut self, now: Instant) {
        if self.is_off() {
            (self.attempt, self.refusal_count, self.reason) = (0, 0, None);
            self.enter(now, LegState::Dialing);
        }
    }

    /// Switches the leg off.
    pub fn switch_off(&mut self, now: Instant) {
        self.stay_off(now, None, None);
    }

    /// Keeps the leg off until `until`, when it dials by itself.
    pub fn start_at(&mut self, now: Instant, until: Instant, reason: impl Into<String>) {
        self.stay_off(now, Some(until), Some(reason.into()));
    }

    /// Keeps the leg off while what is to be sent is not what the destination accepts.
    pub fn hold_back(&mut self, now: Instant, reason: impl Into<String>) {
        self.stay_off(now, None, Some(reason.into()));
    }

    fn stay_off(&mut self, now: Instant, until: Option<Instant>, reason: Option<String>) {
        let state = LegState::Off { until };
        // Why the last connection ended is of interest for as long as nothing newer is known.
        if reason.is_some() {
            self.reason = reason;
        }
        if self.state != state {
            self.enter(now, state);
        }
    }

    fn is_off(&self) -> bool {
        matches!(self.state, LegState::Off { .. })
    }

    /// The platform takes the stream.
    pub fn taken(&mut self, now: Instant) {
        if self.state == LegState::Dialing {
            self.enter(now, LegState::Carrying);
        }
    }

    /// The platform said no; it is asked again, but seldom.
    pub fn refused(&mut self, now: Instant, reason: impl Into<String>) {
        if matches!(self.state, LegState::Dialing | LegState::Carrying) {
            self.reason = Some(reason.into());
            self.forget_if_steady(now);
            let until = now + self.policy.wait_after_refusal(self.refusal_count);
            self.refusal_count = self.refusal_count.saturating_add(1);
            self.enter(now, LegState::Refused { until });
        }
    }

    /// The connection was lost, or could not be made.
    pub fn lost(&mut self, now: Instant, reason: impl Into<String>) {
        if !matches!(self.state, LegState::Dialing | LegState::Carrying) {
            return;
        }
        self.reason = Some(reason.into());
        self.forget_if_steady(now);
        let random = self.next_random();
        let until = now + self.policy.wait(self.attempt, random);
        self.attempt = self.attempt.saturating_add(1);
        self.enter(now, LegState::WaitingToRedial { until });
    }

    /// The platform wants us at another address, or to come anew: that is done at once.
    pub fn moved(&mut self, now: Instant, reason: impl Into<String>) {
        if matches!(self.state, LegState::Dialing | LegState::Carrying) {
            self.reason = Some(reason.into());
            self.forget_if_steady(now);
            self.redial_count += 1;
            self.enter(now, LegState::Dialing);
        }
    }

    /// A leg that carried for a while starts anew with its patience. One that was taken and then
    /// refused at once, again and again, does not.
    fn forget_if_steady(&mut self, now: Instant) {
        let carried = now.saturating_duration_since(self.since);
        if self.state == LegState::Carrying && carried >= self.policy.steady_after {
            self.attempt = 0;
            self.refusal_count = 0;
        }
    }

    /// Dials again when the wait is over; harmless if called early.
    pub fn handle_timeout(&mut self, now: Instant) {
        if self.poll_timeout().is_some_and(|until| now >= until) {
            if self.is_off() {
                return self.switch_on(now);
            }
            self.redial_count += 1;
            self.enter(now, LegState::Dialing);
        }
    }

    /// When [`handle_timeout`](Self::handle_timeout) is to be called.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        match self.state {
            LegState::WaitingToRedial { until } | LegState::Refused { until } => Some(until),
            LegState::Off { until } => until,
            _ => None,
        }
    }

    fn enter(&mut self, now: Instant, state: LegState) {
        match state {
            LegState::Carrying => self.history.begin(now),
            LegState::Off { .. } => self.history.stop(now, None),
            _ => self.history.stop(now, self.reason.as_deref().or(Some("the connection was lost"))),
        }
        self.state = state;
        self.since = now;
    }

    fn next_random(&mut self) -> u32 {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 17;
        self.random ^= self.random << 5;
        self.random
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use std::time::Duration;

    use super::*;

    fn dialing() -> (Leg, Instant) {
        let now = Instant::now();
        let mut leg = Leg::new(LegPolicy::default(), now, 7);
        leg.switch_on(now);
        (leg, now)
    }

    /// Lets the leg wait until it dials; returns how long that took.
    fn wait(leg: &mut Leg, now: &mut Instant) -> Duration {
        let until = leg.poll_timeout().expect("the leg waits");
        let waited = until - *now;
        leg.handle_timeout(until - Duration::from_millis(1));
        assert_ne!(leg.state(), LegState::Dialing, "it dialed too early");
        leg.handle_timeout(until);
        assert_eq!(leg.state(), LegState::Dialing);
        *now = until;
        waited
    }

    #[test]
    fn waits_double_up_to_the_longest() {
        let (mut leg, mut now) = dialing();
        for attempt in 0..12u32 {
            leg.lost(now, "connection refused");
            let waited = wait(&mut leg, &mut now);
            let full = Duration::from_millis(500).saturating_mul(2u32.pow(attempt)).min(Duration::from_secs(30));
            assert!(waited <= full && waited >= full * 3 / 4, "attempt {attempt} waited {waited:?}");
        }
        assert_eq!(leg.redial_count(), 12);
    }

    #[test]
    fn a_leg_that_carried_long_begins_with_the_first_wait() {
        let (mut leg, mut now) = dialing();
        for _ in 0..6 {
            leg.lost(now, "reset");
            wait(&mut leg, &mut now);
        }
        leg.taken(now);
        now += Duration::from_secs(19);
        leg.lost(now, "reset");
        assert!(wait(&mut leg, &mut now) > Duration::from_secs(10), "19 s are not yet steady");
        leg.taken(now);
        now += Duration::from_secs(20);
        leg.lost(now, "reset");
        assert!(wait(&mut leg, &mut now) <= Duration::from_millis(500));
    }

    #[test]
    fn refusals_wait_longer_and_longer_and_keep_their_reason() {
        let (mut leg, mut now) = dialing();
        for expected in [2, 4, 8, 16, 32, 60, 60] {
            leg.refused(now, "NetStream.Publish.BadName");
            assert!(matches!(leg.state(), LegState::Refused { .. }));
            assert_eq!(wait(&mut leg, &mut now), Duration::from_secs(expected));
        }
        assert_eq!(leg.reason(), Some("NetStream.Publish.BadName"));
    }

    /// A platform that takes the stream and says no at once must not be asked every two seconds.
    #[test]
    fn being_taken_for_a_moment_does_not_shorten_the_wait() {
        let (mut leg, mut now) = dialing();
        for expected in [2, 4, 8] {
            leg.taken(now);
            leg.refused(now, "no common codec");
            assert_eq!(wait(&mut leg, &mut now), Duration::from_secs(expected));
        }
        leg.taken(now);
        now += Duration::from_secs(20);
        leg.refused(now, "no common codec");
        assert_eq!(wait(&mut leg, &mut now), Duration::from_secs(2), "but having carried for a while does");
    }

    #[test]
    fn a_moved_leg_dials_at_once() {
        let (mut leg, now) = dialing();
        leg.moved(now, "the platform sent us to another address");
        assert_eq!((leg.state(), leg.redial_count()), (LegState::Dialing, 1));
        leg.taken(now);
        leg.moved(now, "the platform asked us to connect anew");
        assert_eq!((leg.state(), leg.redial_count()), (LegState::Dialing, 2));
        assert_eq!(leg.reason(), Some("the platform asked us to connect anew"));
        leg.lost(now, "reset");
        let waiting = leg.state();
        leg.moved(now, "late");
        assert_eq!(leg.state(), waiting, "who waits is not moved");
    }

    #[test]
    fn a_leg_that_is_off_stays_off() {
        let (mut leg, now) = dialing();
        leg.switch_off(now);
        leg.lost(now, "late");
        leg.refused(now, "late");
        leg.taken(now);
        assert_eq!((leg.state(), leg.poll_timeout()), (LegState::Off { until: None }, None));
        leg.switch_on(now);
        assert_eq!((leg.state(), leg.reason()), (LegState::Dialing, None));
    }

    #[test]
    fn a_leg_that_starts_later_starts_by_itself() {
        let (mut leg, now) = dialing();
        let until = now + Duration::from_secs(30);
        leg.start_at(now, until, "it starts 30 s after the show");
        assert_eq!((leg.state(), leg.poll_timeout()), (LegState::Off { until: Some(until) }, Some(until)));
        assert_eq!(leg.reason(), Some("it starts 30 s after the show"));
        leg.handle_timeout(until - Duration::from_millis(1));
        assert_eq!(leg.state(), LegState::Off { until: Some(until) });
        leg.handle_timeout(until);
        assert_eq!((leg.state(), leg.redial_count(), leg.reason()), (LegState::Dialing, 0, None));
    }

    #[test]
    fn a_leg_that_is_held_back_waits_for_an_order() {
        let (mut leg, now) = dialing();
        leg.taken(now);
        leg.hold_back(now, "the bitrate is 6.2 Mbit/s and it takes 4.5");
        assert_eq!((leg.state(), leg.poll_timeout()), (LegState::Off { until: None }, None));
        assert!(leg.reason().unwrap().contains("4.5"));
        leg.switch_on(now);
        assert_eq!((leg.state(), leg.reason()), (LegState::Dialing, None));
    }

    #[test]
    fn gaps_are_kept_with_their_reasons() {
        let (mut leg, start) = dialing();
        let at = |seconds| start + Duration::from_secs(seconds);
        leg.taken(at(1));
        leg.lost(at(11), "reset");
        leg.handle_timeout(at(12));
        leg.refused(at(13), "no");
        leg.handle_timeout(at(20));
        leg.taken(at(21));
        leg.switch_off(at(31));
        leg.switch_on(at(60));
        leg.taken(at(61));
        leg.moved(at(71), "elsewhere");
        let (history, now) = (leg.history(), at(73));
        assert_eq!(history.carried(now), Duration::from_secs(30));
        let gaps = history.gaps(now);
        let told: Vec<(u64, &str)> = gaps.iter().map(|gap| (gap.length.as_secs(), gap.reason.as_str())).collect();
        assert_eq!(told, [(10, "reset"), (2, "elsewhere")], "the first reason is the cause");
        assert_eq!(history.lost(now), (2, Duration::from_secs(12)), "what was switched off is no gap");
        assert_eq!(history.first_carried(), Some(at(1)));
    }

    #[test]
    fn illegal_moves_change_nothing() {
        let (mut leg, now) = dialing();
        leg.lost(now, "reset");
        let waiting = leg.state();
        leg.taken(now);
        leg.lost(now, "again");
        leg.switch_on(now);
        assert_eq!((leg.state(), leg.reason()), (waiting, Some("reset")));
    }
}
