//! The RTMP protocol as state machines without I/O: a server that takes publishers and serves
//! players, and a client that publishes or plays.
//!
//! Both are driven by the same calls: bytes go in by `handle_input`, deadlines by
//! `handle_timeout`; bytes to send come out of `poll_transmit`, deadlines of `poll_timeout` and
//! what the application must know of `poll_event`. Nothing here opens a socket or reads a clock.
//!
//! Source: Adobe's Real Time Messaging Protocol, version 1.0 of 21 December 2012 ("RTMP 1.0");
//! Enhanced RTMP, version 2 ("E-RTMP 2")

mod address;
mod amf0;
mod amf3;
mod amf_value;
mod budget;
mod capabilities;
mod challenge;
mod client;
mod command;
mod config;
mod deadline;
mod error;
mod link;
mod media_output;
mod metadata;
mod server;
mod timestamp;
mod wire;

#[cfg(test)]
mod tests;

pub use address::{AddressError, RtmpAddress};
pub use amf_value::Value;
pub use amf0::Amf0Error;
pub use amf3::Amf3Error;
pub use budget::Exceeded;
pub use capabilities::Capabilities;
pub use challenge::{CredentialsAnswer, password_digest};
pub use client::{ClientConnection, ClientEvent, ClientPurpose, ClientTarget};
pub use config::{ClientConfig, Limits, ServerConfig};
pub use error::{Error, TimeoutKind};
pub use link::LinkCounters;
pub use media_output::MediaOutput;
pub use metadata::{StreamMetadata, StreamMetadataBuilder, StreamRates, TrackLabel};
pub use server::{ConnectInfo, MediaKind, Player, Refusal, ServerConnection, ServerEvent, StreamRequest};
pub use timestamp::{Timestamp, TimestampUnwrapper};
pub use wire::{ChunkError, Greeting, HandshakeError, MessageError};
