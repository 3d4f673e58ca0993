use std::fmt;
use std::ops::{Add, Sub};
use std::time::Duration;

/// Clock rate of [`MediaTime`], in ticks per second.
pub const TICKS_PER_SECOND: i64 = 90_000;

/// Ticks in one millisecond, the unit of RTMP timestamps.
pub const TICKS_PER_MILLISECOND: i64 = TICKS_PER_SECOND / 1000;

/// A point on a stream's own timeline, or a distance between two, in ticks of 90 kHz.
///
/// 90 kHz is the clock of MPEG transport streams and divides evenly into the milliseconds of
/// RTMP. 64 bits never wrap, so wrapping belongs to the protocols and never reaches the hub.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MediaTime(i64);

impl MediaTime {
    /// The origin of a timeline.
    pub const ZERO: Self = Self(0);

    /// A time of `ticks` units of 1/90000 s.
    pub const fn from_ticks(ticks: i64) -> Self {
        Self(ticks)
    }

    /// A time of `milliseconds`; saturates at the ends of the range.
    pub const fn from_millis(milliseconds: i64) -> Self {
        Self(milliseconds.saturating_mul(TICKS_PER_MILLISECOND))
    }

    /// A time as long as `duration`; saturates at the end of the range.
    pub fn from_duration(duration: Duration) -> Self {
        let ticks = duration.as_nanos().saturating_mul(9) / 100_000;
        Self(i64::try_from(ticks).unwrap_or(i64::MAX))
    }

    /// The time in ticks of 90 kHz.
    pub const fn ticks(self) -> i64 {
        self.0
    }

    /// The time in whole milliseconds, rounded towards negative infinity.
    pub const fn millis(self) -> i64 {
        self.0.div_euclid(TICKS_PER_MILLISECOND)
    }

    /// The time in a clock of `rate` ticks per second, rounded to the nearest tick.
    pub fn in_timescale(self, rate: u32) -> i64 {
        let scaled = i128::from(self.0) * i128::from(rate);
        let half = i128::from(TICKS_PER_SECOND / 2);
        let rounded = (scaled + half).div_euclid(i128::from(TICKS_PER_SECOND));
        i64::try_from(rounded).unwrap_or(if rounded < 0 { i64::MIN } else { i64::MAX })
    }

    /// The time as a [`Duration`]; a negative time gives zero.
    pub fn to_duration(self) -> Duration {
        let nanos = u128::try_from(self.0).unwrap_or(0) * 100_000 / 9;
        Duration::from_nanos(u64::try_from(nanos).unwrap_or(u64::MAX))
    }
}

impl Add for MediaTime {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl Sub for MediaTime {
    type Output = Self;

    fn sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }
}

impl fmt::Display for MediaTime {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let millis = self.millis();
        let sign = if millis < 0 { "-" } else { "" };
        let millis = millis.unsigned_abs();
        write!(out, "{sign}{}.{:03} s", millis / 1000, millis % 1000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::zero(0, 48_000, 0)]
    #[case::one_second(90_000, 48_000, 48_000)]
    #[case::rounds_to_nearest(1, 44_100, 0)]
    #[case::rounds_up_past_half(2, 44_100, 1)]
    #[case::negative(-90_000, 44_100, -44_100)]
    #[case::a_year(31_536_000 * 90_000, 44_100, 31_536_000 * 44_100)]
    fn converts_to_other_clocks(#[case] ticks: i64, #[case] rate: u32, #[case] expected: i64) {
        assert_eq!(MediaTime::from_ticks(ticks).in_timescale(rate), expected);
    }

    #[test]
    fn durations_go_both_ways() {
        let length = Duration::from_millis(12_345);
        assert_eq!(MediaTime::from_duration(length).to_duration(), length);
        assert_eq!(MediaTime::from_ticks(-5).to_duration(), Duration::ZERO);
    }

    #[rstest]
    #[case(1_500, "1.500 s")]
    #[case(-1_500, "-1.500 s")]
    fn prints_seconds(#[case] millis: i64, #[case] expected: &str) {
        assert_eq!(MediaTime::from_millis(millis).to_string(), expected);
    }
}
