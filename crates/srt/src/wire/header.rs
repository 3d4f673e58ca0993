use thiserror::Error;

use super::{half_at, word_at};
use crate::number::{MessageNumber, SeqNumber};

/// Bytes before the payload of every packet (§3).
pub const HEADER_LENGTH: usize = 16;

/// The number of a connection at one of its ends; 0 is the listener's own.
pub(crate) type SocketId = u32;

/// Why a datagram is no SRT packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HeaderError {
    /// Not even a header.
    #[error("{0} bytes, and an SRT packet has at least {HEADER_LENGTH}")]
    TooShort(usize),
}

/// Where a packet stands in its message (§3.1, field PP).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Position {
    Middle,
    Last,
    First,
    Solo,
}

impl Position {
    const fn from_bits(bits: u32) -> Self {
        match bits & 3 {
            0b00 => Self::Middle,
            0b01 => Self::Last,
            0b10 => Self::First,
            _ => Self::Solo,
        }
    }

    const fn bits(self) -> u32 {
        match self {
            Self::Middle => 0b00,
            Self::Last => 0b01,
            Self::First => 0b10,
            Self::Solo => 0b11,
        }
    }

    pub(crate) const fn is_last(self) -> bool {
        matches!(self, Self::Last | Self::Solo)
    }
}

/// With which key a payload is encrypted (§3.1, field KK).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeyFlag {
    Clear,
    Even,
    Odd,
    /// Stands in control packets only.
    Both,
}

impl KeyFlag {
    pub(crate) const fn from_bits(bits: u32) -> Self {
        match bits & 3 {
            0b00 => Self::Clear,
            0b01 => Self::Even,
            0b10 => Self::Odd,
            _ => Self::Both,
        }
    }

    pub(crate) const fn bits(self) -> u32 {
        match self {
            Self::Clear => 0b00,
            Self::Even => 0b01,
            Self::Odd => 0b10,
            Self::Both => 0b11,
        }
    }
}

/// The header of a packet with payload (§3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct DataHeader {
    pub(crate) seq: SeqNumber,
    pub(crate) position: Position,
    pub(crate) in_order: bool,
    pub(crate) key: KeyFlag,
    pub(crate) retransmitted: bool,
    pub(crate) message: MessageNumber,
    pub(crate) timestamp: u32,
    pub(crate) destination: SocketId,
}

impl DataHeader {
    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        let mut raw = [0; HEADER_LENGTH];
        raw[..4].copy_from_slice(&self.seq.get().to_be_bytes());
        let word = self.position.bits() << 30
            | u32::from(self.in_order) << 29
            | self.key.bits() << 27
            | u32::from(self.retransmitted) << 26
            | self.message.get();
        raw[4..8].copy_from_slice(&word.to_be_bytes());
        raw[8..12].copy_from_slice(&self.timestamp.to_be_bytes());
        raw[12..].copy_from_slice(&self.destination.to_be_bytes());
        out.extend_from_slice(&raw);
    }
}

/// What a control packet is (§3.2, table 1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ControlKind {
    Handshake,
    KeepAlive,
    Ack,
    Nak,
    CongestionWarning,
    Shutdown,
    AckAck,
    DropRequest,
    PeerError,
    /// Carries an extension of the handshake in mid-stream; the number says which.
    Extension(u16),
    Unknown(u16),
}

impl ControlKind {
    const fn from_words(kind: u16, subtype: u16) -> Self {
        match kind {
            0 => Self::Handshake,
            1 => Self::KeepAlive,
            2 => Self::Ack,
            3 => Self::Nak,
            4 => Self::CongestionWarning,
            5 => Self::Shutdown,
            6 => Self::AckAck,
            7 => Self::DropRequest,
            8 => Self::PeerError,
            0x7fff => Self::Extension(subtype),
            other => Self::Unknown(other),
        }
    }

    const fn words(self) -> (u16, u16) {
        match self {
            Self::Handshake => (0, 0),
            Self::KeepAlive => (1, 0),
            Self::Ack => (2, 0),
            Self::Nak => (3, 0),
            Self::CongestionWarning => (4, 0),
            Self::Shutdown => (5, 0),
            Self::AckAck => (6, 0),
            Self::DropRequest => (7, 0),
            Self::PeerError => (8, 0),
            Self::Extension(subtype) => (0x7fff, subtype),
            Self::Unknown(kind) => (kind, 0),
        }
    }
}

/// The header of a control packet (§3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ControlHeader {
    pub(crate) kind: ControlKind,
    /// The number of an acknowledgement, or the message of a drop request.
    pub(crate) info: u32,
    pub(crate) timestamp: u32,
    pub(crate) destination: SocketId,
}

impl ControlHeader {
    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        let (kind, subtype) = self.kind.words();
        out.extend_from_slice(&(kind | 0x8000).to_be_bytes());
        out.extend_from_slice(&subtype.to_be_bytes());
        out.extend_from_slice(&self.info.to_be_bytes());
        out.extend_from_slice(&self.timestamp.to_be_bytes());
        out.extend_from_slice(&self.destination.to_be_bytes());
    }
}

/// The header of any packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Header {
    Data(DataHeader),
    Control(ControlHeader),
}

impl Header {
    /// # Errors
    /// [`HeaderError`] if the datagram has not even a header.
    pub(crate) fn parse(datagram: &[u8]) -> Result<Self, HeaderError> {
        let too_short = HeaderError::TooShort(datagram.len());
        let word = |place| word_at(datagram, place).ok_or(too_short);
        let (first, second, timestamp, destination) = (word(0)?, word(4)?, word(8)?, word(12)?);
        if first >> 31 == 0 {
            return Ok(Self::Data(DataHeader {
                seq: SeqNumber::new(first),
                position: Position::from_bits(second >> 30),
                in_order: second >> 29 & 1 == 1,
                key: KeyFlag::from_bits(second >> 27),
                retransmitted: second >> 26 & 1 == 1,
                message: MessageNumber::new(second),
                timestamp,
                destination,
            }));
        }
        let (kind, subtype) = (half_at(datagram, 0).ok_or(too_short)?, half_at(datagram, 2).ok_or(too_short)?);
        let kind = ControlKind::from_words(kind & 0x7fff, subtype);
        Ok(Self::Control(ControlHeader { kind, info: second, timestamp, destination }))
    }

    pub(crate) fn destination(&self) -> SocketId {
        match self {
            Self::Data(header) => header.destination,
            Self::Control(header) => header.destination,
        }
    }
}
