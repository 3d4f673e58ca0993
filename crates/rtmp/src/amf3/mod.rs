//! AMF3, the value format that some peers use inside commands.
//!
//! Source: Adobe's Action Message Format AMF 3, January 2013 ("AMF3")

mod read;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod write;

use thiserror::Error;

use crate::budget::{Exceeded, MAX_DEPTH};

#[cfg(test)]
pub(crate) use read::decode_all;
pub(crate) use read::{Values, decode_one};

/// Type markers.
///
/// Source: AMF3, 3.1
mod marker {
    pub(super) const UNDEFINED: u8 = 0x00;
    pub(super) const NULL: u8 = 0x01;
    pub(super) const FALSE: u8 = 0x02;
    pub(super) const TRUE: u8 = 0x03;
    pub(super) const INTEGER: u8 = 0x04;
    pub(super) const DOUBLE: u8 = 0x05;
    pub(super) const STRING: u8 = 0x06;
    pub(super) const XML_DOCUMENT: u8 = 0x07;
    pub(super) const DATE: u8 = 0x08;
    pub(super) const ARRAY: u8 = 0x09;
    pub(super) const OBJECT: u8 = 0x0a;
    pub(super) const XML: u8 = 0x0b;
    pub(super) const BYTE_ARRAY: u8 = 0x0c;
    pub(super) const VECTOR_INT: u8 = 0x0d;
    pub(super) const VECTOR_UINT: u8 = 0x0e;
    pub(super) const VECTOR_DOUBLE: u8 = 0x0f;
    pub(super) const VECTOR_OBJECT: u8 = 0x10;
    pub(super) const DICTIONARY: u8 = 0x11;
}

/// Why bytes are not AMF3.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Amf3Error {
    /// A value reaches past the end.
    #[error("a value ends after the message does")]
    Truncated,
    /// A marker that the format does not define.
    #[error("type marker {0:#04x} is not an AMF3 value")]
    Marker(u8),
    /// A string is not UTF-8.
    #[error("a string is not UTF-8")]
    NotUtf8,
    /// A reference to something that was not sent.
    #[error("reference {found} into a table of {known}")]
    Reference {
        /// The place.
        found: u32,
        /// Entries of the table.
        known: usize,
    },
    /// An object whose form only its class knows.
    #[error("an object writes itself (externalizable); it cannot be read")]
    Externalizable,
    /// Values nest too deep.
    #[error("values nest deeper than {MAX_DEPTH}")]
    TooDeep,
    /// Decoding would cost too much.
    #[error(transparent)]
    Exceeded(#[from] Exceeded),
}
