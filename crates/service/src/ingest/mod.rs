//! The front doors: one file per protocol. A driver moves bytes between a socket and a protocol
//! state machine; it decides nothing about the protocol.

mod per_address;
mod rtmp;
mod srt;

pub(crate) use rtmp::{GUARDED_APP, RtmpDoor, RtmpSettings};
pub(crate) use srt::{SrtDoor, SrtSettings};
