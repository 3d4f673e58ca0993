//! Bytes: the handshake, chunks, and the messages that chunks carry.

mod aggregate;
mod chunk;
mod decoder;
mod encoder;
mod handshake;
mod message;

pub use chunk::ChunkError;
pub use handshake::{Greeting, HandshakeError};
pub use message::MessageError;

pub(crate) use aggregate::Aggregate;
pub(crate) use decoder::ChunkDecoder;
pub(crate) use encoder::{ChunkEncoder, MessageHead};
pub(crate) use handshake::{ClientHandshake, Progress, ServerHandshake};
pub(crate) use message::{ControlMessage, Message, UserControl, message_type};
