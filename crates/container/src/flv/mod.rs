//! The bodies of FLV audio and video tags, which are also the bodies of RTMP audio and video
//! messages, in their first form and in the extended one that names codecs by four letters.
//!
//! Source: Adobe Flash Video File Format Specification 10.1, Annex E.4.2 and E.4.3 ("FLV 10.1");
//! Enhanced RTMP, version 2 ("E-RTMP 2")

mod audio;
mod codec;
mod extended;
mod video;
mod write;

#[cfg(test)]
mod tests;

use bytes::Bytes;
use thiserror::Error;

pub use audio::parse_audio_tag;
pub use codec::TagCodec;
pub use video::parse_video_tag;
pub use write::{TagForm, TagHeader, colour_info_header, config_header, end_header, frame_header};

/// Why a tag body could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum FlvError {
    /// The body is shorter than its header.
    #[error("{kind} tag of {found} bytes, its header takes {needed} or more")]
    Truncated {
        /// `audio` or `video`.
        kind: &'static str,
        /// Bytes that came.
        found: usize,
        /// Bytes that the header was known to need.
        needed: usize,
    },
    /// A packet type with no meaning for the codec.
    #[error("{kind} packet type {found} is not defined here")]
    PacketType {
        /// `audio` or `video`.
        kind: &'static str,
        /// What was found.
        found: u8,
    },
    /// A multitrack type that is not defined.
    #[error("{kind} multitrack type {found}; 0, 1 and 2 are defined")]
    MultitrackType {
        /// `audio` or `video`.
        kind: &'static str,
        /// What was found.
        found: u8,
    },
}

/// What a tag carries for one track.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TagPart {
    /// The track's number among those of its kind.
    pub track: u8,
    /// The codec.
    pub codec: TagCodec,
    /// What is carried. It shares the memory of the tag.
    pub content: TagContent,
}

/// What a part of a tag is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TagContent {
    /// What a decoder must know before the first frame, in the codec's own form.
    Config(Bytes),
    /// A picture, or a frame of sound.
    Frame {
        /// True if decoding can start here.
        keyframe: bool,
        /// Presentation time less decode time.
        composition_time_ms: i32,
        /// The coded bytes.
        payload: Bytes,
    },
    /// No more of this codec follows.
    End,
    /// Colour metadata (HDR), as AMF values.
    ColourInfo(Bytes),
    /// A change of the loudspeaker layout.
    ChannelLayout(Bytes),
    /// Something that is not read here: its packet type, or a codec that is not known.
    Unread,
}

/// What a tag says about all its parts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TagTime {
    /// Nanoseconds to be added to the message's timestamp; less than a millisecond.
    ///
    /// Source: E-RTMP 2, Enhanced Video, TimestampOffsetNano
    pub offset_nanos: u32,
}
