//! The bodies of FLV audio and video tags, which are also the bodies of RTMP audio and video
//! messages.
//!
//! Source: Adobe Flash Video File Format Specification 10.1, Annex E.4.2 and E.4.3

mod audio;
mod video;

use thiserror::Error;

pub use audio::{AAC_RAW_HEADER, AAC_SEQUENCE_HEADER, AudioTag, parse_audio_tag};
pub use video::{AVC_SEQUENCE_HEADER, VideoTag, avc_frame_header, parse_video_tag};

/// Why a tag body could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum FlvError {
    /// The body is shorter than its header.
    #[error("{kind} tag of {found} bytes, its header alone takes {needed}")]
    Truncated {
        /// `audio` or `video`.
        kind: &'static str,
        /// Bytes that came.
        found: usize,
        /// Bytes of the header.
        needed: usize,
    },
    /// A packet type with no meaning for the codec.
    #[error("{kind} packet type {found} is not defined")]
    PacketType {
        /// `audio` or `video`.
        kind: &'static str,
        /// What was found.
        found: u8,
    },
}
