//! What one message may make of a server's memory, measured by a counting allocator. All in one
//! test, since the counter is one for the process.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::time::Instant;

use peak_alloc::PeakAlloc;
use waverant_rtmp::{ServerConfig, ServerConnection, ServerEvent};

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

/// A message, the buffer it is put together in, and what it becomes.
const BOUND: usize = 1024 * 1024;

const COMMAND_AMF3: u8 = 17;
const COMMAND_AMF0: u8 = 20;
const DATA_AMF3: u8 = 15;
const DATA_AMF0: u8 = 18;

/// `head` in one chunk stream, in chunks of 128 bytes.
fn message(message_type: u8, stream: u8, payload: &[u8]) -> Vec<u8> {
    let length = u32::try_from(payload.len()).unwrap().to_be_bytes();
    let mut bytes = [&[3, 0, 0, 0], &length[1..], &[message_type, stream, 0, 0, 0]].concat();
    for (at, chunk) in payload.chunks(128).enumerate() {
        if at > 0 {
            bytes.push(0xc3);
        }
        bytes.extend(chunk);
    }
    bytes
}

fn u29(number: usize) -> Vec<u8> {
    let byte = |shift: usize| u8::try_from(number >> shift & 0x7f).unwrap();
    match number {
        0..0x80 => vec![byte(0)],
        0x80..0x4000 => vec![byte(7) | 0x80, byte(0)],
        _ => vec![byte(14) | 0x80, byte(7) | 0x80, byte(0)],
    }
}

fn text(length: usize) -> Vec<u8> {
    [u29(length << 1 | 1), vec![b'x'; length]].concat()
}

/// One long string, and thousands of references to it, in arrays that lie in each other.
fn string_by_reference() -> Vec<u8> {
    let mut bytes = [&[9, 5, 1, 6][..], &text(55_000)].concat();
    for _ in 0..13 {
        bytes.extend([9, 3, 1]);
    }
    bytes.extend([&[9][..], &u29(3999 << 1 | 1), &[1]].concat());
    bytes.extend([6, 0].repeat(3999));
    bytes
}

/// A class with one member of a long name, and thousands of objects of it.
fn member_names() -> Vec<u8> {
    let mut bytes = [&[9][..], &u29(3000 << 1 | 1), &[1, 0x0a, 0x13, 1], &text(50_000), &[1]].concat();
    bytes.extend([0x0a, 1, 1].repeat(2999));
    bytes
}

/// Objects whose members have one long name, by reference.
fn names_by_reference() -> Vec<u8> {
    let mut bytes = [&[0x0a, 0x0b, 1][..], &text(50_000), &[1]].concat();
    bytes.extend([0, 1].repeat(3900));
    bytes.push(1);
    bytes
}

/// Classes whose members are named by reference.
fn classes_by_reference() -> Vec<u8> {
    let mut bytes = [&[9][..], &u29(3 << 1 | 1), &[1, 6], &text(50_000)].concat();
    for _ in 0..2 {
        bytes.extend([&[0x0a][..], &u29(1900 << 4 | 3), &[1], &[0].repeat(1900), &[1].repeat(1900)].concat());
    }
    bytes
}

fn amf0_name(name: &str) -> Vec<u8> {
    [&[2, 0, u8::try_from(name.len()).unwrap()], name.as_bytes()].concat()
}

fn greeted(now: Instant) -> ServerConnection {
    let mut server = ServerConnection::new(ServerConfig::default(), now);
    let mut hello = vec![3];
    hello.resize(1 + 2 * 1536, 0);
    server.handle_input(now, &hello).unwrap();
    server
}

fn publishing(now: Instant) -> ServerConnection {
    let mut server = greeted(now);
    let number = |number: f64| [&[0][..], &number.to_be_bytes()].concat();
    let connect = [amf0_name("connect"), number(1.0), vec![3, 0, 0, 9]].concat();
    let create = [amf0_name("createStream"), number(2.0), vec![5]].concat();
    let publish = [amf0_name("publish"), number(3.0), vec![5], amf0_name("key")].concat();
    for (stream, payload) in [(0, connect), (0, create), (1, publish)] {
        server.handle_input(now, &message(COMMAND_AMF0, stream, &payload)).unwrap();
    }
    assert!(matches!(server.poll_event(), Some(ServerEvent::PublishRequested(_))));
    server.accept_publish(now, 1).unwrap();
    server
}

/// The most that was allocated at one time while `run` ran, in bytes.
fn peak_of(run: impl FnOnce()) -> usize {
    let before = MEMORY.current_usage();
    MEMORY.reset_peak_usage();
    run();
    MEMORY.peak_usage().saturating_sub(before)
}

#[test]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken; no time passes")]
fn no_message_becomes_large() {
    let now = Instant::now();
    let bodies = [
        ("string by reference", string_by_reference()),
        ("member names", member_names()),
        ("names by reference", names_by_reference()),
        ("classes by reference", classes_by_reference()),
    ];
    for (name, body) in bodies {
        assert!(body.len() < 64 * 1024 - 32, "{name} is what a stranger may send");
        let amf3 = [&[6, 15][..], b"connect", &body].concat();
        let inside_amf0 = [&amf0_name("connect"), &[0x11][..], &body].concat();
        for (message_type, payload) in [(COMMAND_AMF3, amf3), (COMMAND_AMF0, inside_amf0)] {
            let mut server = greeted(now);
            let bytes = message(message_type, 0, &payload);
            let mut outcome = Ok(());
            let peak = peak_of(|| outcome = server.handle_input(now, &bytes));
            assert!(peak < BOUND, "{name} in {message_type}: {peak} bytes");
            let error = outcome.expect_err(name).to_string();
            assert!(error.contains("262144 bytes when it is decoded"), "{name}: {error}");
        }
        // A guest with a right key, in metadata: it is left out, and the show goes on.
        let amf3 = [&[6, 21][..], b"onMetaData", &body].concat();
        let inside_amf0 = [&amf0_name("onMetaData"), &[0x11][..], &body].concat();
        for (message_type, payload) in [(DATA_AMF3, amf3), (DATA_AMF0, inside_amf0)] {
            let mut server = publishing(now);
            let bytes = message(message_type, 1, &payload);
            let peak = peak_of(|| server.handle_input(now, &bytes).unwrap());
            assert!(peak < BOUND, "{name} in {message_type}: {peak} bytes");
            assert_eq!(server.poll_event(), None);
        }
    }
    commands_out_of_order_are_not_decoded(now);
    announced_lengths_reserve_little(now);
    small_parts_do_not_keep_large_aggregates(now);
}

fn commands_out_of_order_are_not_decoded(now: Instant) {
    let payload = [&amf0_name("publish"), &[0x11][..], &string_by_reference()].concat();
    let mut server = greeted(now);
    let error = server.handle_input(now, &message(COMMAND_AMF0, 0, &payload)).unwrap_err();
    assert_eq!(error.to_string(), "`publish` came before `connect`");
}

/// Sixty headers that announce long messages, and nothing behind them.
fn announced_lengths_reserve_little(now: Instant) {
    let mut server = greeted(now);
    let peak = peak_of(|| {
        for stream in 3..63 {
            let _ = server.handle_input(now, &[stream, 0, 0, 0, 0, 0xff, 0xff, 8, 0, 0, 0, 0, 1]);
        }
    });
    assert!(peak < BOUND, "{peak} bytes");
}

fn small_parts_do_not_keep_large_aggregates(now: Instant) {
    let mut server = publishing(now);
    let part = [&[8, 0, 0, 4, 0, 0, 0, 0, 0, 0, 0][..], b"abcd", &[0, 0, 0, 15]].concat();
    let padding = 1_000_000u32;
    let payload = [part, [&[0][..], &padding.to_be_bytes()[1..], &[0; 7]].concat(), vec![0; 1_000_000]].concat();
    let bytes = message(22, 1, &payload);
    let before = MEMORY.current_usage();
    let mut kept = Vec::new();
    for _ in 0..20 {
        server.handle_input(now, &bytes).unwrap();
        kept.extend(std::iter::from_fn(|| server.poll_event()));
    }
    assert_eq!(kept.len(), 20);
    let held = MEMORY.current_usage() - before;
    assert!(held < 2_500_000, "20 sounds of 4 bytes keep {held} bytes");
}
