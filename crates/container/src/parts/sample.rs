use waverant_media::{MediaTime, Track};

use super::FileMark;

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
