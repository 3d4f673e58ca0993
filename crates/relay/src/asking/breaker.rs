use std::time::{Duration, Instant};

/// So many questions in a row without an answer, and it is left alone.
const PATIENCE: u32 = 5;

/// How long it is left alone first; each time in vain twice as long.
const FIRST_REST: Duration = Duration::from_secs(5);
const LONGEST_REST: Duration = Duration::from_secs(60);

/// How long one who asks after a rest has, before another may: it may have given up.
const TRIAL: Duration = Duration::from_secs(10);

/// Leaves a system alone that does not answer, so that nobody waits for it in vain.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Breaker {
    failures: u32,
    rest: Option<Rest>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Rest {
    until: Instant,
    length: Duration,
    /// When one began to ask after the rest, on whom it depends.
    trial_since: Option<Instant>,
}

impl Breaker {
    /// Whether somebody may ask now; whoever may says afterwards how it went.
    ///
    /// # Errors
    /// How long it is left alone.
    pub fn may_ask(&mut self, now: Instant) -> Result<(), Duration> {
        let Some(rest) = &mut self.rest else { return Ok(()) };
        if now < rest.until {
            return Err(rest.until - now);
        }
        let taken = rest.trial_since.filter(|since| now < *since + TRIAL);
        match taken {
            // Another asks: it is over when that one has its answer.
            Some(since) => Err(since + TRIAL - now),
            None => {
                rest.trial_since = Some(now);
                Ok(())
            }
        }
    }

    /// It answered.
    pub fn answered(&mut self) {
        *self = Self::default();
    }

    /// It did not. True if it is left alone from now on.
    pub fn was_silent(&mut self, now: Instant) -> bool {
        self.failures = self.failures.saturating_add(1);
        match &mut self.rest {
            // Those who asked before say nothing new.
            Some(rest) if rest.trial_since.is_none() => false,
            Some(rest) => {
                let length = (rest.length * 2).min(LONGEST_REST);
                *rest = Rest { until: now + length, length, trial_since: None };
                true
            }
            None if self.failures >= PATIENCE => {
                self.rest = Some(Rest { until: now + FIRST_REST, length: FIRST_REST, trial_since: None });
                true
            }
            None => false,
        }
    }

    /// True while it is left alone.
    pub fn is_resting(&self) -> bool {
        self.rest.is_some()
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    #[test]
    fn who_does_not_answer_is_left_alone_longer_each_time() {
        let (mut breaker, start) = (Breaker::default(), Instant::now());
        for count in 1..=PATIENCE {
            assert_eq!(breaker.may_ask(start), Ok(()));
            assert_eq!(breaker.was_silent(start), count == PATIENCE);
        }
        let mut now = start;
        for seconds in [5, 10, 20, 40, 60, 60] {
            let length = Duration::from_secs(seconds);
            assert_eq!(breaker.may_ask(now), Err(length));
            now += length;
            assert_eq!(breaker.may_ask(now), Ok(()), "one may ask");
            assert_eq!(breaker.may_ask(now), Err(TRIAL), "and nobody else until then");
            assert!(breaker.was_silent(now));
        }
        now += LONGEST_REST;
        assert_eq!(breaker.may_ask(now), Ok(()));
        breaker.answered();
        assert!(breaker.may_ask(now).is_ok() && !breaker.is_resting());
    }

    #[test]
    fn who_asks_after_a_rest_and_is_gone_keeps_nobody_out() {
        let (mut breaker, now) = (Breaker::default(), Instant::now());
        (0..PATIENCE).for_each(|_| _ = breaker.was_silent(now));
        assert!(!breaker.was_silent(now), "one that asked before");
        let now = now + FIRST_REST;
        assert_eq!(breaker.may_ask(now), Ok(()));
        assert_eq!(breaker.may_ask(now + TRIAL), Ok(()));
    }

    #[test]
    fn an_answer_now_and_then_is_enough() {
        let (mut breaker, now) = (Breaker::default(), Instant::now());
        for _ in 0..100 {
            (1..PATIENCE).for_each(|_| _ = breaker.was_silent(now));
            breaker.answered();
        }
        assert_eq!(breaker.may_ask(now), Ok(()));
    }
}
