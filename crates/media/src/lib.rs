//! What a stream is: tracks, packets, media time and codec parameters.
//!
//! This crate holds no sockets, files or clocks. Payloads are reference-counted
//! [`bytes::Bytes`], so that a packet can be handed to any number of readers without a copy.

mod aac;
mod bits;
mod h264;
mod nal;
mod packet;
mod time;
mod track;

pub use aac::{AacConfigError, AudioObjectType, AudioSpecificConfig};
pub use bits::{BitReader, OutOfBits};
pub use h264::{AvcConfigError, AvcDecoderConfig, SequenceParameters, SpsError};
pub use nal::{NalUnitType, NalUnits, unescape_rbsp};
pub use packet::Packet;
pub use time::{MediaTime, TICKS_PER_MILLISECOND, TICKS_PER_SECOND};
pub use track::{CodecParameters, Track, TrackId, TrackKind, Tracks};
