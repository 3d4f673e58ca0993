use std::time::Duration;

/// When a call that failed is made again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RetryRules {
    /// The pause after the first try in vain; it doubles with each.
    pub first_pause: Duration,
    /// The longest pause.
    pub longest_pause: Duration,
    /// How long after it happened something is told at all.
    pub patience: Duration,
}

impl Default for RetryRules {
    fn default() -> Self {
        Self {
            first_pause: Duration::from_secs(2),
            longest_pause: Duration::from_secs(3600),
            patience: Duration::from_secs(3 * 24 * 3600),
        }
    }
}

impl RetryRules {
    /// The pause after `tries` tries in vain, the first of something that is `age` old. None if it is given up.
    /// `wish` is what the other side asked for; `chance`, 0 to 1, spreads those that failed together.
    pub fn pause(&self, tries: u32, age: Duration, wish: Option<Duration>, chance: f64) -> Option<Duration> {
        let doubled = self.first_pause.saturating_mul(1 << tries.saturating_sub(1).min(20)).min(self.longest_pause);
        let spread = doubled + doubled.mul_f64(chance.clamp(0.0, 1.0) / 10.0);
        // Nobody may make us wait for ever, nor hurry.
        let pause = spread.max(wish.unwrap_or_default().min(self.longest_pause));
        (age + pause < self.patience).then_some(pause)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[rstest]
    #[case::first(1, s(0), None, 0.0, Some(s(2)))]
    #[case::second(2, s(10), None, 0.0, Some(s(4)))]
    #[case::spread(2, s(10), None, 1.0, Some(Duration::from_millis(4_400)))]
    #[case::eighth(8, s(600), None, 0.0, Some(s(256)))]
    #[case::longest(90, s(600), None, 0.0, Some(s(3600)))]
    #[case::wished(1, s(0), Some(s(30)), 0.0, Some(s(30)))]
    #[case::wished_too_much(1, s(0), Some(s(1 << 40)), 0.0, Some(s(3600)))]
    #[case::wished_too_little(5, s(0), Some(s(1)), 0.0, Some(s(32)))]
    #[case::given_up(90, s(3 * 24 * 3600 - 3600), None, 0.0, None)]
    fn pauses_double_and_end(
        #[case] tries: u32,
        #[case] age: Duration,
        #[case] wish: Option<Duration>,
        #[case] chance: f64,
        #[case] expected: Option<Duration>,
    ) {
        assert_eq!(RetryRules::default().pause(tries, age, wish, chance), expected);
    }

    #[test]
    fn a_target_that_is_down_for_five_minutes_is_told_soon_after() {
        let (rules, mut age, mut tries) = (RetryRules::default(), s(0), 0);
        while age < s(300) {
            tries += 1;
            age += rules.pause(tries, age, None, 1.0).unwrap();
        }
        assert!(age < s(600) && tries < 10, "{tries} tries in {age:?}");
    }

    #[test]
    fn three_days_are_some_eighty_tries() {
        let (rules, mut age, mut tries) = (RetryRules::default(), s(0), 1);
        while let Some(pause) = rules.pause(tries, age, None, 0.5) {
            (age, tries) = (age + pause, tries + 1);
        }
        assert!((70..90).contains(&tries) && age > s(70 * 3600), "{tries} tries in {age:?}");
    }
}
