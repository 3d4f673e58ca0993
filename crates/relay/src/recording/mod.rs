//! What is recorded, under which names, and how long it is kept.

mod disk;
mod keeping;
mod names;
mod numbers;
mod rules;

pub use disk::{DiskOutlook, TakeDisk, TakeFile};
pub use keeping::{Keeping, Kept};
pub use names::{NameError, NameFacts, NameTemplate};
pub use numbers::TakeNumbers;
pub use rules::{RecordingMode, RecordingRules, SplitRules, Splitter};
