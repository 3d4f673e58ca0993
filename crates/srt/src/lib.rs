//! The SRT protocol in live mode, as state machines without I/O: a listener that takes callers,
//! a caller, and the connection that both lead to.
//!
//! Datagrams and messages go in with the time; datagrams, messages that are due and the next
//! deadline come out. Nothing here opens a socket or reads a clock.
//!
//! Source: the public draft "The SRT Protocol" (draft-sharabayko-srt-01); the sections named are
//! its sections. Rendezvous, file mode, packet filters and groups are not offered, and refused
//! with the reason that the draft has for each.

mod address;
mod caller;
mod config;
mod connection;
mod cookie;
mod crypto;
mod listener;
mod number;
mod randomness;
mod reject;
mod statistics;
mod stream_id;
mod wire;

#[cfg(test)]
mod tests;

pub use address::{SrtAddress, SrtAddressError};
pub use caller::{CallError, Caller, conclusion_from, destination};
pub use config::{Bandwidth, Config};
pub use connection::{CloseReason, Connection, Message, SendError};
pub use crypto::{Derivation, DerivedKey, KeyLength, Passphrase, PassphraseError};
pub use listener::{Listener, ListenerEvent, Refused, Request};
pub use number::SeqNumber;
pub use randomness::Randomness;
pub use reject::RejectReason;
pub use statistics::{ReceiveStatistics, SendStatistics, Statistics};
pub use stream_id::{Mode, StreamId, StreamIdError};
pub use wire::{Group, HEADER_LENGTH, HandshakeError, HeaderError, KeyMaterialError, MAX_STREAM_ID};
