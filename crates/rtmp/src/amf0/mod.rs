//! AMF0, the value format of commands and metadata.
//!
//! Source: Adobe's Action Message Format AMF 0 ("AMF0")

mod read;
mod write;

#[cfg(test)]
mod tests;

use thiserror::Error;

use crate::amf3::Amf3Error;
use crate::budget::{Exceeded, MAX_DEPTH};

pub(crate) use read::Values;
#[cfg(test)]
pub(crate) use read::decode_all;
#[cfg(test)]
pub(crate) use tests::any_value;
pub(crate) use write::encode_all;

/// Type markers.
///
/// Source: AMF0, 2.1
mod marker {
    pub(super) const NUMBER: u8 = 0x00;
    pub(super) const BOOLEAN: u8 = 0x01;
    pub(super) const STRING: u8 = 0x02;
    pub(super) const OBJECT: u8 = 0x03;
    pub(super) const NULL: u8 = 0x05;
    pub(super) const UNDEFINED: u8 = 0x06;
    pub(super) const REFERENCE: u8 = 0x07;
    pub(super) const ECMA_ARRAY: u8 = 0x08;
    pub(super) const OBJECT_END: u8 = 0x09;
    pub(super) const STRICT_ARRAY: u8 = 0x0a;
    pub(super) const DATE: u8 = 0x0b;
    pub(super) const LONG_STRING: u8 = 0x0c;
    pub(super) const UNSUPPORTED: u8 = 0x0d;
    pub(super) const XML: u8 = 0x0f;
    pub(super) const TYPED_OBJECT: u8 = 0x10;
    /// One AMF3 value follows.
    pub(super) const AMF3: u8 = 0x11;
}

/// Why bytes are not AMF0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Amf0Error {
    /// A value reaches past the end.
    #[error("a value ends after the message does")]
    Truncated,
    /// An AMF3 value inside is damaged.
    #[error("AMF3: {0}")]
    Amf3(#[from] Amf3Error),
    /// A marker that the format reserves.
    #[error("type marker {0:#04x} is not an AMF0 value")]
    Marker(u8),
    /// A string is not UTF-8.
    #[error("a string is not UTF-8")]
    NotUtf8,
    /// Values nest too deep.
    #[error("values nest deeper than {MAX_DEPTH}")]
    TooDeep,
    /// Decoding would cost too much.
    #[error(transparent)]
    Exceeded(#[from] Exceeded),
}
