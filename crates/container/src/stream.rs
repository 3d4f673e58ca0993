//! What the readers of containers tell that come as a stream of bytes.

use bytes::Bytes;
use waverant_media::{CodecParameters, MediaTime, TrackKind};

/// Something that a container tells. Its streams are named by their numbers there: PIDs of MPEG-TS,
/// track numbers of Matroska.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum StreamEvent {
    /// The streams that we can carry, at first or changed. Frames of streams that are not among them
    /// come no more.
    Program(Vec<ElementaryStream>),
    /// A stream's parameters, at first or changed.
    Config {
        /// Its number.
        number: u16,
        /// What they are.
        codec: CodecParameters,
    },
    /// A picture or a frame of sound in canonical form.
    Frame {
        /// Its stream's number.
        number: u16,
        /// When it is to be seen or heard.
        pts: MediaTime,
        /// When it is to be decoded.
        dts: MediaTime,
        /// True if decoding can begin here.
        random_access: bool,
        /// Length-prefixed NAL units, or a frame without its header.
        payload: Bytes,
    },
}

/// A stream that can be carried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ElementaryStream {
    /// Its number in the container.
    pub number: u16,
    /// Pictures or sound.
    pub kind: TrackKind,
    /// Its language as a tag (RFC 5646).
    pub language: Option<String>,
    /// Its name.
    pub name: Option<String>,
}
