use std::net::IpAddr;

use bytes::Bytes;
use thiserror::Error;

use super::{half_at, word_at};
use crate::number::SeqNumber;
use crate::reject::RejectReason;

/// Bytes of a handshake without extensions (§3.2.1).
const FIXED_LENGTH: usize = 48;

/// What a listener writes into the extension field of its answer to the induction (§4.3.1.1).
pub(crate) const INDUCTION_MAGIC: u16 = 0x4a17;

/// The longest stream id in bytes (§3.2.1.3).
pub const MAX_STREAM_ID: usize = 512;

/// Flags of the handshake extension (§3.2.1.1.1).
pub(crate) mod flags {
    pub(crate) const SENDS_BY_TIME: u32 = 1 << 0;
    pub(crate) const DELIVERS_BY_TIME: u32 = 1 << 1;
    pub(crate) const ENCRYPTS: u32 = 1 << 2;
    pub(crate) const DROPS_TOO_LATE: u32 = 1 << 3;
    pub(crate) const REPORTS_PERIODICALLY: u32 = 1 << 4;
    pub(crate) const MARKS_RETRANSMITTED: u32 = 1 << 5;
    pub(crate) const STREAM: u32 = 1 << 6;

    /// What both ends of a live connection say of themselves.
    pub(crate) const LIVE: u32 =
        SENDS_BY_TIME | DELIVERS_BY_TIME | ENCRYPTS | DROPS_TOO_LATE | REPORTS_PERIODICALLY | MARKS_RETRANSMITTED;
}

/// Extension types (§3.2.1.1, table 5).
mod extension {
    pub(super) const TERMS_REQUEST: u16 = 1;
    pub(super) const TERMS_RESPONSE: u16 = 2;
    pub(super) const KEY_REQUEST: u16 = 3;
    pub(super) const KEY_RESPONSE: u16 = 4;
    pub(super) const STREAM_ID: u16 = 5;
    pub(super) const CONGESTION: u16 = 6;
    pub(super) const FILTER: u16 = 7;
    pub(super) const GROUP: u16 = 8;
}

/// Bits of the extension field: which extensions follow (§3.2.1, table 3).
mod extension_field {
    pub(super) const TERMS: u16 = 1;
    pub(super) const KEY: u16 = 2;
    pub(super) const CONFIG: u16 = 4;
}

/// Why the body of a handshake cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HandshakeError {
    /// It is shorter than its fixed part.
    #[error("a handshake has at least {FIXED_LENGTH} bytes, this one has {0}")]
    TooShort(usize),
    /// An extension says it is longer than what follows.
    #[error("extension {kind} is {length} bytes long, and {left} are left")]
    CutExtension {
        /// Its type.
        kind: u16,
        /// The length it states.
        length: usize,
        /// What the datagram still holds.
        left: usize,
    },
    /// An extension is shorter than its fields.
    #[error("extension {kind} is {length} bytes long, too short for what it holds")]
    ShortExtension {
        /// Its type.
        kind: u16,
        /// The length it states.
        length: usize,
    },
    /// The stream id is too long or no text.
    #[error("the stream id is longer than {MAX_STREAM_ID} bytes or no UTF-8 text")]
    StreamId,
}

/// What a handshake is for (§3.2.1, table 4). Other numbers refuse, with a reason.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum HandshakeKind {
    Induction,
    /// Rendezvous, which is not offered.
    WaveAHand,
    Conclusion,
    Agreement,
    Done,
    Refusal(RejectReason),
    Unknown(u32),
}

impl HandshakeKind {
    fn from_word(word: u32) -> Self {
        match word {
            0 => Self::WaveAHand,
            1 => Self::Induction,
            0xffff_ffff => Self::Conclusion,
            0xffff_fffe => Self::Agreement,
            0xffff_fffd => Self::Done,
            word => RejectReason::from_wire(word).map_or(Self::Unknown(word), Self::Refusal),
        }
    }

    fn word(self) -> u32 {
        match self {
            Self::WaveAHand => 0,
            Self::Induction => 1,
            Self::Conclusion => 0xffff_ffff,
            Self::Agreement => 0xffff_fffe,
            Self::Done => 0xffff_fffd,
            Self::Refusal(reason) => reason.wire_code(),
            Self::Unknown(word) => word,
        }
    }
}

/// What an end says of itself (§3.2.1.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Terms {
    pub(crate) version: u32,
    pub(crate) flags: u32,
    pub(crate) receiver_delay_ms: u16,
    pub(crate) sender_delay_ms: u16,
}

impl Terms {
    fn parse(raw: &[u8]) -> Option<Self> {
        let (version, flags) = (word_at(raw, 0)?, word_at(raw, 4)?);
        Some(Self { version, flags, receiver_delay_ms: half_at(raw, 8)?, sender_delay_ms: half_at(raw, 10)? })
    }

    fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.version.to_be_bytes());
        out.extend_from_slice(&self.flags.to_be_bytes());
        out.extend_from_slice(&self.receiver_delay_ms.to_be_bytes());
        out.extend_from_slice(&self.sender_delay_ms.to_be_bytes());
    }
}

/// The group that a caller wants its connection to be part of (§3.2.1.4).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Group {
    /// Its number at the caller.
    pub id: u32,
    /// 1 sends on all members, 2 on the one with the largest weight.
    pub kind: u8,
    /// Flags of the group.
    pub flags: u8,
    /// The weight of this member.
    pub weight: u16,
}

impl Group {
    fn parse(raw: &[u8]) -> Option<Self> {
        Some(Self { id: word_at(raw, 0)?, kind: *raw.get(4)?, flags: *raw.get(5)?, weight: half_at(raw, 6)? })
    }
}

/// What follows the fixed part of a handshake (§3.2.1.1 to §3.2.1.4).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Extension {
    TermsRequest(Terms),
    TermsResponse(Terms),
    KeyRequest(Bytes),
    KeyResponse(Bytes),
    StreamId(String),
    Congestion(String),
    Filter(String),
    Group(Group),
    Unknown(u16),
}

impl Extension {
    fn parse(kind: u16, raw: &[u8]) -> Result<Self, HandshakeError> {
        let short = HandshakeError::ShortExtension { kind, length: raw.len() };
        Ok(match kind {
            extension::TERMS_REQUEST => Self::TermsRequest(Terms::parse(raw).ok_or(short)?),
            extension::TERMS_RESPONSE => Self::TermsResponse(Terms::parse(raw).ok_or(short)?),
            extension::KEY_REQUEST => Self::KeyRequest(Bytes::copy_from_slice(raw)),
            extension::KEY_RESPONSE => Self::KeyResponse(Bytes::copy_from_slice(raw)),
            extension::STREAM_ID => Self::StreamId(read_text(raw).ok_or(HandshakeError::StreamId)?),
            extension::CONGESTION => Self::Congestion(read_text(raw).unwrap_or_default()),
            extension::FILTER => Self::Filter(read_text(raw).unwrap_or_default()),
            extension::GROUP => Self::Group(Group::parse(raw).ok_or(short)?),
            other => Self::Unknown(other),
        })
    }

    /// The extension's type, and the bit of the extension field that announces it.
    fn kind(&self) -> (u16, u16) {
        match self {
            Self::TermsRequest(_) => (extension::TERMS_REQUEST, extension_field::TERMS),
            Self::TermsResponse(_) => (extension::TERMS_RESPONSE, extension_field::TERMS),
            Self::KeyRequest(_) => (extension::KEY_REQUEST, extension_field::KEY),
            Self::KeyResponse(_) => (extension::KEY_RESPONSE, extension_field::KEY),
            Self::StreamId(_) => (extension::STREAM_ID, extension_field::CONFIG),
            Self::Congestion(_) => (extension::CONGESTION, extension_field::CONFIG),
            Self::Filter(_) => (extension::FILTER, extension_field::CONFIG),
            Self::Group(_) => (extension::GROUP, extension_field::CONFIG),
            Self::Unknown(kind) => (*kind, extension_field::CONFIG),
        }
    }

    fn write_body(&self, out: &mut Vec<u8>) {
        match self {
            Self::TermsRequest(terms) | Self::TermsResponse(terms) => terms.write(out),
            Self::KeyRequest(raw) | Self::KeyResponse(raw) => out.extend_from_slice(raw),
            Self::StreamId(text) | Self::Congestion(text) | Self::Filter(text) => write_text(text, out),
            Self::Group(group) => {
                out.extend_from_slice(&group.id.to_be_bytes());
                out.extend_from_slice(&[group.kind, group.flags]);
                out.extend_from_slice(&group.weight.to_be_bytes());
            }
            Self::Unknown(_) => {}
        }
    }

    fn write(&self, out: &mut Vec<u8>) {
        let start = out.len();
        out.extend_from_slice(&self.kind().0.to_be_bytes());
        out.extend_from_slice(&[0, 0]);
        self.write_body(out);
        let words = u16::try_from((out.len() - start - 4).div_ceil(4)).unwrap_or(u16::MAX);
        out.resize(start + 4 + usize::from(words) * 4, 0);
        out[start + 2..start + 4].copy_from_slice(&words.to_be_bytes());
    }
}

/// Texts stand as little-endian words, the bytes of each word turned around, zeros at the end
/// (§3.2.1.3).
fn read_text(raw: &[u8]) -> Option<String> {
    let mut text: Vec<u8> = raw.chunks(4).flat_map(|word| word.iter().rev().copied()).collect();
    let length = text.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    text.truncate(length);
    (length <= MAX_STREAM_ID).then_some(())?;
    String::from_utf8(text).ok()
}

fn write_text(text: &str, out: &mut Vec<u8>) {
    for piece in text.as_bytes().chunks(4) {
        let mut word = [0; 4];
        word[..piece.len()].copy_from_slice(piece);
        word.reverse();
        out.extend_from_slice(&word);
    }
}

/// The body of a handshake packet (§3.2.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Handshake {
    pub(crate) version: u32,
    /// Length of the encryption key in blocks of 8 bytes; 0 is without.
    pub(crate) encryption: u16,
    /// Which extensions follow; has other meanings in an induction.
    pub(crate) extension_field: u16,
    pub(crate) initial_seq: SeqNumber,
    /// The largest IP packet.
    pub(crate) mtu: u32,
    /// Packets that may be on their way unacknowledged.
    pub(crate) flow_window: u32,
    pub(crate) kind: HandshakeKind,
    pub(crate) socket_id: u32,
    pub(crate) cookie: u32,
    pub(crate) peer_address: [u8; 16],
    pub(crate) extensions: Vec<Extension>,
}

impl Handshake {
    /// # Errors
    /// [`HandshakeError`] if it is cut off or an extension is damaged.
    pub(crate) fn parse(body: &[u8]) -> Result<Self, HandshakeError> {
        let mut handshake = Self::parse_fixed(body).ok_or(HandshakeError::TooShort(body.len()))?;
        // In an induction the field has other meanings, and nothing follows.
        if handshake.version >= 5 && handshake.kind == HandshakeKind::Conclusion {
            handshake.extensions = parse_extensions(&body[FIXED_LENGTH..])?;
        }
        Ok(handshake)
    }

    /// What comes before the extensions; None if it is cut off.
    pub(crate) fn parse_fixed(body: &[u8]) -> Option<Self> {
        let word = |place| word_at(body, place);
        Some(Self {
            version: word(0)?,
            encryption: half_at(body, 4)?,
            extension_field: half_at(body, 6)?,
            initial_seq: SeqNumber::new(word(8)?),
            mtu: word(12)?,
            flow_window: word(16)?,
            kind: HandshakeKind::from_word(word(20)?),
            socket_id: word(24)?,
            cookie: word(28)?,
            peer_address: body.get(32..FIXED_LENGTH)?.try_into().ok()?,
            extensions: Vec::new(),
        })
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.version.to_be_bytes());
        out.extend_from_slice(&self.encryption.to_be_bytes());
        out.extend_from_slice(&self.extension_field.to_be_bytes());
        out.extend_from_slice(&self.initial_seq.get().to_be_bytes());
        for word in [self.mtu, self.flow_window, self.kind.word(), self.socket_id, self.cookie] {
            out.extend_from_slice(&word.to_be_bytes());
        }
        out.extend_from_slice(&self.peer_address);
        for extension in &self.extensions {
            extension.write(out);
        }
    }

    /// Adds extensions and announces them.
    pub(crate) fn with_extensions(mut self, extensions: Vec<Extension>) -> Self {
        self.extension_field = extensions.iter().fold(0, |field, extension| field | extension.kind().1);
        self.extensions = extensions;
        self
    }
}

/// An address as it stands in a handshake (§3.2.1): IPv4 in the first word, zeros behind. Like those
/// of texts, the bytes of each word are turned around; that is how peers and analysers read them.
pub(crate) fn address_field(address: IpAddr) -> [u8; 16] {
    let mut field = [0; 16];
    match address {
        IpAddr::V4(address) => field[..4].copy_from_slice(&address.octets()),
        IpAddr::V6(address) => field = address.octets(),
    }
    field.chunks_mut(4).for_each(<[u8]>::reverse);
    field
}

fn parse_extensions(mut raw: &[u8]) -> Result<Vec<Extension>, HandshakeError> {
    let mut extensions = Vec::new();
    while let (Some(kind), Some(words)) = (half_at(raw, 0), half_at(raw, 2)) {
        let length = usize::from(words) * 4;
        let rest = &raw[4..];
        let left = rest.len();
        let body = rest.get(..length).ok_or(HandshakeError::CutExtension { kind, length, left })?;
        extensions.push(Extension::parse(kind, body)?);
        raw = &rest[length..];
    }
    Ok(extensions)
}
