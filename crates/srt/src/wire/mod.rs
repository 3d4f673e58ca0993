//! What stands in datagrams.

mod acknowledgement;
mod handshake;
mod header;
mod key_material;
mod loss_report;

pub(crate) use acknowledgement::{Acknowledgement, PathReport, RateReport};
pub(crate) use handshake::{Extension, Handshake, HandshakeKind, INDUCTION_MAGIC, Terms, address_field, flags};
pub use handshake::{Group, HandshakeError, MAX_STREAM_ID};
pub(crate) use header::{ControlHeader, ControlKind, DataHeader, Header, KeyFlag, Position, SocketId};
pub use header::{HEADER_LENGTH, HeaderError};
pub use key_material::KeyMaterialError;
pub(crate) use key_material::{KeyMaterial, KeyMaterialState};
pub(crate) use loss_report::{parse_drop_request, parse_losses, write_losses};

/// The big-endian word at `place` of `bytes`.
pub(crate) fn word_at(bytes: &[u8], place: usize) -> Option<u32> {
    let raw = bytes.get(place..place.checked_add(4)?)?;
    Some(u32::from_be_bytes(raw.try_into().ok()?))
}

/// The big-endian half-word at `place` of `bytes`.
pub(crate) fn half_at(bytes: &[u8], place: usize) -> Option<u16> {
    let raw = bytes.get(place..place.checked_add(2)?)?;
    Some(u16::from_be_bytes(raw.try_into().ok()?))
}
