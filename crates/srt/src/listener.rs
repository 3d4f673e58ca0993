use std::net::SocketAddr;
use std::time::{Duration, Instant};

use bytes::Bytes;

use crate::config::{Config, OLDEST_VERSION, VERSION, delay_ms, largest_payload};
use crate::connection::{Agreement, Connection, Keys, timestamp};
use crate::cookie::Cookies;
use crate::crypto::{Derivation, DerivedKey, KeyRing, Passphrase, Sealer, TAG_LENGTH};
use crate::number::SeqNumber;
use crate::randomness::Randomness;
use crate::reject::RejectReason;
use crate::wire::{
    ControlHeader, ControlKind, Extension, Group, HEADER_LENGTH, Handshake, HandshakeError, HandshakeKind, Header,
    INDUCTION_MAGIC, KeyMaterial, KeyMaterialError, SocketId, Terms, address_field, flags,
};

/// The only congestion control of live mode (§5.1).
const LIVE: &str = "live";

/// The least flow window that is any use.
const MIN_WINDOW: u32 = 32;

/// The least MTU: an IPv4 host must take it.
const MIN_MTU: u32 = 576;

/// A caller that showed its address and asks to be let in.
#[derive(Clone, Debug)]
pub struct Request {
    from: SocketAddr,
    timestamp: u32,
    handshake: Handshake,
    terms: Terms,
    key_material: Option<Bytes>,
    stream_id: Option<String>,
    group: Option<Group>,
}

impl Request {
    /// Where it comes from.
    pub fn from(&self) -> SocketAddr {
        self.from
    }

    /// The caller's number of the connection: with the address it names the connection.
    pub fn remote_id(&self) -> u32 {
        self.handshake.socket_id
    }

    /// What the caller wants, as it said.
    pub fn stream_id(&self) -> Option<&str> {
        self.stream_id.as_deref()
    }

    /// True if the caller will encrypt.
    pub fn is_encrypted(&self) -> bool {
        self.key_material.is_some()
    }

    /// The work that must be done before the caller can be accepted with this passphrase; None if
    /// it does not encrypt, or its key cannot be read.
    pub fn derivation(&self, passphrase: &Passphrase) -> Option<Derivation> {
        let message = KeyMaterial::parse(self.key_material.as_ref()?).ok()?;
        Some(Derivation::new(passphrase, &message))
    }

    /// The caller's version as three numbers.
    pub fn version(&self) -> (u32, u32, u32) {
        let version = self.terms.version;
        (version >> 16, version >> 8 & 0xff, version & 0xff)
    }

    /// What the caller wants us to wait at least when we receive.
    pub fn wanted_receive_latency(&self) -> Duration {
        Duration::from_millis(self.terms.sender_delay_ms.into())
    }

    /// The group that the caller wants to join, if it does.
    pub fn group(&self) -> Option<Group> {
        self.group
    }
}

/// What a listener makes of a datagram that is for no connection.
#[derive(Debug)]
pub enum ListenerEvent {
    /// Send this back to where it came from.
    Answer(Vec<u8>),
    /// A caller waits for [`Listener::accept`] or [`Listener::refuse`]. The same caller asks
    /// again until it is answered: look for a connection with its address and number first.
    Request(Box<Request>),
    /// Refused without asking: send the answer back. Says why.
    Refused {
        /// To be sent back.
        answer: Vec<u8>,
        /// Why.
        reason: RejectReason,
        /// What was wrong, in words.
        detail: String,
    },
    /// Nothing to be done.
    Ignored,
}

/// Why a connection was not made although the application wanted it.
#[derive(Debug)]
pub struct Refused {
    /// To be sent back.
    pub answer: Vec<u8>,
    /// Why.
    pub reason: RejectReason,
}

/// The end that is called. It keeps nothing about callers until they are let in.
#[derive(Debug)]
pub struct Listener {
    cookies: Cookies,
    random: Randomness,
    start: Instant,
    mtu: u16,
    window: u32,
}

impl Listener {
    /// A listener that began at `now`. The mtu and window of `config` hold for all connections.
    pub fn new(config: &Config, mut random: Randomness, now: Instant) -> Self {
        let cookies = Cookies::new(random.seed(), now);
        Self { cookies, random, start: now, mtu: config.mtu, window: config.window }
    }

    /// Takes a datagram that is for no connection.
    pub fn handle_datagram(&self, now: Instant, from: SocketAddr, datagram: &[u8]) -> ListenerEvent {
        let Ok(Header::Control(header)) = Header::parse(datagram) else { return ListenerEvent::Ignored };
        if header.kind != ControlKind::Handshake || header.destination != 0 {
            return ListenerEvent::Ignored;
        }
        let handshake = match Handshake::parse(&datagram[HEADER_LENGTH..]) {
            Ok(handshake) => handshake,
            Err(error) => return self.damaged(now, from, datagram, error),
        };
        match handshake.kind {
            HandshakeKind::Induction => ListenerEvent::Answer(self.answer_induction(now, from, &handshake)),
            // Whoever sends this does not know what we sent to its address.
            HandshakeKind::Conclusion if !self.cookies.is_ours(now, from, handshake.cookie) => ListenerEvent::Ignored,
            HandshakeKind::Conclusion => match read_request(from, &header, handshake.clone()) {
                Ok(request) => ListenerEvent::Request(Box::new(request)),
                Err((reason, detail)) => {
                    let answer = self.refusal(now, from, &handshake, reason);
                    ListenerEvent::Refused { answer, reason, detail }
                }
            },
            _ => ListenerEvent::Ignored,
        }
    }

    /// Lets a caller in. `config` may differ from caller to caller in everything but mtu and window.
    /// `derived` is what the [`derivation`](Request::derivation) gave that the request asks for.
    ///
    /// # Errors
    /// [`Refused`] if the two ends do not go together: send its answer.
    pub fn accept(
        &mut self,
        now: Instant,
        request: &Request,
        local_id: u32,
        config: Config,
        derived: Option<DerivedKey>,
    ) -> Result<Connection, Refused> {
        let random = Randomness::new(self.random.seed());
        let refused = |reason| Refused { answer: self.refusal(now, request.from, &request.handshake, reason), reason };
        let (keys, key_response) = accept_keys(request, &config, derived).map_err(refused)?;
        let theirs = &request.terms;
        let receive_latency = config.receive_latency.max(millis(theirs.sender_delay_ms));
        let send_latency = config.send_latency.max(millis(theirs.receiver_delay_ms));
        let ours = Terms {
            version: VERSION,
            flags: flags::LIVE,
            receiver_delay_ms: delay_ms(receive_latency),
            sender_delay_ms: delay_ms(send_latency),
        };
        let mut extensions = vec![Extension::TermsResponse(ours)];
        extensions.extend(key_response.map(Extension::KeyResponse));
        let (mtu, window) =
            (request.handshake.mtu.min(self.mtu.into()), request.handshake.flow_window.min(self.window));
        let response = Handshake {
            version: 5,
            mtu,
            flow_window: window,
            kind: HandshakeKind::Conclusion,
            socket_id: local_id,
            peer_address: address_field(request.from.ip()),
            ..request.handshake.clone()
        };
        let response = response.with_extensions(extensions);
        let overhead = if keys.as_ref().is_some_and(Keys::is_authenticated) { TAG_LENGTH } else { 0 };
        let agreement = Agreement {
            peer: request.from,
            local_id,
            remote_id: request.remote_id(),
            initial_seq: request.handshake.initial_seq,
            // Its clock begins with the connection (§3).
            start: now,
            peer_timestamp: request.timestamp,
            receive_latency,
            send_latency,
            payload_size: config.payload_size.min(largest_payload(mtu as usize) - overhead),
            mtu: mtu as usize,
            window,
            reports_periodically: theirs.flags & flags::REPORTS_PERIODICALLY != 0,
            keys,
            // It keeps nothing of who asked before.
            round_trip: None,
            response: Some(Box::new(response)),
        };
        Ok(Connection::new(config, agreement, random, now))
    }

    /// What tells a caller that it is not let in.
    pub fn refuse(&self, now: Instant, request: &Request, reason: RejectReason) -> Vec<u8> {
        self.refusal(now, request.from, &request.handshake, reason)
    }

    /// The answer is as long as what came: nobody can be flooded by way of us.
    fn answer_induction(&self, now: Instant, from: SocketAddr, induction: &Handshake) -> Vec<u8> {
        let answer = Handshake {
            version: 5,
            encryption: 0,
            extension_field: INDUCTION_MAGIC,
            mtu: self.mtu.into(),
            flow_window: self.window,
            socket_id: 0,
            cookie: self.cookies.make(now, from),
            peer_address: address_field(from.ip()),
            ..induction.clone()
        };
        self.packet(now, induction.socket_id, &answer)
    }

    fn refusal(&self, now: Instant, from: SocketAddr, handshake: &Handshake, reason: RejectReason) -> Vec<u8> {
        let answer = Handshake {
            version: 5,
            encryption: 0,
            extension_field: 0,
            kind: HandshakeKind::Refusal(reason),
            socket_id: 0,
            peer_address: address_field(from.ip()),
            extensions: Vec::new(),
            ..handshake.clone()
        };
        self.packet(now, handshake.socket_id, &answer)
    }

    /// A damaged conclusion is answered if its cookie is ours, and else not.
    fn damaged(&self, now: Instant, from: SocketAddr, datagram: &[u8], error: HandshakeError) -> ListenerEvent {
        const FIXED: usize = HEADER_LENGTH + 48;
        let fixed = datagram.get(HEADER_LENGTH..FIXED).and_then(Handshake::parse_fixed);
        match fixed {
            Some(handshake) if self.cookies.is_ours(now, from, handshake.cookie) => {
                let reason = RejectReason::ROGUE;
                let answer = self.refusal(now, from, &handshake, reason);
                ListenerEvent::Refused { answer, reason, detail: error.to_string() }
            }
            _ => ListenerEvent::Ignored,
        }
    }

    fn packet(&self, now: Instant, destination: SocketId, handshake: &Handshake) -> Vec<u8> {
        handshake_packet(timestamp(self.start, now), destination, handshake)
    }
}

/// A datagram with a handshake.
pub(crate) fn handshake_packet(timestamp: u32, destination: SocketId, handshake: &Handshake) -> Vec<u8> {
    let mut out = Vec::with_capacity(256);
    ControlHeader { kind: ControlKind::Handshake, info: 0, timestamp, destination }.write(&mut out);
    handshake.write(&mut out);
    out
}

type Fault = (RejectReason, String);

fn read_request(from: SocketAddr, header: &ControlHeader, handshake: Handshake) -> Result<Request, Fault> {
    if handshake.version < 5 {
        let detail = format!("handshake version {}; version 5 is needed (SRT 1.3 or newer)", handshake.version);
        return Err((RejectReason::VERSION, detail));
    }
    check_sizes(&handshake)?;
    let (mut terms, mut key_material, mut stream_id, mut group) = (None, None, None, None);
    for extension in &handshake.extensions {
        match extension {
            Extension::TermsRequest(found) => terms = Some(*found),
            Extension::KeyRequest(raw) => key_material = Some(raw.clone()),
            Extension::StreamId(text) => stream_id = Some(text.clone()),
            Extension::Group(found) => group = Some(*found),
            Extension::Congestion(name) if name != LIVE => {
                return Err((RejectReason::CONGESTION, format!("congestion control `{name}`; `{LIVE}` is offered")));
            }
            Extension::Filter(filter) => {
                return Err((
                    RejectReason::FILTER,
                    format!("packet filter `{filter}`; none is offered, switch it off"),
                ));
            }
            _ => {}
        }
    }
    let terms = terms.ok_or_else(|| (RejectReason::ROGUE, "the handshake has no SRT extension".to_owned()))?;
    check_terms(&terms)?;
    Ok(Request { from, timestamp: header.timestamp, handshake, terms, key_material, stream_id, group })
}

fn check_sizes(handshake: &Handshake) -> Result<(), Fault> {
    if handshake.mtu < MIN_MTU {
        return Err((RejectReason::ROGUE, format!("an MTU of {}; at least {MIN_MTU} is needed", handshake.mtu)));
    }
    if handshake.flow_window < MIN_WINDOW {
        let detail = format!("a flow window of {} packets; at least {MIN_WINDOW} are needed", handshake.flow_window);
        return Err((RejectReason::ROGUE, detail));
    }
    Ok(())
}

fn check_terms(terms: &Terms) -> Result<(), Fault> {
    if terms.version < OLDEST_VERSION {
        let detail = format!("SRT version {:#08x}; 1.3 or newer is needed", terms.version);
        return Err((RejectReason::VERSION, detail));
    }
    if terms.flags & flags::STREAM != 0 {
        return Err((RejectReason::MESSAGE_API, "stream (file) mode; live mode is offered".to_owned()));
    }
    Ok(())
}

/// Keys for both directions, and what confirms them.
fn accept_keys(
    request: &Request,
    config: &Config,
    derived: Option<DerivedKey>,
) -> Result<(Option<Keys>, Option<Bytes>), RejectReason> {
    match (&request.key_material, &config.passphrase) {
        (None, None) => Ok((None, None)),
        (Some(_), None) | (None, Some(_)) => Err(RejectReason::UNSECURE),
        (Some(raw), Some(passphrase)) => {
            let message = KeyMaterial::parse(raw).map_err(key_fault)?;
            let (mut ring, mut wrapping) = (KeyRing::default(), derived.map(DerivedKey::into_wrapping));
            ring.take(passphrase, &mut wrapping, &message).map_err(key_fault)?;
            let wrapping = wrapping.ok_or(RejectReason::INTERNAL)?;
            let sealer = Sealer::adopt(wrapping, &message).map_err(key_fault)?;
            let keys = Keys::new(passphrase.clone(), sealer, ring, config.key_refresh, config.key_announce);
            Ok((Some(keys), Some(message.to_bytes())))
        }
    }
}

fn key_fault(error: KeyMaterialError) -> RejectReason {
    match error {
        KeyMaterialError::Secret => RejectReason::BAD_SECRET,
        KeyMaterialError::Cipher { .. } => RejectReason::CIPHER,
        _ => RejectReason::ROGUE,
    }
}

pub(crate) fn millis(delay: u16) -> Duration {
    Duration::from_millis(delay.into())
}

/// The first number of a new connection.
pub(crate) fn random_seq(random: &mut Randomness) -> SeqNumber {
    SeqNumber::new(random.word())
}
