//! Numbers that wrap: packet sequence numbers, message numbers and timestamps.

use std::ops::Add;

const SEQUENCE_MASK: u32 = 0x7fff_ffff;
const MESSAGE_MASK: u32 = 0x03ff_ffff;

/// A packet sequence number: 31 bits (§3.1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct SeqNumber(u32);

impl SeqNumber {
    /// The number in the low 31 bits of `word`.
    pub const fn new(word: u32) -> Self {
        Self(word & SEQUENCE_MASK)
    }

    /// The number as it stands in a packet.
    pub const fn get(self) -> u32 {
        self.0
    }

    /// How far this number is behind `earlier`; negative if it is before it.
    pub const fn since(self, earlier: Self) -> i32 {
        // Shifted up, the wrap of 31 bits becomes the wrap of the word.
        (self.0.wrapping_sub(earlier.0) << 1).cast_signed() >> 1
    }

    /// The place of this number in a buffer that begins with `base`; None if it is before it.
    pub(crate) fn place_after(self, base: Self) -> Option<usize> {
        usize::try_from(self.since(base)).ok()
    }

    /// The number `places` on.
    pub(crate) fn at_place(self, places: usize) -> Self {
        self + u32::try_from(places).unwrap_or(SEQUENCE_MASK)
    }
}

impl Add<u32> for SeqNumber {
    type Output = Self;

    fn add(self, places: u32) -> Self {
        Self::new(self.0.wrapping_add(places))
    }
}

/// A message number: 26 bits, of which zero means "unknown" in a drop request (§3.2.9).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct MessageNumber(u32);

impl MessageNumber {
    pub(crate) const fn new(word: u32) -> Self {
        Self(word & MESSAGE_MASK)
    }

    pub(crate) const fn get(self) -> u32 {
        self.0
    }

    pub(crate) const fn next(self) -> Self {
        let next = Self::new(self.0.wrapping_add(1));
        if next.0 == 0 { Self(1) } else { next }
    }
}

/// Joins the 32-bit microseconds of a peer, which wrap every 71.6 minutes, into one time.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct TimestampUnwrapper {
    newest: i64,
}

impl TimestampUnwrapper {
    /// A clock that showed `timestamp` just now, and counts from there.
    pub(crate) fn starting_at(timestamp: u32) -> Self {
        Self { newest: timestamp.into() }
    }

    /// Microseconds since the peer's clock began. A packet that comes late by half a turn or
    /// less is known as late.
    pub(crate) fn unwrap(&mut self, timestamp: u32) -> i64 {
        let low = (self.newest & 0xffff_ffff) as u64;
        let step = timestamp.wrapping_sub(u32::try_from(low).unwrap_or_default()).cast_signed();
        let time = self.newest + i64::from(step);
        self.newest = self.newest.max(time);
        time
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::same(5, 5, 0)]
    #[case::after(7, 5, 2)]
    #[case::before(5, 7, -2)]
    #[case::over_the_wrap(1, SEQUENCE_MASK, 2)]
    #[case::before_the_wrap(SEQUENCE_MASK, 1, -2)]
    #[case::farthest(0x3fff_ffff, 0, 0x3fff_ffff)]
    fn sequence_numbers_wrap(#[case] one: u32, #[case] other: u32, #[case] distance: i32) {
        assert_eq!(SeqNumber::new(one).since(SeqNumber::new(other)), distance);
        if distance >= 0 {
            assert_eq!(SeqNumber::new(other) + distance.unsigned_abs(), SeqNumber::new(one));
        }
    }

    #[test]
    fn message_numbers_leave_out_zero() {
        assert_eq!(MessageNumber::new(MESSAGE_MASK).next().get(), 1);
        assert_eq!(MessageNumber::new(8).next().get(), 9);
    }

    #[test]
    fn timestamps_go_on_behind_their_wrap() {
        let mut unwrapper = TimestampUnwrapper::starting_at(u32::MAX - 10);
        assert_eq!(unwrapper.unwrap(u32::MAX), 0xffff_ffff);
        assert_eq!(unwrapper.unwrap(4), 0x1_0000_0004);
        assert_eq!(unwrapper.unwrap(u32::MAX - 1), 0xffff_fffe, "late, from before the wrap");
        assert_eq!(unwrapper.unwrap(5), 0x1_0000_0005);
    }
}
