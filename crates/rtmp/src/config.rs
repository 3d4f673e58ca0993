use std::time::Duration;

use crate::wire::Greeting;

/// Bounds on what a peer may cost.
#[derive(Clone, Debug)]
pub struct Limits {
    /// The longest message taken, in bytes. A keyframe of 30 Mbit/s with 2 s groups of pictures
    /// stays below 2 MiB. Default 4 MiB.
    pub max_message_bytes: u32,
    /// The longest message taken from a peer that was not let in yet, in bytes. Default 64 KiB: a
    /// `connect` takes one.
    pub max_setup_message_bytes: u32,
    /// How long the handshake may take. Default 5 s.
    pub handshake_timeout: Duration,
    /// How long a peer may take from the handshake to publishing. Default 10 s.
    pub setup_timeout: Duration,
    /// How long a publishing peer may be silent. Default 15 s.
    pub idle_timeout: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            max_message_bytes: 4 * 1024 * 1024,
            max_setup_message_bytes: 64 * 1024,
            handshake_timeout: Duration::from_secs(5),
            setup_timeout: Duration::from_secs(10),
            idle_timeout: Duration::from_secs(15),
        }
    }
}

/// How our server behaves.
#[derive(Clone, Debug)]
pub struct ServerConfig {
    /// Bounds on the peer.
    pub limits: Limits,
    /// Makes the bytes of the handshake; a run with the same seed is the same.
    pub seed: u64,
    /// Whether Enhanced RTMP is offered. Default true.
    pub is_enhanced: bool,
    /// If set, clients at this application name must show a user's password.
    pub guarded_app: Option<String>,
    /// If set, every client is sent to this address.
    pub redirect: Option<String>,
}

impl Default for ServerConfig {
    fn default() -> Self {
        Self { limits: Limits::default(), seed: 0, is_enhanced: true, guarded_app: None, redirect: None }
    }
}

/// How our client behaves.
#[derive(Clone, Debug)]
pub struct ClientConfig {
    /// Bounds on the peer. The idle timeout does not apply: a server may stay silent.
    pub limits: Limits,
    /// Makes the bytes of the handshake; a run with the same seed is the same.
    pub seed: u64,
    /// How we greet the server. Default plain.
    pub greeting: Greeting,
    /// Chunk size that we announce and use. Default 64 KiB: few headers, and no message of
    /// another kind waits long behind a keyframe.
    pub chunk_size: u32,
    /// What we call ourselves in `connect`.
    pub flash_version: String,
}

impl Default for ClientConfig {
    fn default() -> Self {
        Self {
            limits: Limits::default(),
            seed: 0,
            greeting: Greeting::default(),
            chunk_size: 64 * 1024,
            flash_version: "Waverant/0.1".to_owned(),
        }
    }
}
