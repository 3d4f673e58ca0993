use std::io;

use thiserror::Error;

/// Boxes may hold boxes this deep; a file needs 8.
pub(crate) const MAX_DEPTH: u8 = 16;

/// Tracks of one file.
pub(crate) const MAX_TRACKS: usize = 64;

/// Why a media file cannot be read.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum FileError {
    /// The medium failed.
    #[error("the file cannot be read: {0}")]
    Io(#[from] io::Error),
    /// The file begins like none that we read.
    #[error("neither MP4 nor Matroska: the file begins with {found}")]
    UnknownFormat {
        /// The first bytes, readable.
        found: String,
    },
    /// It is MP4, and damaged.
    #[error(transparent)]
    Mp4(#[from] Mp4Error),
    /// It is Matroska, and damaged.
    #[error(transparent)]
    Matroska(#[from] MatroskaError),
    /// A header is larger than any that we would read into memory.
    #[error("`{name}` has {size} bytes, more than {limit}")]
    TooLarge {
        /// The box or element.
        name: String,
        /// What it says.
        size: u64,
        /// What we read.
        limit: u64,
    },
}

/// Why an MP4 file could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Mp4Error {
    /// A box is shorter than its fields.
    #[error("box `{name}` ends too early")]
    Truncated {
        /// The four letters of the box.
        name: String,
    },
    /// The file holds no movie box.
    #[error("no `moov` box: this is not an MP4 file, or its head is missing")]
    NoMovie,
    /// A track's codec configuration is damaged.
    #[error("track {track}: {reason}")]
    Codec {
        /// The track's number in the file.
        track: u32,
        /// What is wrong.
        reason: String,
    },
    /// The file has more tracks than a file of ours or of a show.
    #[error("more than {MAX_TRACKS} tracks")]
    TooManyTracks,
    /// The file claims more samples than are read.
    #[error("more than {limit} samples: the file is damaged, or too long to be read at once")]
    TooManySamples {
        /// How many are read.
        limit: usize,
    },
    /// Boxes nest too deep.
    #[error("boxes nest deeper than {MAX_DEPTH}")]
    TooDeep,
    /// A track's clock does not run.
    #[error("track {track} has a timescale of 0")]
    Timescale {
        /// The track's number in the file.
        track: u32,
    },
}

/// Why a Matroska file could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MatroskaError {
    /// The EBML header names another kind of document.
    #[error("the document is `{found}`, and `matroska` or `webm` was expected")]
    DocType {
        /// What it names.
        found: String,
    },
    /// It cannot be read by readers of our version.
    #[error("the document wants a reader of version {found}; this is one of version 4")]
    Version {
        /// What it wants.
        found: u64,
    },
    /// The segment or its tracks are not there.
    #[error("the file ends before its {0}")]
    Missing(&'static str),
    /// An element's header is none, or it has a length that it must not have.
    #[error("damaged element at byte {at}")]
    Damaged {
        /// Where in the file.
        at: u64,
    },
    /// A track's codec configuration is damaged.
    #[error("track {track}: {reason}")]
    Codec {
        /// The track's number in the file.
        track: u64,
        /// What is wrong.
        reason: String,
    },
}
