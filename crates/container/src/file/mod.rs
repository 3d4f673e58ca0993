//! Media files of either container: written packet by packet, read group by group.

mod decode_order;
mod reader;
mod survey;
mod writer;

#[cfg(test)]
mod tests;

pub(crate) use decode_order::DecodeOrder;
pub use reader::{FileError, FileReader, FileTrack, SampleRef};
pub use survey::{FileSurvey, TrackGap, TrackSurvey, survey};
pub use writer::FileWriter;

use bytes::Bytes;
use waverant_media::MediaTime;

use crate::cutting::Patch;
use crate::source::Source;

/// The containers that files are written in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum FileFormat {
    /// Fragmented MP4 (ISO/IEC 14496-12).
    #[default]
    Mp4,
    /// Matroska (RFC 9559).
    Matroska,
}

impl FileFormat {
    /// The usual end of file names.
    pub fn extension(self) -> &'static str {
        match self {
            Self::Mp4 => "mp4",
            Self::Matroska => "mkv",
        }
    }

    /// The media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Mp4 => "video/mp4",
            Self::Matroska => "video/x-matroska",
        }
    }
}

/// What a file is told about itself at its begin.
#[derive(Clone, Debug, Default)]
pub struct FileHead {
    /// When the first packet came, in milliseconds since 1970.
    pub began_ms: Option<i64>,
    /// What it is called.
    pub title: Option<String>,
}

/// A moment of a file that somebody or something pointed out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileMark {
    /// When, on the file's own timeline.
    pub at: MediaTime,
    /// Why.
    pub title: String,
}

/// What a reader has found of a file up to where it is.
#[derive(Debug, Default)]
pub(crate) struct Known {
    /// The tracks whose codec we carry, in file order.
    pub(crate) tracks: Vec<FileTrack>,
    pub(crate) marks: Vec<FileMark>,
    /// Where what was read ends.
    pub(crate) whole_end: u64,
    /// Whether there is an index for seeking.
    pub(crate) has_index: bool,
    /// The length that the head tells.
    pub(crate) told_duration: Option<MediaTime>,
}

/// A file keeps this many marks.
pub(crate) const MAX_MARKS: usize = 1000;

/// Longer titles are cut.
pub(crate) const MAX_TITLE: usize = 160;

/// The start of a title, at a border between letters.
pub(crate) fn shortened(title: &str) -> String {
    title.chars().filter(|letter| !letter.is_control()).take(MAX_TITLE).collect()
}

/// What makes a file whole whose writer was killed.
#[derive(Clone, Debug)]
pub struct Repair {
    /// The file is cut to this length,
    pub keep_bytes: u64,
    /// which removes so many bytes of an unfinished fragment or index;
    pub removed_bytes: u64,
    /// then this is appended,
    pub append: Bytes,
    /// and these are written over what is there.
    pub patches: Vec<Patch>,
    /// How long it plays then.
    pub duration: MediaTime,
}

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
