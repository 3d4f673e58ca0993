use std::net::SocketAddr;
use std::time::{Duration, Instant};

use thiserror::Error;

use crate::config::{Config, OLDEST_VERSION, VERSION, delay_ms, largest_payload};
use crate::connection::{Agreement, Connection, Keys, timestamp};
use crate::crypto::{KeyRing, Sealer, TAG_LENGTH};
use crate::listener::{handshake_packet, millis, random_seq};
use crate::number::SeqNumber;
use crate::randomness::Randomness;
use crate::reject::RejectReason;
use crate::wire::{
    ControlKind, Extension, HEADER_LENGTH, Handshake, HandshakeKind, Header, INDUCTION_MAGIC, KeyMaterialState, Terms,
    address_field, flags,
};

/// A handshake is sent again after this (§4.3).
const REPEAT_INTERVAL: Duration = Duration::from_millis(250);

/// How long we try.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(3);

/// What the first handshake says in its extension field: messages (§4.3.1.1).
const MESSAGES: u16 = 2;

/// Why a call did not lead to a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum CallError {
    /// The peer says no.
    #[error("the peer refuses: {0}")]
    Refused(RejectReason),
    /// No answer.
    #[error("no answer within {0:?}; is the address right, and is UDP let through?")]
    Timeout(Duration),
    /// The peer is too old.
    #[error("the peer speaks handshake version {0}; version 5 is needed")]
    Version(u32),
    /// The peer takes calls only from its own kind, or has an answer that is not to be understood.
    #[error("the peer's answer is not right: {0}")]
    Answer(&'static str),
}

#[derive(Debug)]
enum CallStep {
    Induction,
    Conclusion(Box<Handshake>),
}

/// The end that calls, until it is connected.
#[derive(Debug)]
pub struct Caller {
    config: Config,
    peer: SocketAddr,
    stream_id: Option<String>,
    local_id: u32,
    initial_seq: SeqNumber,
    sealer: Option<Sealer>,
    random: Randomness,
    start: Instant,
    said_at: Option<Instant>,
    /// How long the answer to the first handshake took.
    round_trip: Option<Duration>,
    step: CallStep,
}

impl Caller {
    /// A call of `peer` that begins at `now`. `local_id` is our number of the connection, and
    /// must not be 0.
    pub fn new(
        config: Config,
        peer: SocketAddr,
        stream_id: Option<String>,
        local_id: u32,
        mut random: Randomness,
        now: Instant,
    ) -> Self {
        let sealer = config.passphrase.as_ref();
        let sealer =
            sealer.and_then(|secret| Sealer::new(secret, config.key_length, config.authenticated, &mut random));
        let initial_seq = random_seq(&mut random);
        Self {
            config,
            peer,
            stream_id,
            local_id,
            initial_seq,
            sealer,
            random,
            start: now,
            said_at: None,
            round_trip: None,
            step: CallStep::Induction,
        }
    }

    /// Begins with another number than a random one.
    #[must_use]
    pub fn with_initial_seq(mut self, number: u32) -> Self {
        self.initial_seq = SeqNumber::new(number);
        self
    }

    /// Takes a datagram of the peer; returns the connection once it is agreed on.
    ///
    /// # Errors
    /// [`CallError`] if there will be none.
    pub fn handle_datagram(&mut self, now: Instant, datagram: &[u8]) -> Result<Option<Connection>, CallError> {
        let Ok(Header::Control(header)) = Header::parse(datagram) else { return Ok(None) };
        if header.kind != ControlKind::Handshake || header.destination != self.local_id {
            return Ok(None);
        }
        let handshake = Handshake::parse(&datagram[HEADER_LENGTH..])
            .map_err(|_| CallError::Answer("its handshake cannot be read"))?;
        match (handshake.kind, &self.step) {
            (HandshakeKind::Refusal(reason), _) => Err(CallError::Refused(reason)),
            (HandshakeKind::Induction, CallStep::Induction) => {
                if handshake.version != 5 || handshake.extension_field != INDUCTION_MAGIC {
                    return Err(CallError::Version(handshake.version.min(4)));
                }
                self.round_trip = self.said_at.map(|at| now.saturating_duration_since(at));
                self.step = CallStep::Conclusion(Box::new(self.conclusion(&handshake)));
                self.said_at = None;
                Ok(None)
            }
            (HandshakeKind::Conclusion, CallStep::Conclusion(_)) => {
                self.connect(now, header.timestamp, &handshake).map(Some)
            }
            _ => Ok(None),
        }
    }

    /// The datagram that is to be sent now, if there is one.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Instant) -> Option<Vec<u8>> {
        if self.said_at.is_some_and(|at| now < at + REPEAT_INTERVAL) {
            return None;
        }
        self.said_at = Some(now);
        // Each is stamped when it leaves: the listener sets its clock by the one that comes through.
        let stamped = |handshake: &Handshake| handshake_packet(timestamp(self.start, now), 0, handshake);
        Some(match &self.step {
            CallStep::Induction => stamped(&self.blank()),
            CallStep::Conclusion(handshake) => stamped(handshake),
        })
    }

    /// When [`poll_transmit`](Self::poll_transmit) and [`handle_timeout`](Self::handle_timeout)
    /// are to be called.
    #[must_use]
    pub fn poll_timeout(&self) -> Instant {
        self.said_at.map_or(self.start, |at| at + REPEAT_INTERVAL).min(self.start + CONNECT_TIMEOUT)
    }

    /// # Errors
    /// [`CallError::Timeout`] if the peer did not answer in time.
    pub fn handle_timeout(&mut self, now: Instant) -> Result<(), CallError> {
        if now >= self.start + CONNECT_TIMEOUT { Err(CallError::Timeout(CONNECT_TIMEOUT)) } else { Ok(()) }
    }

    /// True once the peer has shown that it is a listener of SRT.
    pub fn was_answered(&self) -> bool {
        matches!(self.step, CallStep::Conclusion(_))
    }

    fn blank(&self) -> Handshake {
        Handshake {
            version: 4,
            encryption: 0,
            extension_field: MESSAGES,
            initial_seq: self.initial_seq,
            mtu: self.config.mtu.into(),
            flow_window: self.config.window,
            kind: HandshakeKind::Induction,
            socket_id: self.local_id,
            cookie: 0,
            peer_address: address_field(self.peer.ip()),
            extensions: Vec::new(),
        }
    }

    fn conclusion(&self, answer: &Handshake) -> Handshake {
        let terms = Terms {
            version: VERSION,
            flags: flags::LIVE,
            receiver_delay_ms: delay_ms(self.config.receive_latency),
            sender_delay_ms: delay_ms(self.config.send_latency),
        };
        let mut extensions = vec![Extension::TermsRequest(terms)];
        extensions.extend(self.sealer.as_ref().map(|sealer| Extension::KeyRequest(sealer.message().to_bytes())));
        extensions.extend(self.stream_id.clone().map(Extension::StreamId));
        let key_blocks = u16::try_from(self.config.key_length.bytes() / 8).unwrap_or_default();
        let handshake = Handshake {
            version: 5,
            encryption: if self.sealer.is_some() { key_blocks } else { 0 },
            kind: HandshakeKind::Conclusion,
            cookie: answer.cookie,
            ..self.blank()
        };
        handshake.with_extensions(extensions)
    }

    fn connect(&mut self, now: Instant, peer_timestamp: u32, handshake: &Handshake) -> Result<Connection, CallError> {
        let terms = handshake.extensions.iter().find_map(|extension| match extension {
            Extension::TermsResponse(terms) => Some(*terms),
            _ => None,
        });
        let terms = terms.ok_or(CallError::Answer("it has no SRT extension"))?;
        if terms.version < OLDEST_VERSION {
            return Err(CallError::Refused(RejectReason::VERSION));
        }
        let keys = self.confirmed_keys(handshake)?;
        let mtu = handshake.mtu.clamp(576, self.config.mtu.into());
        let overhead = if keys.as_ref().is_some_and(Keys::is_authenticated) { TAG_LENGTH } else { 0 };
        let agreement = Agreement {
            peer: self.peer,
            local_id: self.local_id,
            remote_id: handshake.socket_id,
            initial_seq: self.initial_seq,
            start: self.start,
            peer_timestamp,
            receive_latency: self.config.receive_latency.max(millis(terms.sender_delay_ms)),
            send_latency: self.config.send_latency.max(millis(terms.receiver_delay_ms)),
            payload_size: self.config.payload_size.min(largest_payload(mtu as usize) - overhead),
            mtu: mtu as usize,
            window: handshake.flow_window.clamp(32, self.config.window),
            reports_periodically: terms.flags & flags::REPORTS_PERIODICALLY != 0,
            keys,
            round_trip: self.round_trip,
            response: None,
        };
        let random = Randomness::new(self.random.seed());
        Ok(Connection::new(self.config.clone(), agreement, random, now))
    }

    /// The keys of both directions, if the peer took ours.
    fn confirmed_keys(&self, handshake: &Handshake) -> Result<Option<Keys>, CallError> {
        let (Some(sealer), Some(passphrase)) = (&self.sealer, &self.config.passphrase) else { return Ok(None) };
        let answer = handshake.extensions.iter().find_map(|extension| match extension {
            Extension::KeyResponse(raw) => Some(raw),
            _ => None,
        });
        let message = sealer.message();
        match answer {
            Some(raw) if *raw == message.to_bytes() => {}
            Some(raw) if KeyMaterialState::parse(raw) == Some(KeyMaterialState::BadSecret) => {
                return Err(CallError::Refused(RejectReason::BAD_SECRET));
            }
            _ => return Err(CallError::Refused(RejectReason::UNSECURE)),
        }
        let (mut ring, mut wrapping) = (KeyRing::default(), Some(sealer.wrapping().clone()));
        ring.take(passphrase, &mut wrapping, &message).map_err(|_| CallError::Refused(RejectReason::INTERNAL))?;
        let (refresh, announce) = (self.config.key_refresh, self.config.key_announce);
        Ok(Some(Keys::new(passphrase.clone(), sealer.clone(), ring, refresh, announce)))
    }
}

/// The number of a datagram's connection at this end: 0 is the listener.
pub fn destination(datagram: &[u8]) -> Option<u32> {
    Header::parse(datagram).ok().map(|header| header.destination())
}

/// A handshake of a caller that may be known already: its number of the connection.
pub fn conclusion_from(datagram: &[u8]) -> Option<u32> {
    let Ok(Header::Control(header)) = Header::parse(datagram) else { return None };
    (header.kind == ControlKind::Handshake).then_some(())?;
    crate::wire::word_at(datagram, HEADER_LENGTH + 24)
}
