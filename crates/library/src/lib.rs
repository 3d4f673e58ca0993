//! Takes on disk and in depots: the recordings folder, what can be had of a take, checks, cuts and copies, the keeper
//! that applies rules; and the shelf of uploaded slates.

mod changes;
mod check;
mod checked;
mod copies;
mod cuts;
mod depot;
mod disk;
mod error;
mod files;
mod jobs;
mod keeper;
mod layouts;
mod library;
mod live_depot;
mod repair;
mod rule_book;
mod slates;
mod stills;

pub use checked::CheckedTake;
pub use cuts::CutOrder;
pub use depot::{DepotClient, DepotError};
pub use disk::{FileSource, RecordingsFolder};
pub use error::LibraryError;
pub use files::{TakeBytes, Variant};
pub use jobs::{Job, JobKind, JobOutcome, JobState, JobView, Jobs, MadeTake};
pub use keeper::{LOW_TIME, keep};
pub use library::{Hold, Library, LibrarySetup};
pub use live_depot::{LiveDepot, ObjectKind};
pub use repair::recover_takes;
pub use rule_book::RuleBook;
pub use slates::{MAX_SLATE_BYTES, SlateShelf};
