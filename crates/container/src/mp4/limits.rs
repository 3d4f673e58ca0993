use crate::parts::Mp4Error;

/// What reading the samples of a file, or of a part of it, may still cost: a table of a few bytes may stand for
/// any number of samples.
#[derive(Clone, Copy, Debug)]
pub(super) struct SampleBudget {
    limit: usize,
    left: usize,
}

impl SampleBudget {
    /// At most `limit` samples.
    pub(super) fn new(limit: usize) -> Self {
        Self { limit, left: limit }
    }

    /// Pays for one.
    pub(super) fn take(&mut self) -> Result<(), Mp4Error> {
        self.left = self.left.checked_sub(1).ok_or(Mp4Error::TooManySamples { limit: self.limit })?;
        Ok(())
    }
}
