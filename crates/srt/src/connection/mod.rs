//! A connection that both ends agreed on.

mod arrivals;
mod control;
mod data;
mod delivery_clock;
mod keys;
mod pacing;
mod payloads;
mod receiver;
mod rtt;
mod sender;

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use bytes::Bytes;
use thiserror::Error;

use crate::config::{self, Config};
use crate::crypto::Derivation;
use crate::number::SeqNumber;
use crate::randomness::Randomness;
use crate::statistics::Statistics;
use crate::wire::{ControlHeader, ControlKind, HEADER_LENGTH, Handshake, Header, KeyMaterial, SocketId};
use arrivals::Arrivals;
use control::{AckState, Control};
use delivery_clock::DeliveryClock;
pub(crate) use keys::Keys;
use pacing::Pacing;
use payloads::Payloads;
pub use receiver::Message;
use receiver::{Receiver, Whole};
use rtt::RoundTrip;
use sender::Sender;

/// Full acknowledgements are this far apart (§4.8.1).
const ACK_INTERVAL: Duration = Duration::from_millis(10);

/// Packets after which a light one is sent in between (§4.8.1).
const LIGHT_ACK_PACKETS: u32 = 64;

/// The shortest time between two reports of the same loss (§4.8.2).
const MIN_REPORT_INTERVAL: Duration = Duration::from_millis(20);

/// Without anything else to send a sign of life is sent this often (§4.11).
const KEEPALIVE_INTERVAL: Duration = Duration::from_secs(1);

/// How often a goodbye is said: nobody acknowledges it, and a peer that misses it waits for nothing.
const GOODBYES: usize = 3;

/// Control packets that wait at most; only a peer that asks for very many answers reaches it.
const MAX_CONTROL: usize = 64;

/// Why a connection is over.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum CloseReason {
    /// The peer said goodbye.
    #[error("the peer closed the connection")]
    Shutdown,
    /// The peer says nothing.
    #[error("nothing was heard of the peer for {0:?}")]
    Idle(Duration),
    /// We closed it.
    #[error("closed from this end")]
    Closed,
    /// The peer cannot use our key.
    #[error("the peer refuses our key: its passphrase is another")]
    BadSecret,
}

/// Why a message was not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SendError {
    /// The send buffer is full: the line is too slow.
    #[error("the send buffer is full: the line does not carry what is given")]
    Full,
    /// The connection is over.
    #[error("the connection is over")]
    Over,
}

/// What both ends agreed on in the handshake.
#[derive(Debug)]
pub(crate) struct Agreement {
    pub(crate) peer: SocketAddr,
    pub(crate) local_id: SocketId,
    pub(crate) remote_id: SocketId,
    pub(crate) initial_seq: SeqNumber,
    /// When our clock began.
    pub(crate) start: Instant,
    /// The peer's clock when its handshake came.
    pub(crate) peer_timestamp: u32,
    pub(crate) receive_latency: Duration,
    pub(crate) send_latency: Duration,
    pub(crate) payload_size: usize,
    /// The largest IP packet of both ends.
    pub(crate) mtu: usize,
    pub(crate) window: u32,
    pub(crate) reports_periodically: bool,
    pub(crate) keys: Option<Keys>,
    /// What the handshake took, if that is known.
    pub(crate) round_trip: Option<Duration>,
    /// Our last handshake, which is sent again if the peer repeats its own.
    pub(crate) response: Option<Box<Handshake>>,
}

/// One end of a connection. Datagrams go in by [`handle_datagram`](Self::handle_datagram) and
/// messages by [`send`](Self::send); datagrams come out of [`poll_transmit`](Self::poll_transmit)
/// and messages, when it is time for them, of [`poll_message`](Self::poll_message).
///
/// Source: §4 of the public SRT draft, live mode.
#[derive(Debug)]
pub struct Connection {
    config: Config,
    peer: SocketAddr,
    local_id: SocketId,
    remote_id: SocketId,
    start: Instant,
    send_latency: Duration,
    payload_size: usize,
    /// What the peer may send in one packet.
    largest_payload: usize,
    receive_latency: Duration,
    reports_periodically: bool,
    sender: Sender,
    receiver: Receiver,
    clock: DeliveryClock,
    round_trip: RoundTrip,
    has_own_round_trip: bool,
    arrivals: Arrivals,
    pacing: Pacing,
    ack: AckState,
    control: VecDeque<Control>,
    keys: Option<Keys>,
    payloads: Payloads,
    /// The message that was handed on last.
    handed_on: Vec<u8>,
    random: Randomness,
    response: Option<Box<Handshake>>,
    heard_at: Instant,
    spoke_at: Instant,
    closed: Option<CloseReason>,
    statistics: Statistics,
    /// Kept for its memory.
    header: Vec<u8>,
    /// New keys of the peer that wait for the key they are wrapped with.
    awaited_key: Option<KeyMaterial>,
    derivation: Option<Derivation>,
    /// Plays a peer that repeats its reports only so often before it knows the round trip.
    #[cfg(test)]
    first_report_interval: Option<Duration>,
}

impl Connection {
    pub(crate) fn new(config: Config, agreement: Agreement, random: Randomness, now: Instant) -> Self {
        let Agreement { peer, local_id, remote_id, initial_seq, start, send_latency, payload_size, window, .. } =
            agreement;
        let statistics =
            Statistics { receive_latency: agreement.receive_latency, send_latency, ..Statistics::default() };
        let receive_window = window.min(config::receive_window(agreement.receive_latency));
        let receiver = Receiver::new(initial_seq, receive_window, config.drop_too_late, config.max_reorder_tolerance);
        let mut connection = Self {
            peer,
            local_id,
            remote_id,
            start,
            send_latency,
            payload_size,
            largest_payload: config::largest_payload(agreement.mtu),
            receive_latency: agreement.receive_latency,
            reports_periodically: agreement.reports_periodically,
            sender: Sender::new(initial_seq, window, now),
            receiver,
            clock: DeliveryClock::new(now, agreement.peer_timestamp, agreement.receive_latency),
            round_trip: agreement.round_trip.map_or_else(RoundTrip::default, RoundTrip::estimated),
            has_own_round_trip: false,
            arrivals: Arrivals::new(),
            pacing: Pacing::new(config.bandwidth),
            ack: AckState::new(initial_seq, now),
            control: VecDeque::new(),
            keys: agreement.keys,
            payloads: Payloads::default(),
            handed_on: Vec::new(),
            random,
            response: agreement.response,
            heard_at: now,
            spoke_at: now,
            closed: None,
            statistics,
            header: Vec::with_capacity(HEADER_LENGTH),
            awaited_key: None,
            derivation: None,
            #[cfg(test)]
            first_report_interval: None,
            config,
        };
        connection.repeat_response();
        connection
    }

    /// Where the peer is.
    pub fn peer(&self) -> SocketAddr {
        self.peer
    }

    /// Our number of this connection, which the peer's packets are addressed to.
    pub fn local_id(&self) -> u32 {
        self.local_id
    }

    /// The peer's number of this connection.
    pub fn remote_id(&self) -> u32 {
        self.remote_id
    }

    /// True if payloads are encrypted.
    pub fn is_encrypted(&self) -> bool {
        self.keys.is_some()
    }

    /// The largest message that leaves in one packet.
    pub fn payload_size(&self) -> usize {
        self.payload_size
    }

    /// The shorter of both latencies.
    pub fn least_latency(&self) -> Duration {
        self.send_latency.min(self.receive_latency)
    }

    /// What the peer waits before it hands on what we send.
    pub fn send_latency(&self) -> Duration {
        self.send_latency
    }

    /// Why the connection is over, if it is.
    pub fn close_reason(&self) -> Option<CloseReason> {
        self.closed
    }

    /// True if the connection is over and nothing that came is left to be handed on.
    pub fn is_done(&self) -> bool {
        match self.closed {
            None => false,
            // What the peer sent before its goodbye still has its time.
            Some(CloseReason::Shutdown) => self.receiver.held() == 0,
            Some(_) => true,
        }
    }

    /// Takes a datagram of the peer. It must have come from [`peer`](Self::peer).
    pub fn handle_datagram(&mut self, now: Instant, datagram: &[u8]) {
        match Header::parse(datagram) {
            _ if self.closed.is_some() => {}
            Ok(Header::Data(header)) => {
                self.heard_at = now;
                let (raw_header, payload) = datagram.split_at(HEADER_LENGTH);
                self.handle_data(now, &header, raw_header, payload);
            }
            Ok(Header::Control(header)) => {
                self.heard_at = now;
                self.handle_control(now, &header, &datagram[HEADER_LENGTH..]);
            }
            Err(_) => self.statistics.malformed_packets += 1,
        }
    }

    /// Takes a message to be sent. It is sent in pieces if it is larger than a packet.
    ///
    /// # Errors
    /// [`SendError`] if it was not taken.
    pub fn send(&mut self, now: Instant, message: &Bytes) -> Result<(), SendError> {
        if self.closed.is_some() {
            return Err(SendError::Over);
        }
        self.drop_too_late(now);
        if !self.sender.push(now, message, self.payload_size) {
            return Err(SendError::Full);
        }
        self.pacing.note_input(now, message.len());
        Ok(())
    }

    /// True if nothing waits to be sent or acknowledged.
    pub fn is_flushed(&self) -> bool {
        self.sender.is_empty()
    }

    /// Ends the connection; the peer is told.
    pub fn close(&mut self) {
        if self.closed.is_none() {
            self.end(CloseReason::Closed);
        }
    }

    /// A goodbye, for a peer that goes on after the connection is over: it missed the others.
    pub fn farewell(&self, now: Instant) -> Vec<u8> {
        let mut out = Vec::new();
        let header = (ControlKind::Shutdown, 0);
        write_control_packet(header, (self.start, now), self.remote_id, &mut out, |_| {});
        out
    }

    fn end(&mut self, reason: CloseReason) {
        self.closed = Some(reason);
        self.control.clear();
        self.control.extend(std::iter::repeat_n(Control::Shutdown, GOODBYES));
    }

    /// Takes a repeated conclusion of a caller: our answer was lost.
    pub fn repeat_response(&mut self) {
        if self.response.is_some() && !self.control.contains(&Control::Response) {
            self.control.push_front(Control::Response);
        }
    }

    /// Acts on what is due; harmless if called early.
    pub fn handle_timeout(&mut self, now: Instant) {
        if self.closed.is_some() {
            return;
        }
        if now.saturating_duration_since(self.heard_at) >= self.config.idle_timeout {
            return self.end(CloseReason::Idle(self.config.idle_timeout));
        }
        self.drop_too_late(now);
        self.acknowledge(now);
        self.report_losses(now);
        let patience = self.round_trip.patience() + 2 * ACK_INTERVAL;
        if self.sender.silence_ends(patience).is_some_and(|at| at <= now) {
            self.sender.repeat_last(now, patience, !self.reports_periodically);
        }
        if self.sender.first_is_overdue_at(patience).is_some_and(|at| at <= now) {
            self.sender.repeat_first();
        }
        self.announce_keys(now);
        if now.saturating_duration_since(self.spoke_at) >= KEEPALIVE_INTERVAL {
            self.say(Control::KeepAlive);
        }
    }

    /// When [`handle_timeout`](Self::handle_timeout), [`poll_message`](Self::poll_message) or
    /// [`poll_transmit`](Self::poll_transmit) is to be called. May change with any call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        if self.closed.is_some() {
            return if self.is_done() { None } else { self.receiver.next_due(&self.clock) };
        }
        let patience = self.round_trip.patience() + 2 * ACK_INTERVAL;
        let departure = || self.sender.has_departure().then(|| self.pacing.next_at().unwrap_or(self.start));
        let timeouts = [
            Some(self.heard_at + self.config.idle_timeout),
            Some(self.spoke_at + KEEPALIVE_INTERVAL),
            self.ack.next_at(self.receiver.next_expected(), self.round_trip.patience()),
            self.receiver.next_report(),
            self.receiver.next_due(&self.clock),
            self.sender.silence_ends(patience),
            self.sender.first_is_overdue_at(patience),
            self.keys.as_ref().and_then(|keys| keys.announce_at(self.round_trip.time())),
            departure(),
        ];
        timeouts.into_iter().flatten().min()
    }

    /// Appends the next datagram to `out`, and returns its length; None if there is none now.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Instant, out: &mut Vec<u8>) -> Option<usize> {
        let start = out.len();
        if let Some(control) = self.control.pop_front() {
            self.write_control(now, control, out);
        } else {
            self.write_data(now, out)?;
        }
        self.spoke_at = now;
        Some(out.len() - start)
    }

    /// The next message, if it is time for it; call until None.
    #[must_use]
    pub fn poll_message(&mut self, now: Instant) -> Option<Message<'_>> {
        self.payloads.give_back(std::mem::take(&mut self.handed_on));
        let released = self.receiver.release(now, &self.clock, &mut self.payloads);
        self.statistics.received.dropped_packets += u64::from(released.dropped);
        let Whole { payload, peer_time_us, lost_before } = released.message?;
        self.statistics.received.messages += 1;
        self.handed_on = payload;
        Some(Message { payload: &self.handed_on, peer_time_us, lost_before })
    }

    /// Figures of the connection as they are now.
    pub fn statistics(&self, now: Instant) -> Statistics {
        let mut statistics = self.statistics;
        (statistics.rtt, statistics.rtt_variance) = (self.round_trip.time(), self.round_trip.variance());
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let sent = &mut statistics.sent;
        (sent.in_flight_packets, sent.waiting_packets) = (count(self.sender.in_flight()), count(self.sender.waiting()));
        sent.buffered = self.sender.oldest().map_or(Duration::ZERO, |at| now.saturating_duration_since(at));
        let received = &mut statistics.received;
        let (oldest, newest) = self.receiver.span();
        received.buffered = Duration::from_micros(u64::try_from(newest - oldest).unwrap_or_default());
        received.buffered_packets = count(self.receiver.held());
        received.window_packets = count(self.receiver.window());
        received.bytes_per_second = self.arrivals.bytes_per_second();
        received.drift_us = self.clock.drift_us();
        statistics
    }

    /// Lets this end repeat its reports only after `interval` before it knows the round trip.
    #[cfg(test)]
    pub(crate) fn set_first_report_interval(&mut self, interval: Duration) {
        self.first_report_interval = Some(interval);
    }

    /// Lets the next messages have numbers near the wrap.
    #[cfg(test)]
    pub(crate) fn set_next_message(&mut self, number: u32) {
        self.sender.set_next_message(crate::number::MessageNumber::new(number));
    }

    fn say(&mut self, control: Control) {
        if self.control.len() < MAX_CONTROL {
            self.control.push_back(control);
        }
    }
}

/// Our clock as it stands in packets.
pub(crate) fn timestamp(start: Instant, at: Instant) -> u32 {
    let micros = at.saturating_duration_since(start).as_micros();
    u32::try_from(micros & 0xffff_ffff).unwrap_or_default()
}

/// A control packet with nothing in it has a word of padding all the same: some readers want one.
fn write_control_packet(
    header: (ControlKind, u32),
    (start, now): (Instant, Instant),
    destination: SocketId,
    out: &mut Vec<u8>,
    body: impl FnOnce(&mut Vec<u8>),
) {
    let (kind, info) = header;
    ControlHeader { kind, info, timestamp: timestamp(start, now), destination }.write(out);
    let body_start = out.len();
    body(out);
    if out.len() == body_start {
        out.extend_from_slice(&[0; 4]);
    }
}
