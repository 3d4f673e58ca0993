use bytes::Bytes;

use super::message::{Message, message_type};
use crate::timestamp::Timestamp;

/// Type, size, timestamp and stream before each message.
const HEADER: usize = 11;

/// The size of the message, repeated behind it.
const BACK_POINTER: usize = 4;

/// Messages below this share of the aggregate are copied out of it.
const SMALL_SHARE: usize = 4;

/// Takes an aggregate message apart. The timestamps inside count from that of the first message
/// inside; the outer timestamp tells where that one lies.
///
/// Source: RTMP 1.0, 7.1.6
#[derive(Debug)]
pub(crate) struct Aggregate {
    rest: Bytes,
    /// Bytes of the whole aggregate.
    size: usize,
    outer: Timestamp,
    first: Option<Timestamp>,
    message_stream: u32,
    chunk_stream: u32,
}

impl Aggregate {
    /// None if `message` is no aggregate.
    pub(crate) fn new(message: &Message) -> Option<Self> {
        (message.message_type == message_type::AGGREGATE).then(|| Self {
            rest: message.payload.clone(),
            size: message.payload.len(),
            outer: message.timestamp,
            first: None,
            message_stream: message.message_stream,
            chunk_stream: message.chunk_stream,
        })
    }
}

impl Iterator for Aggregate {
    type Item = Message;

    /// The next message; a message that is not whole ends the aggregate.
    fn next(&mut self) -> Option<Message> {
        let &[message_type, a, b, c, high, middle, low, highest, ..] = self.rest.get(..HEADER)? else { return None };
        let length = usize::try_from(u32::from_be_bytes([0, a, b, c])).ok()?;
        let timestamp = Timestamp(u32::from_be_bytes([highest, high, middle, low]));
        if self.rest.len() < HEADER + length {
            return None;
        }
        let mut body = self.rest.split_off(HEADER);
        let mut payload = body.split_to(length);
        // A small message is not to keep a large aggregate in memory.
        if payload.len() < self.size / SMALL_SHARE {
            payload = Bytes::copy_from_slice(&payload);
        }
        // The last message may be without its back pointer.
        self.rest = body.split_off(BACK_POINTER.min(body.len()));
        let first = *self.first.get_or_insert(timestamp);
        let timestamp = Timestamp(self.outer.0.wrapping_add(timestamp.0.wrapping_sub(first.0)));
        let (chunk_stream, message_stream) = (self.chunk_stream, self.message_stream);
        Some(Message { chunk_stream, message_type, message_stream, timestamp, payload })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn aggregate(timestamp: u32, payload: Vec<u8>) -> Message {
        let (message_type, timestamp) = (message_type::AGGREGATE, Timestamp(timestamp));
        Message { chunk_stream: 4, message_type, message_stream: 1, timestamp, payload: payload.into() }
    }

    fn inner(message_type: u8, timestamp: u32, payload: &[u8]) -> Vec<u8> {
        let size = u32::try_from(payload.len()).unwrap().to_be_bytes();
        let time = timestamp.to_be_bytes();
        let back = u32::try_from(payload.len() + HEADER).unwrap().to_be_bytes();
        let head = [&[message_type], &size[1..], &time[1..], &time[..1], &[0, 0, 0]].concat();
        [&head[..], payload, &back].concat()
    }

    #[test]
    fn times_count_from_the_first_message() {
        let payload = [inner(8, 0x0100_0000, b"a"), inner(9, 0x0100_0021, b"bc")].concat();
        let message = aggregate(5000, payload);
        let read: Vec<_> =
            Aggregate::new(&message).unwrap().map(|m| (m.message_type, m.timestamp.0, m.payload)).collect();
        assert_eq!(read, [(8, 5000, Bytes::from_static(b"a")), (9, 5033, Bytes::from_static(b"bc"))]);
    }

    #[test]
    fn a_cut_at_any_byte_leaves_whole_messages() {
        let payload = [inner(8, 0, b"a"), inner(9, 33, b"bc")].concat();
        for length in 0..payload.len() {
            let count = Aggregate::new(&aggregate(0, payload[..length].to_vec())).unwrap().count();
            let expected = usize::from(length >= 12) + usize::from(length >= 29);
            assert_eq!(count, expected, "cut at {length}");
        }
    }

    #[test]
    fn other_messages_are_none() {
        assert!(Aggregate::new(&Message { message_type: 9, ..aggregate(0, Vec::new()) }).is_none());
    }

    proptest! {
        #[test]
        fn any_bytes_end(payload in proptest::collection::vec(any::<u8>(), 0..300)) {
            let size = payload.len();
            let messages: Vec<Message> = Aggregate::new(&aggregate(7, payload)).unwrap().collect();
            let total: usize = messages.iter().map(|message| message.payload.len() + HEADER).sum();
            prop_assert!(total <= size);
        }
    }
}
