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

/// By hand from RTMP 1.0, 5.3.2.1: four audio messages of 32 bytes, header types 0, 2, 3, 3.
#[test]
fn audio_example_of_the_specification() {
    let body = [9u8; 32];
    let mut bytes = vec![3, 0, 3, 0xe8, 0, 0, 32, 8, 0x39, 0x30, 0, 0];
    bytes.extend(body);
    bytes.extend([0x83, 0, 0, 20]);
    bytes.extend(body);
    for _ in 0..2 {
        bytes.push(0xc3);
        bytes.extend(body);
    }
    for cut in 1..bytes.len() {
        let messages = decode(&bytes, 128, cut);
        let times: Vec<u32> = messages.iter().map(|message| message.timestamp.0).collect();
        assert_eq!(times, [1000, 1020, 1040, 1060]);
        assert!(messages.iter().all(|message| message.message_stream == 12345 && message.payload == body[..]));
    }
}

/// By hand from RTMP 1.0, 5.3.2.2: a video message of 307 bytes in chunks of 128.
#[test]
fn video_example_of_the_specification() {
    let body: Vec<u8> = (0..307u32).map(|n| n.to_be_bytes()[3]).collect();
    let mut bytes = vec![4, 0, 3, 0xe8, 0, 1, 0x33, 9, 0x3a, 0x30, 0, 0];
    bytes.extend(&body[..128]);
    bytes.push(0xc4);
    bytes.extend(&body[128..256]);
    bytes.push(0xc4);
    bytes.extend(&body[256..]);
    let messages = decode(&bytes, 128, 50);
    assert_eq!(messages.len(), 1);
    assert_eq!(messages[0].payload, body);
    assert_eq!(messages[0].message_stream, 12346);
}

/// Some clients open chunk stream 2 with a type 1 header; the delta then counts from 0.
#[test]
fn a_stream_may_open_with_a_type_1_header() {
    let bytes = [0x42, 0, 0, 0, 0, 0, 4, 3, 0, 0, 1, 0, 0x82, 0, 0, 5, 0, 0, 2, 0];
    let messages = decode(&bytes, 128, 3);
    let times: Vec<u32> = messages.iter().map(|message| message.timestamp.0).collect();
    assert_eq!(times, [0, 5]);
}

/// Extended timestamps stand again in each type 3 continuation.
#[test]
fn extended_timestamps_are_repeated_in_continuations() {
    let time = 0x0123_4567u32.to_be_bytes();
    let mut bytes = vec![4, 0xff, 0xff, 0xff, 0, 0, 200, 9, 1, 0, 0, 0];
    bytes.extend(time);
    bytes.extend([1; 128]);
    bytes.push(0xc4);
    bytes.extend(time);
    bytes.extend([2; 72]);
    let messages = decode(&bytes, 128, 1);
    assert_eq!(messages.len(), 1);
    assert_eq!(messages[0].timestamp, Timestamp(0x0123_4567));
    assert_eq!(messages[0].payload[127..129], [1, 2]);
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
