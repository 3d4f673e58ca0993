//! Where shows come from: a listener per protocol, and the rehearsal. A driver moves bytes between a socket and a
//! protocol state machine; it decides nothing about the protocol, and asks the house who may come in.

mod per_address;
mod rehearsal;
mod rtmp;
mod srt;

pub use rehearsal::{RehearsalError, rehearse};
pub use rtmp::{GUARDED_APP, RtmpDoor, RtmpSettings};
pub use srt::{SrtDoor, SrtSettings};
