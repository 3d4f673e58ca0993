use std::time::{Duration, Instant};

/// Where a session stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SessionState {
    /// A publisher is there.
    OnAir,
    /// The publisher is lost; the session waits for its return.
    Holding {
        /// When waiting ends.
        until: Instant,
    },
    /// The session has ended.
    Over,
}

/// The life of a session.
///
/// ```text
/// on air ── publisher lost ──▶ holding ── hold time passes ──▶ over
///   ▲ │                           │                             ▲
///   │ └──── publisher ends ───────┼─────────────────────────────┘
///   └────── publisher returns ────┘
/// ```
#[derive(Clone, Debug)]
pub struct SessionLife {
    state: SessionState,
    since: Instant,
    hold: Duration,
    loss_count: u32,
}

impl SessionLife {
    /// A session that begins at `now` and waits `hold` for a lost publisher.
    pub fn new(now: Instant, hold: Duration) -> Self {
        Self { state: SessionState::OnAir, since: now, hold, loss_count: 0 }
    }

    /// Where the session stands.
    pub fn state(&self) -> SessionState {
        self.state
    }

    /// Since when it stands there.
    pub fn since(&self) -> Instant {
        self.since
    }

    /// How often the publisher was lost.
    pub fn loss_count(&self) -> u32 {
        self.loss_count
    }

    /// The publisher is gone without an end. With a hold time of zero the session is over.
    pub fn publisher_lost(&mut self, now: Instant) {
        if self.state == SessionState::OnAir {
            self.loss_count += 1;
            let until = now + self.hold;
            self.enter(now, if self.hold.is_zero() { SessionState::Over } else { SessionState::Holding { until } });
        }
    }

    /// A publisher is back; true if the session goes on with it.
    pub fn publisher_returned(&mut self, now: Instant) -> bool {
        let holding = matches!(self.state, SessionState::Holding { until } if now < until);
        if holding {
            self.enter(now, SessionState::OnAir);
        }
        holding
    }

    /// The show was ended, by the publisher or by us.
    pub fn end(&mut self, now: Instant) {
        if self.state != SessionState::Over {
            self.enter(now, SessionState::Over);
        }
    }

    /// Acts on the end of the hold time; harmless if called early.
    pub fn handle_timeout(&mut self, now: Instant) {
        if matches!(self.state, SessionState::Holding { until } if now >= until) {
            self.enter(now, SessionState::Over);
        }
    }

    /// When [`handle_timeout`](Self::handle_timeout) is to be called.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        match self.state {
            SessionState::Holding { until } => Some(until),
            _ => None,
        }
    }

    fn enter(&mut self, now: Instant, state: SessionState) {
        self.state = state;
        self.since = now;
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    const HOLD: Duration = Duration::from_secs(10);

    #[test]
    fn a_publisher_that_returns_in_time_goes_on() {
        let start = Instant::now();
        let mut life = SessionLife::new(start, HOLD);
        life.publisher_lost(start + HOLD);
        assert_eq!(life.poll_timeout(), Some(start + 2 * HOLD));
        life.handle_timeout(start + HOLD + HOLD / 2);
        assert!(life.publisher_returned(start + HOLD + HOLD / 2));
        assert_eq!((life.state(), life.loss_count()), (SessionState::OnAir, 1));
        assert_eq!(life.poll_timeout(), None);
    }

    #[test]
    fn the_hold_time_ends_the_session() {
        let start = Instant::now();
        let mut life = SessionLife::new(start, HOLD);
        life.publisher_lost(start);
        assert!(!life.publisher_returned(start + HOLD));
        life.handle_timeout(start + HOLD);
        assert_eq!(life.state(), SessionState::Over);
        assert!(!life.publisher_returned(start + HOLD));
    }

    #[test]
    fn an_ordered_end_does_not_wait() {
        let start = Instant::now();
        let mut life = SessionLife::new(start, HOLD);
        life.end(start);
        life.publisher_lost(start);
        assert_eq!((life.state(), life.loss_count()), (SessionState::Over, 0));
    }

    #[test]
    fn without_a_hold_time_a_loss_is_the_end() {
        let start = Instant::now();
        let mut life = SessionLife::new(start, Duration::ZERO);
        life.publisher_lost(start);
        assert_eq!(life.state(), SessionState::Over);
    }
}
