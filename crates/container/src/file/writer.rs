use waverant_media::{MediaTime, Packet, Tracks};

use crate::cutting::{Fragment, Patch, WriterError};
use crate::matroska::ClusterWriter;
use crate::mp4::FragmentWriter;
use crate::parts::{FileFormat, FileHead};

/// Writes packets into a file of either container.
///
/// The file needs no end to be playable. Nothing is written until the first fragment is complete;
/// memory is bounded by one fragment and, for the index, some bytes a fragment.
#[derive(Debug)]
pub enum FileWriter {
    /// Fragmented MP4.
    Mp4(FragmentWriter),
    /// Matroska.
    Matroska(ClusterWriter),
}

impl FileWriter {
    /// A writer for a file with `tracks`.
    ///
    /// # Errors
    /// [`WriterError::NoTracks`] if the set is empty.
    pub fn new(format: FileFormat, tracks: &Tracks, head: &FileHead) -> Result<Self, WriterError> {
        Ok(match format {
            FileFormat::Mp4 => Self::Mp4(FragmentWriter::new(tracks, head)?),
            FileFormat::Matroska => Self::Matroska(ClusterWriter::new(tracks, head)?),
        })
    }

    /// Takes a packet; returns a fragment when the packet completes one.
    ///
    /// # Errors
    /// [`WriterError::UnknownTrack`]; the packet is not taken then.
    pub fn push(&mut self, packet: &Packet) -> Result<Option<Fragment>, WriterError> {
        match self {
            Self::Mp4(writer) => writer.push(packet),
            Self::Matroska(writer) => writer.push(packet),
        }
    }

    /// Points out the moment `at` of the packets' timeline; it goes out with the next fragment.
    pub fn mark(&mut self, at: MediaTime, title: &str) {
        match self {
            Self::Mp4(writer) => writer.mark(at, title),
            Self::Matroska(writer) => writer.mark(at, title),
        }
    }

    /// Ends the file: the last fragment with the index, and what goes into its head.
    pub fn finish(&mut self) -> (Option<Fragment>, Vec<Patch>) {
        match self {
            Self::Mp4(writer) => writer.finish(),
            Self::Matroska(writer) => writer.finish(),
        }
    }

    /// Length of the presentation so far, up to the end of the last packet.
    pub fn duration(&self) -> MediaTime {
        match self {
            Self::Mp4(writer) => writer.duration(),
            Self::Matroska(writer) => writer.duration(),
        }
    }

    /// The moment `at` of the packets' timeline on the file's own; zero before there is one.
    pub fn file_time(&self, at: MediaTime) -> MediaTime {
        let start = match self {
            Self::Mp4(writer) => writer.presentation_start(),
            Self::Matroska(writer) => writer.presentation_start(),
        };
        start.map_or(MediaTime::ZERO, |start| (at - start).max(MediaTime::ZERO))
    }
}
