//! What one peer can make a connection keep, measured by a counting allocator. All in one test,
//! since the counter is one for the process.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use peak_alloc::PeakAlloc;
use waverant_srt::{Caller, Config, Connection, Listener, ListenerEvent, Randomness};

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

/// What 100 Mbit/s bring within the latency of 120 ms and a second are 10638 packets, 16 MB with
/// their slots; and a message of half a MiB, twice while it grows. See `Config::window`.
const BOUND: usize = 20 * 1024 * 1024;

const FIRST_SEQ: u32 = 1;

#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
fn start() -> Instant {
    Instant::now()
}

fn connect(now: Instant, config: &Config) -> Connection {
    let from: SocketAddr = "192.0.2.7:40000".parse().unwrap();
    let mut listener = Listener::new(config, Randomness::new([9; 32]), now);
    let caller = Caller::new(Config::default(), from, Some("key".to_owned()), 77, Randomness::new([7; 32]), now);
    let mut caller = caller.with_initial_seq(FIRST_SEQ);
    loop {
        let datagram = caller.poll_transmit(now).expect("something to say");
        match listener.handle_datagram(now, from, &datagram) {
            ListenerEvent::Answer(answer) => drop(caller.handle_datagram(now, &answer).unwrap()),
            ListenerEvent::Request(request) => {
                return listener.accept(now, &request, 11, config.clone(), None).unwrap();
            }
            event => panic!("{event:?}"),
        }
    }
}

/// How a packet stands in its message.
#[derive(Clone, Copy)]
enum Position {
    Middle = 0,
    First = 0b10,
    Solo = 0b11,
}

fn packet(seq: u32, position: Position, timestamp_us: u32, payload: usize) -> Vec<u8> {
    let message = (position as u32) << 30 | 1;
    let fields = [seq & 0x7fff_ffff, message, timestamp_us, 11];
    let mut bytes: Vec<u8> = fields.iter().flat_map(|field| field.to_be_bytes()).collect();
    bytes.resize(16 + payload, 7);
    bytes
}

/// Throws 60,000 packets made by `make` at a connection within a second, and returns what it kept
/// at most.
fn kept(config: &Config, make: impl Fn(u32) -> Vec<u8>) -> (usize, Connection) {
    let now = start() + Duration::from_secs(1000);
    let mut connection = connect(now, config);
    let before = MEMORY.current_usage();
    MEMORY.reset_peak_usage();
    let mut out = Vec::with_capacity(64 * 1024);
    for number in 0..60_000_u32 {
        let at = now + Duration::from_micros(u64::from(number) * 17);
        connection.handle_datagram(at, &make(number));
        if number % 50 == 0 {
            connection.handle_timeout(at);
            while connection.poll_message(at).is_some() {}
            out.clear();
            while connection.poll_transmit(at, &mut out).is_some() {}
        }
    }
    (MEMORY.peak_usage().saturating_sub(before), connection)
}

#[test]
fn a_peer_cannot_make_a_connection_keep_more_than_its_bound() {
    const LITTLE: usize = 512 * 1024;
    let config = Config::default();
    let (usual, connection) = kept(&config, |at| packet(FIRST_SEQ + at, Position::Solo, at * 17, 1316));
    assert!(usual < BOUND, "a fast publisher: {usual} bytes");
    assert!(connection.statistics(start()).received.messages > 50_000);

    let (oversized, connection) = kept(&config, |at| packet(FIRST_SEQ + at, Position::Solo, at * 17, 60_000));
    assert!(oversized < LITTLE, "packets above the agreed size: {oversized} bytes");
    assert_eq!(connection.statistics(start()).malformed_packets, 60_000);

    let endless = |at| packet(FIRST_SEQ + at, if at == 0 { Position::First } else { Position::Middle }, at * 17, 1316);
    let (message, _) = kept(&config, endless);
    assert!(message < BOUND, "a message without end: {message} bytes");

    let far_ahead = |at| packet(FIRST_SEQ + at, Position::Solo, 600_000_000 + at, 1316);
    let (ahead, _) = kept(&config, far_ahead);
    assert!(ahead < LITTLE, "packets of ten minutes ahead: {ahead} bytes");

    // Every other packet is missing, and none of the rest is due before a second has gone by.
    let (holes, _) = kept(&config, |at| packet(FIRST_SEQ + 2 * at, Position::Solo, 1_500_000 + at, 1456));
    assert!(holes < BOUND, "holes everywhere: {holes} bytes");

    let watching = Config { takes_data: false, ..Config::default() };
    let (nothing, _) = kept(&watching, |at| packet(FIRST_SEQ + at, Position::Solo, at * 17, 1316));
    assert!(nothing < LITTLE, "data of who only watches: {nothing} bytes");
}
