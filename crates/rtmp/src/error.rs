use thiserror::Error;

use crate::amf0::Amf0Error;
use crate::wire::{ChunkError, HandshakeError, MessageError};

/// Which deadline passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TimeoutKind {
    /// The handshake; governed by `handshake_timeout`.
    #[error("the handshake was not finished in time")]
    Handshake,
    /// From the handshake to publishing or playing; governed by `setup_timeout`.
    #[error("no stream was published or played in time")]
    Setup,
    /// Silence while publishing; governed by `idle_timeout`.
    #[error("nothing came for too long")]
    Idle,
}

/// Why a connection cannot go on.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Error {
    /// The peer does not speak RTMP.
    #[error("handshake: {0}")]
    Handshake(#[from] HandshakeError),
    /// The peer sent chunks that are not legal, or beyond our limits.
    #[error("chunk stream: {0}")]
    Chunk(#[from] ChunkError),
    /// The peer sent a control message that is not legal.
    #[error(transparent)]
    Message(#[from] MessageError),
    /// The peer sent a command that is not AMF0.
    #[error("command: {0}")]
    Amf0(#[from] Amf0Error),
    /// A deadline passed.
    #[error(transparent)]
    Timeout(#[from] TimeoutKind),
    /// The peer sent commands in an order that makes no sense.
    #[error("`{command}` came {when}")]
    OutOfOrder {
        /// The command.
        command: String,
        /// What was missing or too late.
        when: &'static str,
    },
    /// The peer was not let in yet and sends more than that takes.
    #[error("{received} bytes came without a stream being let in; {limit} are taken")]
    TooMuchBefore {
        /// Bytes that came.
        received: u64,
        /// The limit: four times `max_setup_message_bytes`.
        limit: u64,
    },
    /// The peer asks and asks without reading the answers.
    #[error("too many answers wait to be read")]
    Unread,
    /// Our own caller asked for something that the state does not allow.
    #[error("misuse: {0}")]
    Misuse(&'static str),
}
