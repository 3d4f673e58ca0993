use bytes::Bytes;
use thiserror::Error;

use crate::timestamp::Timestamp;

/// Message type numbers.
///
/// Source: RTMP 1.0, 5.4, 6.2 and 7.1
pub(crate) mod message_type {
    pub(crate) const SET_CHUNK_SIZE: u8 = 1;
    pub(crate) const ABORT: u8 = 2;
    pub(crate) const ACKNOWLEDGEMENT: u8 = 3;
    pub(crate) const USER_CONTROL: u8 = 4;
    pub(crate) const WINDOW_ACKNOWLEDGEMENT_SIZE: u8 = 5;
    pub(crate) const SET_PEER_BANDWIDTH: u8 = 6;
    pub(crate) const AUDIO: u8 = 8;
    pub(crate) const VIDEO: u8 = 9;
    pub(crate) const DATA_AMF3: u8 = 15;
    pub(crate) const COMMAND_AMF3: u8 = 17;
    pub(crate) const DATA_AMF0: u8 = 18;
    pub(crate) const COMMAND_AMF0: u8 = 20;
    pub(crate) const AGGREGATE: u8 = 22;
}

/// User control event numbers.
///
/// Source: RTMP 1.0, 7.1.7
mod event_type {
    pub(super) const STREAM_BEGIN: u16 = 0;
    pub(super) const STREAM_EOF: u16 = 1;
    pub(super) const SET_BUFFER_LENGTH: u16 = 3;
    pub(super) const PING_REQUEST: u16 = 6;
    pub(super) const PING_RESPONSE: u16 = 7;
}

/// Why a control message is not legal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MessageError {
    /// The message is shorter than its fields.
    #[error("control message {message_type} of {found} bytes, {needed} are needed")]
    TooShort {
        /// The message type number.
        message_type: u8,
        /// Bytes that came.
        found: usize,
        /// Bytes of its fields.
        needed: usize,
    },
}

/// A whole message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Message {
    pub(crate) chunk_stream: u32,
    pub(crate) message_type: u8,
    pub(crate) message_stream: u32,
    pub(crate) timestamp: Timestamp,
    pub(crate) payload: Bytes,
}

/// The user control events that we act on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum UserControl {
    StreamBegin(u32),
    StreamEof(u32),
    /// What a player keeps ahead, in milliseconds; of no use for live streams.
    SetBufferLength {
        stream: u32,
        millis: u32,
    },
    PingRequest(u32),
    PingResponse(u32),
    Other(u16),
}

/// The messages that steer the connection itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ControlMessage {
    SetChunkSize(u32),
    Abort(u32),
    Acknowledgement(u32),
    WindowAcknowledgementSize(u32),
    SetPeerBandwidth { window: u32, limit_type: u8 },
    User(UserControl),
}

impl ControlMessage {
    /// Reads a control message; None if the message is of another kind.
    pub(crate) fn decode(message: &Message) -> Result<Option<Self>, MessageError> {
        let field = |at| read_u32(message, at);
        Ok(Some(match message.message_type {
            message_type::SET_CHUNK_SIZE => Self::SetChunkSize(field(0)?),
            message_type::ABORT => Self::Abort(field(0)?),
            message_type::ACKNOWLEDGEMENT => Self::Acknowledgement(field(0)?),
            message_type::WINDOW_ACKNOWLEDGEMENT_SIZE => Self::WindowAcknowledgementSize(field(0)?),
            message_type::SET_PEER_BANDWIDTH => {
                // The limit type is left out by some peers; 2 (dynamic) is then meant.
                let limit_type = message.payload.get(4).copied().unwrap_or(2);
                Self::SetPeerBandwidth { window: field(0)?, limit_type }
            }
            message_type::USER_CONTROL => Self::User(decode_user_control(message)?),
            _ => return Ok(None),
        }))
    }

    /// The message type number and payload.
    pub(crate) fn encode(self) -> (u8, Bytes) {
        let number = |message_type, value: u32| (message_type, Bytes::copy_from_slice(&value.to_be_bytes()));
        match self {
            Self::SetChunkSize(size) => number(message_type::SET_CHUNK_SIZE, size & 0x7fff_ffff),
            Self::Abort(stream) => number(message_type::ABORT, stream),
            Self::Acknowledgement(count) => number(message_type::ACKNOWLEDGEMENT, count),
            Self::WindowAcknowledgementSize(size) => number(message_type::WINDOW_ACKNOWLEDGEMENT_SIZE, size),
            Self::SetPeerBandwidth { window, limit_type } => {
                let payload = [&window.to_be_bytes()[..], &[limit_type]].concat();
                (message_type::SET_PEER_BANDWIDTH, payload.into())
            }
            Self::User(event) => (message_type::USER_CONTROL, encode_user_control(event)),
        }
    }
}

fn decode_user_control(message: &Message) -> Result<UserControl, MessageError> {
    let Some(&[high, low]) = message.payload.get(..2) else {
        return Err(too_short(message, 2));
    };
    Ok(match u16::from_be_bytes([high, low]) {
        event_type::STREAM_BEGIN => UserControl::StreamBegin(read_u32(message, 2)?),
        event_type::STREAM_EOF => UserControl::StreamEof(read_u32(message, 2)?),
        event_type::SET_BUFFER_LENGTH => {
            UserControl::SetBufferLength { stream: read_u32(message, 2)?, millis: read_u32(message, 6)? }
        }
        event_type::PING_REQUEST => UserControl::PingRequest(read_u32(message, 2)?),
        event_type::PING_RESPONSE => UserControl::PingResponse(read_u32(message, 2)?),
        other => UserControl::Other(other),
    })
}

fn encode_user_control(event: UserControl) -> Bytes {
    let (number, value) = match event {
        UserControl::SetBufferLength { stream, millis } => {
            let number = event_type::SET_BUFFER_LENGTH.to_be_bytes();
            return [&number[..], &stream.to_be_bytes(), &millis.to_be_bytes()].concat().into();
        }
        UserControl::StreamBegin(stream) => (event_type::STREAM_BEGIN, stream),
        UserControl::StreamEof(stream) => (event_type::STREAM_EOF, stream),
        UserControl::PingRequest(time) => (event_type::PING_REQUEST, time),
        UserControl::PingResponse(time) => (event_type::PING_RESPONSE, time),
        UserControl::Other(number) => (number, 0),
    };
    [&number.to_be_bytes()[..], &value.to_be_bytes()].concat().into()
}

fn read_u32(message: &Message, at: usize) -> Result<u32, MessageError> {
    let field = message.payload.get(at..at + 4).and_then(|field| field.try_into().ok());
    field.map(u32::from_be_bytes).ok_or_else(|| too_short(message, at + 4))
}

fn too_short(message: &Message, needed: usize) -> MessageError {
    MessageError::TooShort { message_type: message.message_type, found: message.payload.len(), needed }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn message(message_type: u8, payload: &[u8]) -> Message {
        let payload = Bytes::copy_from_slice(payload);
        Message { chunk_stream: 2, message_type, message_stream: 0, timestamp: Timestamp(0), payload }
    }

    /// Bytes by hand from RTMP 1.0, 5.4 and 7.1.7.
    #[rstest]
    #[case::chunk_size(1, &[0, 0, 0x10, 0], ControlMessage::SetChunkSize(4096))]
    #[case::abort(2, &[0, 0, 0, 6], ControlMessage::Abort(6))]
    #[case::acknowledgement(3, &[0, 1, 0, 0], ControlMessage::Acknowledgement(65536))]
    #[case::window(5, &[0, 0x26, 0x25, 0xa0], ControlMessage::WindowAcknowledgementSize(2_500_000))]
    #[case::bandwidth(6, &[0, 0, 0, 9, 1], ControlMessage::SetPeerBandwidth { window: 9, limit_type: 1 })]
    #[case::stream_begin(4, &[0, 0, 0, 0, 0, 1], ControlMessage::User(UserControl::StreamBegin(1)))]
    #[case::stream_end(4, &[0, 1, 0, 0, 0, 1], ControlMessage::User(UserControl::StreamEof(1)))]
    #[case::buffer_length(4, &[0, 3, 0, 0, 0, 1, 0, 0, 0, 9], ControlMessage::User(UserControl::SetBufferLength { stream: 1, millis: 9 }))]
    #[case::ping(4, &[0, 6, 0, 0, 0, 5], ControlMessage::User(UserControl::PingRequest(5)))]
    #[case::pong(4, &[0, 7, 0, 0, 0, 5], ControlMessage::User(UserControl::PingResponse(5)))]
    fn both_ways(#[case] message_type: u8, #[case] payload: &[u8], #[case] expected: ControlMessage) {
        assert_eq!(ControlMessage::decode(&message(message_type, payload)), Ok(Some(expected)));
        assert_eq!(expected.encode(), (message_type, Bytes::copy_from_slice(payload)));
    }

    #[rstest]
    #[case::chunk_size(1, 4)]
    #[case::bandwidth(6, 4)]
    #[case::ping(4, 6)]
    fn short_ones_are_named(#[case] message_type: u8, #[case] needed: usize) {
        let whole = [0, 6, 0, 0, 0, 5];
        for found in 0..needed {
            let outcome = ControlMessage::decode(&message(message_type, &whole[..found]));
            assert!(matches!(outcome, Err(MessageError::TooShort { found: told, .. }) if told == found), "{found}");
        }
    }

    #[test]
    fn a_bandwidth_without_its_type_is_dynamic() {
        let decoded = ControlMessage::decode(&message(6, &[0, 0, 0, 9]));
        assert_eq!(decoded, Ok(Some(ControlMessage::SetPeerBandwidth { window: 9, limit_type: 2 })));
    }

    #[test]
    fn other_messages_and_events_are_left_alone() {
        assert_eq!(ControlMessage::decode(&message(9, &[])), Ok(None));
        let unknown = ControlMessage::decode(&message(4, &[0, 31, 1, 2]));
        assert_eq!(unknown, Ok(Some(ControlMessage::User(UserControl::Other(31)))));
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(message_type: u8, payload in proptest::collection::vec(any::<u8>(), 0..12)) {
            let _ = ControlMessage::decode(&message(message_type, &payload));
        }
    }
}
