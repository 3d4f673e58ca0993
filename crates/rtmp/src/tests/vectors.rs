//! Bytes written by hand from the specifications, in `tests/vectors`, read in every cut.

use bytes::Bytes;
use rstest::rstest;

use crate::command::{Command, decode_metadata};
use crate::wire::{Aggregate, ChunkDecoder, ControlMessage, Message};
use crate::{Capabilities, StreamMetadata};

macro_rules! vector {
    ($name:literal) => {
        bytes_of(include_str!(concat!("../../tests/vectors/", $name, ".hex")))
    };
}

/// The bytes of a file of hexadecimal digits; lines with `#` are remarks.
fn bytes_of(text: &str) -> Vec<u8> {
    let lines = text.lines().filter(|line| !line.starts_with('#'));
    let digits: Vec<char> = lines.flat_map(str::chars).filter(|digit| !digit.is_whitespace()).collect();
    let pairs = digits.chunks(2).map(|pair| pair.iter().collect::<String>());
    pairs.map(|pair| u8::from_str_radix(&pair, 16).unwrap()).collect()
}

/// Reads chunks in pieces of `cut` bytes, as a peer whose control messages are obeyed.
fn read(bytes: &[u8], cut: usize) -> Vec<Message> {
    let mut decoder = ChunkDecoder::new(1 << 16);
    let mut messages = Vec::new();
    for mut piece in bytes.chunks(cut) {
        while let Some(message) = decoder.next_message(&mut piece).unwrap() {
            match ControlMessage::decode(&message).unwrap() {
                Some(ControlMessage::SetChunkSize(size)) => decoder.set_chunk_size(size).unwrap(),
                Some(ControlMessage::Abort(stream)) => decoder.abort(stream),
                _ => {}
            }
            messages.push(message);
        }
    }
    messages
}

/// Reads a vector in all cuts, which must all give the same.
fn read_in_all_cuts(bytes: &[u8]) -> Vec<Message> {
    let whole = read(bytes, bytes.len());
    for cut in 1..bytes.len() {
        assert_eq!(read(bytes, cut), whole, "in pieces of {cut}");
    }
    whole
}

fn facts(messages: &[Message]) -> Vec<(u8, u32, u32, usize)> {
    let facts =
        |message: &Message| (message.message_type, message.message_stream, message.timestamp.0, message.payload.len());
    messages.iter().map(facts).collect()
}

#[rstest]
#[case::audio_example(
    vector!("chunks_audio_example"),
    &[(8, 12345, 1000, 32), (8, 12345, 1020, 32), (8, 12345, 1040, 32), (8, 12345, 1060, 32)]
)]
#[case::video_example(vector!("chunks_video_example"), &[(9, 12346, 1000, 307)])]
#[case::extended_repeated(
    vector!("chunks_extended_repeated"),
    &[(9, 1, 0x0123_4567, 200), (9, 1, 0x0246_8ace, 200)]
)]
#[case::extended_left_out(
    vector!("chunks_extended_left_out"),
    &[(9, 1, 0x0123_4567, 200), (9, 1, 0x0246_8ace, 200)]
)]
#[case::control_opens_with_type_1(
    vector!("control_opens_with_type_1"),
    &[(4, 0, 0, 6), (4, 0, 5, 6), (4, 0, 10, 6)]
)]
#[case::set_chunk_size_and_abort(
    vector!("set_chunk_size_and_abort"),
    &[(1, 0, 0, 4), (2, 0, 0, 4), (9, 1, 9, 3)]
)]
fn chunks_are_read(#[case] bytes: Vec<u8>, #[case] expected: &[(u8, u32, u32, usize)]) {
    assert_eq!(facts(&read_in_all_cuts(&bytes)), expected);
}

#[test]
fn payloads_are_those_that_were_written() {
    let example: Vec<u8> = (0..307u32).map(|n| n.to_be_bytes()[3]).collect();
    assert_eq!(read(&vector!("chunks_video_example"), 50)[0].payload, example);
    let repeated = read(&vector!("chunks_extended_repeated"), 7);
    assert!(repeated.iter().all(|message| message.payload[127..130] == [1, 2, 2]));
    let left_out = read(&vector!("chunks_extended_left_out"), 7);
    assert!(left_out.iter().all(|message| message.payload[127..131] == [1, 1, 0x23, 2]));
    let after_abort = read(&vector!("set_chunk_size_and_abort"), 3).pop().unwrap();
    assert_eq!(after_abort.payload, Bytes::from_static(&[0x22; 3]));
}

#[test]
fn all_media_may_come_on_one_chunk_stream() {
    let messages = read_in_all_cuts(&vector!("media_on_one_chunk_stream"));
    let later = 23 + 0x0100_0000;
    let expected = [(18, 1, 0, 52), (9, 1, 0, 155), (8, 1, 23, 12), (9, 1, later, 155)];
    assert_eq!(facts(&messages), expected);
    let metadata = StreamMetadata::from_pairs(&decode_metadata(&messages[0]).unwrap().unwrap());
    assert_eq!(metadata.encoder.as_deref(), Some("van"));
}

#[test]
fn aggregates_hold_messages_with_times_of_their_own() {
    let outer = read_in_all_cuts(&vector!("aggregate")).pop().unwrap();
    let inner: Vec<Message> = Aggregate::new(&outer).unwrap().collect();
    assert_eq!(facts(&inner), [(8, 1, 1000, 2), (9, 1, 1033, 2)]);
}

#[test]
fn connect_is_read() {
    let message = read_in_all_cuts(&vector!("connect")).pop().unwrap();
    let command = Command::decode(&message, |_| Ok::<_, crate::Amf0Error>(())).unwrap().unwrap();
    assert_eq!((command.name.as_str(), command.transaction), ("connect", 1.0));
    let texts = ["app", "flashVer", "tcUrl"].map(|field| command.object_text(field).unwrap());
    assert_eq!(texts, ["in", "van/1", "rtmp://a/in"]);
    assert_eq!(Capabilities::read(&command.object), Capabilities::default());
}

#[test]
fn capabilities_are_read() {
    let message = read_in_all_cuts(&vector!("connect_enhanced")).pop().unwrap();
    let capabilities =
        Capabilities::read(&Command::decode(&message, |_| Ok::<_, crate::Amf0Error>(())).unwrap().unwrap().object);
    assert!(capabilities.takes(*b"hvc1") && capabilities.takes(*b"Opus") && !capabilities.takes(*b"av01"));
    assert!(capabilities.reconnects() && capabilities.takes_many_tracks());
}

#[test]
fn a_query_behind_the_name_arrives_as_it_was_written() {
    let message = read_in_all_cuts(&vector!("publish_with_query")).pop().unwrap();
    let command = Command::decode(&message, |_| Ok::<_, crate::Amf0Error>(())).unwrap().unwrap();
    assert_eq!(command.first_text(), Some("boat7k2-secret?a=b&c=d%20e"));
}
