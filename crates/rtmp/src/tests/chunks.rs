use bytes::Bytes;
use proptest::prelude::*;

use crate::timestamp::Timestamp;
use crate::wire::{ChunkDecoder, ChunkEncoder, Message, MessageHead};

fn decode(bytes: &[u8], chunk_size: u32, cut: usize) -> Vec<Message> {
    let mut decoder = ChunkDecoder::new(1 << 20);
    decoder.set_chunk_size(chunk_size).unwrap();
    let mut messages = Vec::new();
    for mut piece in bytes.chunks(cut) {
        while let Some(message) = decoder.next_message(&mut piece).unwrap() {
            messages.push(message);
        }
    }
    messages
}

#[test]
fn an_aborted_message_makes_room_for_the_next() {
    let mut decoder = ChunkDecoder::new(1 << 20);
    let mut bytes = vec![4, 0, 0, 0, 0, 0, 200, 9, 1, 0, 0, 0];
    bytes.extend([1; 128]);
    assert_eq!(decoder.next_message(&mut &bytes[..]), Ok(None));
    decoder.abort(4);
    let next = [4, 0, 0, 9, 0, 0, 1, 9, 1, 0, 0, 0, 7];
    let message = decoder.next_message(&mut &next[..]).unwrap().unwrap();
    assert_eq!((message.timestamp.0, &message.payload[..]), (9, &[7][..]));
}

fn any_message() -> impl Strategy<Value = Message> {
    let streams = prop_oneof![Just(4u32), Just(63), Just(64), Just(319), Just(320), Just(65599)];
    (streams, 8u8..10, 0u32..3, any::<u32>(), proptest::collection::vec(any::<u8>(), 0..700)).prop_map(
        |(chunk_stream, message_type, message_stream, timestamp, payload)| Message {
            chunk_stream,
            message_type,
            message_stream,
            timestamp: Timestamp(timestamp),
            payload: payload.into(),
        },
    )
}

proptest! {
    #[test]
    fn any_bytes_are_read_to_the_end_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..400), size in 1u32..300) {
        let mut decoder = ChunkDecoder::new(1 << 10);
        decoder.set_chunk_size(size).unwrap();
        let mut input = &bytes[..];
        let mut payload = 0;
        while let Ok(Some(message)) = decoder.next_message(&mut input) {
            payload += message.payload.len();
        }
        prop_assert!(payload + input.len() <= bytes.len());
    }

    #[test]
    fn a_flipped_bit_gives_a_message_or_an_error(message in any_message(), at: usize, bit in 0u8..8) {
        let head = MessageHead {
            chunk_stream: message.chunk_stream,
            message_type: message.message_type,
            message_stream: message.message_stream,
            timestamp: message.timestamp,
        };
        let mut out: Vec<Bytes> = Vec::new();
        ChunkEncoder::new().encode(head, &[], &message.payload, &mut out);
        let mut bytes = out.concat();
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        let mut decoder = ChunkDecoder::new(1 << 20);
        if let Ok(Some(read)) = decoder.next_message(&mut &bytes[..]) {
            // A repeated timestamp is not compared once it is known to be repeated; so the message
            // may also be the same.
            prop_assert!(read.payload.len() <= bytes.len());
        }
    }

    #[test]
    fn messages_come_back(
        messages in proptest::collection::vec(any_message(), 1..12),
        chunk_size in 1u32..1000,
        cut in 1usize..500,
        prefix in 0usize..6,
    ) {
        let mut encoder = ChunkEncoder::new();
        encoder.set_chunk_size(chunk_size);
        let mut out: Vec<Bytes> = Vec::new();
        for message in &messages {
            let head = MessageHead {
                chunk_stream: message.chunk_stream,
                message_type: message.message_type,
                message_stream: message.message_stream,
                timestamp: message.timestamp,
            };
            let prefix = prefix.min(message.payload.len());
            encoder.encode(head, &message.payload[..prefix], &message.payload.slice(prefix..), &mut out);
        }
        prop_assert_eq!(decode(&out.concat(), chunk_size, cut), messages);
    }
}
