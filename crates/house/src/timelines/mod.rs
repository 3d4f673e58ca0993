//! The timelines of shows that are over and of the machine, in memory and on their way into the database.

mod leftover;
mod machine;
mod shelf;
mod waiting;

pub(crate) use machine::MachineSample;
pub(crate) use shelf::TimelineShelf;

/// How long figures are kept, by their steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FigureDays {
    /// Points of ten seconds.
    pub tens: u32,
    /// Points of a minute.
    pub minutes: u32,
}
