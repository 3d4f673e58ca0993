//! Media files of either container: written packet by packet, read group by group.

mod reader;
mod survey;
mod writer;

#[cfg(test)]
mod tests;

pub use reader::FileReader;
pub use survey::{FileSurvey, TrackGap, TrackSurvey, survey};
pub use writer::FileWriter;

use crate::parts::{FileError, FileFormat, Repair};
use crate::source::Source;

/// Finds out what a file lacks that was not ended in order; none if nothing is missing.
///
/// # Errors
/// [`FileError`] if it has no whole head, or the medium fails.
pub fn plan_repair(source: &impl Source) -> Result<Option<Repair>, FileError> {
    match FileReader::open(source)?.format() {
        FileFormat::Mp4 => crate::mp4::repair(source),
        FileFormat::Matroska => crate::matroska::repair(source),
    }
}
