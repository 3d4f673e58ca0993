//! Packets written by hand from the figures of the specification.

use bytes::Bytes;

use crate::number::{MessageNumber, SeqNumber};
use crate::wire::{
    Acknowledgement, ControlHeader, ControlKind, DataHeader, Extension, Handshake, HandshakeKind, Header, KeyFlag,
    PathReport, Position, RateReport, Terms, address_field, parse_drop_request, parse_losses, write_losses,
};

/// §3.1, figure 3.
#[test]
fn a_data_packet() {
    let raw = [
        0x12,
        0x34,
        0x56,
        0x78, // F = 0, packet sequence number
        0b1110_1100,
        0x00,
        0x00,
        0x07, // PP = 11, O = 1, KK = 01, R = 1, message 7
        0x00,
        0x0f,
        0x42,
        0x40, // one second
        0x00,
        0x00,
        0x00,
        0x2a, // destination 42
    ];
    let header = DataHeader {
        seq: SeqNumber::new(0x1234_5678),
        position: Position::Solo,
        in_order: true,
        key: KeyFlag::Even,
        retransmitted: true,
        message: MessageNumber::new(7),
        timestamp: 1_000_000,
        destination: 42,
    };
    assert_eq!(Header::parse(&raw), Ok(Header::Data(header)));
    let mut out = Vec::new();
    header.write(&mut out);
    assert_eq!(out, raw);
}

/// §3.2.1, figure 5, and §3.2.1.1 to §3.2.1.3: a conclusion with terms and a stream id.
#[test]
fn a_handshake() {
    let raw = [
        0x80, 0x00, 0x00, 0x00, // control, handshake
        0x00, 0x00, 0x00, 0x00, // nothing
        0x00, 0x00, 0x00, 0x64, // 100 µs
        0x00, 0x00, 0x00, 0x00, // to the listener
        0x00, 0x00, 0x00, 0x05, // version 5
        0x00, 0x02, 0x00, 0x05, // AES-128; terms and configuration follow
        0x00, 0x00, 0x03, 0xe8, // first packet is 1000
        0x00, 0x00, 0x05, 0xdc, // MTU 1500
        0x00, 0x00, 0x20, 0x00, // window 8192
        0xff, 0xff, 0xff, 0xff, // conclusion
        0x00, 0x00, 0x00, 0x2a, // socket 42
        0xde, 0xad, 0xbe, 0xef, // cookie
        0x01, 0x02, 0x00, 0xc0, // 192.0.2.1, turned around
        0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, //
        0x00, 0x01, 0x00, 0x03, // terms, three words
        0x00, 0x01, 0x04, 0x04, // 1.4.4
        0x00, 0x00, 0x00, 0x3f, // flags
        0x00, 0x78, 0x01, 0x2c, // 120 ms and 300 ms
        0x00, 0x05, 0x00, 0x02, // stream id, two words, the bytes of each turned around
        b't', b'a', b'o', b'b', //
        0x00, b's', b'u', b'o', //
    ];
    let Ok(Header::Control(header)) = Header::parse(&raw) else { panic!("no control packet") };
    assert_eq!(header, ControlHeader { kind: ControlKind::Handshake, info: 0, timestamp: 100, destination: 0 });
    let handshake = Handshake::parse(&raw[16..]).unwrap();
    let terms = Terms { version: 0x01_04_04, flags: 0x3f, receiver_delay_ms: 120, sender_delay_ms: 300 };
    let expected = [Extension::TermsRequest(terms), Extension::StreamId("boatous".to_owned())];
    assert_eq!(handshake.extensions, expected);
    assert_eq!((handshake.kind, handshake.cookie), (HandshakeKind::Conclusion, 0xdead_beef));
    assert_eq!(handshake.peer_address, address_field([192, 0, 2, 1].into()));
    let mut out = Vec::new();
    header.write(&mut out);
    handshake.write(&mut out);
    assert_eq!(out, raw);
}

/// §3.2.2: a key message in a handshake keeps its bytes.
#[test]
fn a_key_extension() {
    let raw = Bytes::from_static(&[0x12, 0x20, 0x29, 0x01, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4, 4]);
    let handshake = Handshake::parse(&[0; 48]).unwrap();
    let handshake = Handshake { version: 5, kind: HandshakeKind::Conclusion, ..handshake };
    let handshake = handshake.with_extensions(vec![Extension::KeyRequest(raw.clone())]);
    assert_eq!(handshake.extension_field, 2);
    let mut out = Vec::new();
    handshake.write(&mut out);
    assert_eq!(out[48..52], [0, 3, 0, 4]);
    assert_eq!(Handshake::parse(&out).unwrap().extensions, [Extension::KeyRequest(raw)]);
}

/// §3.2.1, table 7: reasons stand as handshake types from 1000 on.
#[test]
fn a_refusal() {
    let mut raw = [0; 48];
    raw[20..24].copy_from_slice(&1010_u32.to_be_bytes());
    assert_eq!(Handshake::parse(&raw).unwrap().kind, HandshakeKind::Refusal(crate::RejectReason::BAD_SECRET));
    raw[20..24].copy_from_slice(&2401_u32.to_be_bytes());
    assert_eq!(Handshake::parse(&raw).unwrap().kind, HandshakeKind::Refusal(crate::RejectReason::UNAUTHORIZED));
}

/// §3.2.4, figure 13.
#[test]
fn acknowledgements_of_three_lengths() {
    let words: [u32; 7] = [1_000, 30_000, 2_000, 8_000, 570, 9_000, 750_000];
    let raw: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
    let path = PathReport { rtt_us: 30_000, rtt_variance_us: 2_000, free_packets: 8_000 };
    let rates = RateReport { packets_per_second: 570, capacity_packets_per_second: 9_000, bytes_per_second: 750_000 };
    let full = Acknowledgement { next_expected: SeqNumber::new(1_000), path: Some(path), rates: Some(rates) };
    for (length, expected) in [
        (28, full),
        (16, Acknowledgement { rates: None, ..full }),
        (4, Acknowledgement { rates: None, path: None, ..full }),
    ] {
        assert_eq!(Acknowledgement::parse(&raw[..length]), Some(expected));
        let mut out = Vec::new();
        expected.write(&mut out);
        assert_eq!(out, raw[..length]);
    }
    assert_eq!(Acknowledgement::parse(&raw[..3]), None);
}

/// Appendix A: 5 alone, 10 to 13, and the wrap.
#[test]
fn a_loss_list() {
    let raw = [
        [0x00, 0x00, 0x00, 0x05],
        [0x80, 0x00, 0x00, 0x0a],
        [0x00, 0x00, 0x00, 0x0d],
        [0xff, 0xff, 0xff, 0xff],
        [0x00, 0x00, 0x00, 0x01],
    ]
    .concat();
    let ranges =
        [(5, 5), (10, 13), (0x7fff_ffff, 1)].map(|(first, last)| (SeqNumber::new(first), SeqNumber::new(last)));
    assert!(parse_losses(&raw).eq(ranges));
    let mut out = vec![1];
    write_losses(ranges, 100, &mut out);
    assert_eq!(out[1..], raw);
    out.clear();
    write_losses(ranges, 12, &mut out);
    assert_eq!(out, raw[..12]);
    let backwards = [[0x80, 0, 0, 9], [0, 0, 0, 2], [0, 0, 0, 7], [0x80, 0, 0, 9]].concat();
    assert!(parse_losses(&backwards).eq([(SeqNumber::new(7), SeqNumber::new(7))]));
}

/// §3.2.9.
#[test]
fn a_drop_request() {
    let raw = [0, 0, 0, 5, 0, 0, 0, 9];
    assert_eq!(parse_drop_request(&raw), Some((SeqNumber::new(5), SeqNumber::new(9))));
    assert_eq!(parse_drop_request(&raw[..7]), None);
}
