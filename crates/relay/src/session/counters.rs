use std::ops::AddAssign;

/// What a source was found to do wrong. All counts are of messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SourceCounters {
    /// Tags that could not be taken apart.
    pub damaged_count: u64,
    /// Tags of codecs that are not carried.
    pub unsupported_count: u64,
    /// Frames that came before their track's header.
    pub headless_count: u64,
    /// Times when the publisher's clock jumped.
    pub clock_jump_count: u64,
    /// Frames whose timestamp was before that of the frame before.
    pub backward_count: u64,
}

impl AddAssign for SourceCounters {
    fn add_assign(&mut self, other: Self) {
        self.damaged_count += other.damaged_count;
        self.unsupported_count += other.unsupported_count;
        self.headless_count += other.headless_count;
        self.clock_jump_count += other.clock_jump_count;
        self.backward_count += other.backward_count;
    }
}
