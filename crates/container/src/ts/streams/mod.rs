//! What PES packets carry, as frames and pictures.

mod frame_head;
mod latm;
mod pictures;
mod sound;

pub(super) use pictures::{PictureCodec, Pictures};
pub(super) use sound::{SoundCodec, Sounds};

use bytes::Bytes;
use waverant_media::CodecParameters;

/// Something found in a stream.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Found {
    /// The parameters, at first or changed.
    Config(CodecParameters),
    /// A frame or picture. Times are in 90 kHz.
    Frame { pts: i64, dts: i64, random_access: bool, payload: Bytes },
    /// What was expected was not there.
    Damaged(String),
}
