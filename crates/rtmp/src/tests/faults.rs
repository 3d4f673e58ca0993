use std::time::Duration;

use proptest::prelude::*;
use rstest::rstest;

use super::pair::{Pair, drain};
use crate::{ChunkError, Error, HandshakeError, MediaOutput, TimeoutKind};

/// Brings the server past the handshake without our client.
fn greeted() -> Pair {
    let mut pair = Pair::new(1000);
    let mut hello = vec![3];
    hello.resize(1 + 2 * 1536, 0);
    pair.server.handle_input(pair.now, &hello).unwrap();
    drain(|| pair.server.poll_transmit());
    pair
}

#[test]
fn a_silent_peer_times_out_in_the_handshake() {
    let mut pair = Pair::new(1);
    assert_eq!(pair.pass(Duration::from_millis(4999)), Ok(()));
    assert_eq!(pair.pass(Duration::from_millis(1)), Err(Error::Timeout(TimeoutKind::Handshake)));
}

#[test]
fn a_slow_handshake_gains_no_time() {
    let mut pair = Pair::new(1);
    for _ in 0..4 {
        pair.server.handle_input(pair.now, &[3]).unwrap();
        pair.pass(Duration::from_secs(1)).unwrap();
    }
    assert_eq!(pair.pass(Duration::from_secs(1)), Err(Error::Timeout(TimeoutKind::Handshake)));
}

#[test]
fn a_peer_that_publishes_nothing_times_out() {
    let mut pair = greeted();
    assert_eq!(pair.pass(Duration::from_secs(9)), Ok(()));
    assert_eq!(pair.pass(Duration::from_secs(1)), Err(Error::Timeout(TimeoutKind::Setup)));
}

#[test]
fn a_publisher_that_falls_silent_times_out() {
    let mut pair = Pair::new(1000);
    pair.drive();
    assert_eq!(pair.pass(Duration::from_secs(14)), Ok(()));
    pair.client.send_audio(crate::Timestamp(0), &[0xaf, 1], &vec![0].into()).unwrap();
    pair.drive();
    assert_eq!(pair.pass(Duration::from_secs(14)), Ok(()));
    assert_eq!(pair.pass(Duration::from_secs(1)), Err(Error::Timeout(TimeoutKind::Idle)));
}

#[test]
fn another_protocol_is_named() {
    let mut pair = Pair::new(1);
    let error = pair.server.handle_input(pair.now, b"GET / HTTP/1.1\r\n\r\n").unwrap_err();
    assert_eq!(error, Error::Handshake(HandshakeError::Version(b'G')));
}

#[rstest]
#[case::sixteen_megabytes(&[0x03, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0], ChunkError::MessageTooLong { length: 0xff_ffff, limit: 64 << 10 })]
#[case::no_header_before(&[0xc3], ChunkError::NoPrecedingHeader { stream: 3 })]
#[case::chunk_size_zero(&[2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 0], ChunkError::ChunkSize(0))]
#[case::chunk_size_negative(&[2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0xff, 0, 0, 0], ChunkError::ChunkSize(0xff00_0000))]
fn illegal_chunks_are_named(#[case] bytes: &[u8], #[case] expected: ChunkError) {
    let mut pair = greeted();
    let error = pair.server.handle_input(pair.now, bytes).unwrap_err();
    assert_eq!(error, Error::Chunk(expected));
}

#[test]
fn chunk_streams_are_bounded() {
    let mut pair = greeted();
    let open = |stream: u8| vec![0, stream, 0, 0, 0, 0, 0, 1, 8, 0, 0, 0, 0, 0];
    let opened = (0..200).map(|stream| pair.server.handle_input(pair.now, &open(stream)));
    let failure = opened.filter_map(Result::err).next();
    assert_eq!(failure, Some(Error::Chunk(ChunkError::TooManyStreams { limit: 64 })));
}

/// Many unfinished long messages must not add up to more than two of the longest; and who was not
/// let in yet may send short ones only.
#[test]
fn unfinished_messages_are_bounded_together() {
    let mut pair = greeted();
    let now = pair.now;
    // A chunk carries a whole message but for its last byte.
    pair.server.handle_input(now, &[2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0xff, 0xff]).unwrap();
    let filler = vec![0; 0xffff];
    let mut outcome = Ok(());
    for stream in 3..8u8 {
        // The last byte of each message never comes.
        outcome = pair.server.handle_input(now, &[stream, 0, 0, 0, 1, 0, 0, 9, 1, 0, 0, 0]);
        outcome = outcome.and_then(|()| pair.server.handle_input(now, &filler));
        if outcome.is_err() {
            break;
        }
    }
    assert_eq!(outcome, Err(Error::Chunk(ChunkError::TooMuchHeld { limit: 128 << 10 })));
}

#[test]
fn commands_before_connect_are_refused() {
    let mut pair = greeted();
    let message = b"\x03\x00\x00\x00\x00\x00\x19\x14\x00\x00\x00\x00\x02\x00\x0ccreateStream\x00\x40\x10\x00\x00\x00\x00\x00\x00\x05";
    let error = pair.server.handle_input(pair.now, message).unwrap_err();
    assert!(matches!(error, Error::OutOfOrder { command, .. } if command == "createStream"));
}

proptest! {
    #[test]
    fn any_bytes_after_the_handshake_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        let mut pair = greeted();
        let _ = pair.server.handle_input(pair.now, &bytes);
    }

    #[test]
    fn a_flipped_bit_is_survived(at in 3073usize..3600, bit in 0u8..8, cut in 1usize..300) {
        let mut pair = Pair::new(1000);
        let mut sent = drain(|| pair.client.poll_transmit());
        pair.server.handle_input(pair.now, &sent).unwrap();
        pair.client.handle_input(pair.now, &drain(|| pair.server.poll_transmit())).unwrap();
        sent = drain(|| pair.client.poll_transmit());
        let at = at % sent.len();
        sent[at] ^= 1 << bit;
        for piece in sent.chunks(cut) {
            if pair.server.handle_input(pair.now, piece).is_err() {
                break;
            }
        }
    }
}
