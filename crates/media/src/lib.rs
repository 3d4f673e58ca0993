//! What a stream is: tracks, packets, media time and codec parameters.
//!
//! This crate holds no sockets, files or clocks. Payloads are reference-counted
//! [`bytes::Bytes`], so that a packet can be handed to any number of readers without a copy.

mod aac;
mod ac3;
mod adts;
mod av1;
mod av1_header;
#[cfg(test)]
mod bit_fields;
mod bits;
mod codec_string;
mod colour;
mod config_error;
mod flac;
mod h264;
mod hevc;
mod mp3;
mod nal;
mod opus;
mod packet;
mod silence;
#[cfg(any(test, feature = "testing"))]
pub mod testing;
mod time;
mod track;
mod vp9;

pub use aac::{AacConfigError, AudioObjectType, AudioSpecificConfig};
pub use ac3::Ac3Config;
pub use adts::AdtsHeader;
pub use av1::Av1Config;
pub use bits::{BitReader, OutOfBits};
pub use colour::{Colour, DynamicRange, Sampling};
pub use config_error::ConfigError;
pub use flac::FlacConfig;
pub use h264::{AvcConfigError, AvcDecoderConfig, Field, SequenceParameters, SliceHead, SpsError};
pub use hevc::{HevcDecoderConfig, HevcSequence};
pub use mp3::Mp3Config;
pub use nal::{NalUnitType, NalUnits, unescape_rbsp};
pub use opus::OpusConfig;
pub use packet::Packet;
pub use time::{MediaTime, TICKS_PER_MILLISECOND, TICKS_PER_SECOND};
pub use track::{CodecParameters, SoundFormat, Track, TrackId, TrackKind, Tracks};
pub use vp9::Vp9Config;
