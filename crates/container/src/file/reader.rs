use waverant_media::MediaTime;

use crate::matroska::ClusterReader;
use crate::mp4::BoxReader;
use crate::parts::{FileError, FileFormat, FileMark, FileTrack, Known, SampleRef};
use crate::source::Source;

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
