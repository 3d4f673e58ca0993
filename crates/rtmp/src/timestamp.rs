/// A message timestamp: milliseconds modulo 2^32 from an origin that the sender chose.
///
/// Source: RTMP 1.0, 4
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Timestamp(pub u32);

impl Timestamp {
    /// Adds a delta, wrapping after 49.7 days.
    pub fn advanced_by(self, delta: u32) -> Self {
        Self(self.0.wrapping_add(delta))
    }

    /// How far this timestamp is ahead of `earlier`; negative if it is behind. Of the two ways
    /// round the shorter one counts.
    ///
    /// Source: RTMP 1.0, 4 (serial number arithmetic of RFC 1982)
    pub fn since(self, earlier: Self) -> i32 {
        self.0.wrapping_sub(earlier.0).cast_signed()
    }

    /// The timestamp of a time in milliseconds.
    pub fn from_millis(millis: i64) -> Self {
        Self(u32::try_from(millis.rem_euclid(1 << 32)).unwrap_or(0))
    }
}

/// Turns wrapping timestamps into a count of milliseconds that does not wrap.
#[derive(Clone, Copy, Debug, Default)]
pub struct TimestampUnwrapper {
    last: Option<(Timestamp, i64)>,
}

impl TimestampUnwrapper {
    /// Milliseconds of `timestamp` on a scale that begins with the first one seen.
    pub fn unwrap(&mut self, timestamp: Timestamp) -> i64 {
        let millis = match self.last {
            Some((last, millis)) => millis + i64::from(timestamp.since(last)),
            None => i64::from(timestamp.0),
        };
        self.last = Some((timestamp, millis));
        millis
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::forward(10, 4, 6)]
    #[case::backward(4, 10, -6)]
    #[case::across_the_wrap(5, u32::MAX - 4, 10)]
    #[case::back_across_the_wrap(u32::MAX - 4, 5, -10)]
    fn the_shorter_way_round_counts(#[case] later: u32, #[case] earlier: u32, #[case] expected: i32) {
        assert_eq!(Timestamp(later).since(Timestamp(earlier)), expected);
    }

    #[test]
    fn sixty_days_pass_two_wraps() {
        let mut unwrapper = TimestampUnwrapper::default();
        let hour = 3_600_000i64;
        for hours in 0..60 * 24 {
            let millis = hours * hour;
            assert_eq!(unwrapper.unwrap(Timestamp::from_millis(millis)), millis);
        }
    }

    #[test]
    fn a_step_back_stays_small() {
        let mut unwrapper = TimestampUnwrapper::default();
        assert_eq!(unwrapper.unwrap(Timestamp(100)), 100);
        assert_eq!(unwrapper.unwrap(Timestamp(60)), 60);
    }
}
