//! The RTMP protocol as state machines without I/O: a server that takes publishers, and a client
//! that publishes.
//!
//! Both are driven by the same calls: bytes go in by `handle_input`, deadlines by
//! `handle_timeout`; bytes to send come out of `poll_transmit`, deadlines of `poll_timeout` and
//! what the application must know of `poll_event`. Nothing here opens a socket or reads a clock.
//!
//! Source: Adobe's Real Time Messaging Protocol, version 1.0 of 21 December 2012 ("RTMP 1.0")

mod address;
mod amf0;
mod client;
mod command;
mod config;
mod deadline;
mod error;
mod link;
mod metadata;
mod server;
mod timestamp;
mod wire;

#[cfg(test)]
mod tests;

pub use address::{AddressError, RtmpAddress};
pub use amf0::{Amf0Error, Value};
pub use client::{ClientConnection, ClientEvent, ClientTarget};
pub use config::{ClientConfig, Limits, ServerConfig};
pub use error::{Error, TimeoutKind};
pub use link::LinkCounters;
pub use metadata::{StreamMetadata, StreamMetadataBuilder};
pub use server::{MediaKind, PublishRequest, Refusal, ServerConnection, ServerEvent};
pub use timestamp::{Timestamp, TimestampUnwrapper};
pub use wire::{ChunkError, HandshakeError, MessageError};
