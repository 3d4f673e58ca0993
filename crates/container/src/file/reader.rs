use std::io;

use thiserror::Error;
use waverant_media::{MediaTime, Track};

use super::{FileFormat, FileMark, Known};
use crate::matroska::{ClusterReader, MatroskaError};
use crate::mp4::{BoxReader, Mp4Error};
use crate::source::Source;

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

/// A track of a file.
#[derive(Clone, Debug)]
pub struct FileTrack {
    /// Number, codec, language and name.
    pub track: Track,
    /// Whether it is played where nobody chooses.
    pub is_default: bool,
}

/// Where and when a sample is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SampleRef {
    /// The place of its track among the file's.
    pub track: usize,
    /// When it is decoded.
    pub dts: MediaTime,
    /// When it is presented.
    pub pts: MediaTime,
    /// How long it lasts; zero if the file does not tell.
    pub duration: MediaTime,
    /// True for a sync sample.
    pub sync: bool,
    /// Where its bytes are in the file.
    pub offset: u64,
    /// How many they are.
    pub size: u32,
}

/// Reads a media file of any size: heads and places only, a group of samples at a time.
#[derive(Debug)]
pub struct FileReader<S> {
    source: S,
    inner: Inner,
}

#[derive(Debug)]
enum Inner {
    Mp4(Box<BoxReader>),
    Matroska(Box<ClusterReader>),
}

impl<S: Source> FileReader<S> {
    /// Reads the head.
    ///
    /// # Errors
    /// [`FileError`] if the head is not there or damaged.
    pub fn open(source: S) -> Result<Self, FileError> {
        let mut start = [0; 8];
        let length = start.len().min(usize::try_from(source.len()).unwrap_or(usize::MAX));
        source.read_at(0, &mut start[..length])?;
        let inner = match start {
            [0x1a, 0x45, 0xdf, 0xa3, ..] => Inner::Matroska(Box::new(ClusterReader::open(&source)?)),
            [_, _, _, _, b'f', b't', b'y', b'p'] => Inner::Mp4(Box::new(BoxReader::open(&source)?)),
            _ => {
                let found = format!("`{}`", start[..length].escape_ascii());
                return Err(FileError::UnknownFormat { found });
            }
        };
        Ok(Self { source, inner })
    }

    /// Which container it is.
    pub fn format(&self) -> FileFormat {
        match &self.inner {
            Inner::Mp4(_) => FileFormat::Mp4,
            Inner::Matroska(_) => FileFormat::Matroska,
        }
    }

    /// The bytes.
    pub fn source(&self) -> &S {
        &self.source
    }

    fn known(&self) -> &Known {
        match &self.inner {
            Inner::Mp4(reader) => &reader.known,
            Inner::Matroska(reader) => &reader.known,
        }
    }

    /// The tracks whose codec we carry, in file order.
    pub fn tracks(&self) -> &[FileTrack] {
        &self.known().tracks
    }

    /// The next samples in file order, of a fragment or less; none at the end, or where the file is
    /// cut off.
    ///
    /// # Errors
    /// [`FileError`] if a header is damaged or the medium fails.
    pub fn next_group(&mut self) -> Result<Option<Vec<SampleRef>>, FileError> {
        match &mut self.inner {
            Inner::Mp4(reader) => reader.next_group(&self.source),
            Inner::Matroska(reader) => reader.next_group(&self.source),
        }
    }

    /// The marks that were found up to here.
    pub fn marks(&self) -> &[FileMark] {
        &self.known().marks
    }

    /// Where what was read up to here ends; behind the last group, the length of the file that is
    /// whole.
    pub fn whole_end(&self) -> u64 {
        self.known().whole_end
    }

    /// True if the file was found to end within a fragment.
    pub fn is_truncated(&self) -> bool {
        self.whole_end() < self.source.len()
    }

    /// True if an index for seeking was found.
    pub fn has_index(&self) -> bool {
        self.known().has_index
    }

    /// The length that the head tells, if it does.
    pub fn told_duration(&self) -> Option<MediaTime> {
        self.known().told_duration
    }
}
