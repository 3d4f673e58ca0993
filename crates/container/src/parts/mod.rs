//! What both formats of files have in common: head, marks, tracks and samples, errors, and what mends a file.

mod decode_order;
mod error;
mod format;
mod mark;
mod repair;
mod sample;

pub(crate) use decode_order::DecodeOrder;
pub use error::{FileError, MatroskaError, Mp4Error};
pub(crate) use error::{MAX_DEPTH, MAX_TRACKS};
pub use format::{FileFormat, FileHead};
pub use mark::FileMark;
pub(crate) use mark::{MAX_MARKS, shortened};
pub use repair::Repair;
pub(crate) use sample::Known;
pub use sample::{FileTrack, SampleRef};
