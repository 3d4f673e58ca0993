use std::time::Instant;

use crate::error::TimeoutKind;

/// The one deadline that a connection has at a time.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Deadline(Option<(Instant, TimeoutKind)>);

impl Deadline {
    pub(crate) fn set(&mut self, at: Instant, kind: TimeoutKind) {
        self.0 = Some((at, kind));
    }

    pub(crate) fn clear(&mut self) {
        self.0 = None;
    }

    pub(crate) fn at(&self) -> Option<Instant> {
        self.0.map(|(at, _)| at)
    }

    /// # Errors
    /// The kind of the deadline if it has passed.
    pub(crate) fn check(&self, now: Instant) -> Result<(), TimeoutKind> {
        match self.0 {
            Some((at, kind)) if now >= at => Err(kind),
            _ => Ok(()),
        }
    }
}
