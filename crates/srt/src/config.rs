use std::time::Duration;

use crate::crypto::{KeyLength, Passphrase};
use crate::wire::HEADER_LENGTH;

/// IP and UDP headers, as the specification counts them (§3.2.1, field MTU).
const LOWER_HEADERS: usize = 28;

/// The SRT version that we say we are: the features of the public draft.
pub(crate) const VERSION: u32 = 0x01_04_04;

/// Peers before this one have no handshake of version 5.
pub(crate) const OLDEST_VERSION: u32 = 0x01_03_00;

/// How fast packets may leave (§5.1.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bandwidth {
    /// At most so many bytes per second.
    Max(u64),
    /// The input is known, in bytes per second; retransmissions may add so many percent.
    Input {
        /// Bytes per second.
        rate: u64,
        /// Percent on top.
        overhead: u32,
    },
    /// The input is measured, and is never taken for less than `least` bytes per second.
    Estimated {
        /// Bytes per second.
        least: u64,
        /// Percent on top.
        overhead: u32,
    },
}

/// Four times what the stream has on average, and 50 Mbit/s at least. A keyframe, which the
/// application gives at once, leaves within some 25 ms: without a pace its hundreds of packets
/// overrun the queues on the way; at the draft's 25 % over the average they would use up the latency.
const SMOOTH: Bandwidth = Bandwidth::Estimated { least: 50_000_000 / 8 / 4, overhead: 300 };

/// A latency of 17 s at 20 Mbit/s, or a minute at 6 Mbit/s. Memory is taken for what waits, no more:
/// 43 MB at most.
const WINDOW: u32 = 1 << 15;

/// The receiver holds what this rate, in packets of 1316 bytes per second, brings within the
/// latency and a second: 100 Mbit/s.
const HELD_PACKETS_PER_SECOND: u128 = 100_000_000 / 8 / 1316;

/// Packets that the receiver may hold whatever the latency is.
const LEAST_HELD: u32 = 4096;

/// Packets that say they are due later than the latency and this much from now are not held: the
/// clocks of both ends begin with the handshake, and their drift is followed.
pub(crate) const EARLINESS: Duration = Duration::from_secs(2);

/// The pieces of one message of the peer together. In live mode a message is one packet; who
/// writes more at once stays far below.
pub(crate) const MAX_MESSAGE: usize = 512 * 1024;

/// Packets that the receiver holds at most with this latency: 6 MB of them below half a second, 49 MB
/// with the longest latencies. Nobody is to make the house keep more by what is on the wire.
pub(crate) fn receive_window(latency: Duration) -> u32 {
    let held = (latency.as_millis() + 1000) * HELD_PACKETS_PER_SECOND / 1000;
    u32::try_from(held).unwrap_or(u32::MAX).clamp(LEAST_HELD, WINDOW)
}

/// How a connection behaves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Config {
    /// What we wait for retransmissions when we receive; the larger wish of both ends counts.
    pub receive_latency: Duration,
    /// What the peer is to wait at least when we send.
    pub send_latency: Duration,
    /// The largest IP packet.
    pub mtu: u16,
    /// The largest payload that we send in one packet; 1316 are seven packets of MPEG-TS.
    pub payload_size: usize,
    /// Packets that may be on their way. The receiver holds at most so many, and fewer where its
    /// latency is short: what 100 Mbit/s bring within the latency and a second, 4096 at least.
    pub window: u32,
    /// Whether data of the peer is taken. An end that only sends leaves it out.
    pub takes_data: bool,
    /// Secret of both ends; None is without encryption.
    pub passphrase: Option<Passphrase>,
    /// Length of the key when we make it.
    pub key_length: KeyLength,
    /// Encrypt with authentication when we make the key. The public draft has no such mode.
    pub authenticated: bool,
    /// Packets after which a new key is taken.
    pub key_refresh: u32,
    /// Packets before that at which the new key is announced.
    pub key_announce: u32,
    /// A peer that says nothing for so long is gone.
    pub idle_timeout: Duration,
    /// How fast packets may leave.
    pub bandwidth: Bandwidth,
    /// Give up what comes too late, at both ends.
    pub drop_too_late: bool,
    /// How many packets may overtake one before it counts as lost, at most. What is in use grows
    /// and shrinks with what is seen.
    pub max_reorder_tolerance: u16,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            receive_latency: Duration::from_millis(120),
            send_latency: Duration::ZERO,
            mtu: 1500,
            payload_size: 1316,
            window: WINDOW,
            takes_data: true,
            passphrase: None,
            key_length: KeyLength::Aes128,
            authenticated: false,
            key_refresh: 1 << 24,
            key_announce: 1 << 12,
            idle_timeout: Duration::from_secs(5),
            bandwidth: SMOOTH,
            drop_too_late: true,
            max_reorder_tolerance: 64,
        }
    }
}

/// The largest payload that fits a packet of `mtu`.
pub(crate) fn largest_payload(mtu: usize) -> usize {
    mtu.saturating_sub(LOWER_HEADERS + HEADER_LENGTH)
}

/// Milliseconds as they stand in the handshake.
pub(crate) fn delay_ms(delay: Duration) -> u16 {
    u16::try_from(delay.as_millis()).unwrap_or(u16::MAX)
}
