//! Datagrams of a caller: to the listener, and on a connection that was made.
#![no_main]

use std::time::{Duration, Instant};

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_srt::{Caller, Config, Connection, Listener, ListenerEvent, Passphrase, Randomness};

const FROM: &str = "192.0.2.7:40000";

/// A connection at the listener's end.
fn connect(now: Instant, listener: &mut Listener, config: &Config) -> Connection {
    let from = FROM.parse().expect("an address");
    let random = Randomness::new([7; 32]);
    let mut caller = Caller::new(config.clone(), from, Some("key".to_owned()), 77, random, now).with_initial_seq(1);
    loop {
        let datagram = caller.poll_transmit(now).expect("something to say");
        match listener.handle_datagram(now, from, &datagram) {
            ListenerEvent::Answer(answer) => {
                caller.handle_datagram(now, &answer).expect("our answer is right");
            }
            ListenerEvent::Request(request) => {
                return listener.accept(now, &request, 11, config.clone(), None).expect("both ends agree");
            }
            event => panic!("{event:?}"),
        }
    }
}

/// See `Config::window`: 100 Mbit/s for the latency and a second, and what we send.
const BOUND: usize = 24 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let mut now = Instant::now();
        let Some((mode, mut rest)) = input.split_first() else { return };
        let passphrase = (mode & 1 == 1).then(|| Passphrase::new("wexcombe reach").expect("long enough"));
        let config = Config { passphrase, ..Config::default() };
        let mut listener = Listener::new(&config, Randomness::new([9; 32]), now);
        let from = FROM.parse().expect("an address");
        let mut connection = connect(now, &mut listener, &config);
        let mut out = Vec::new();
        // Each datagram: a byte of time, a byte of length, the bytes.
        while let [step, length, after @ ..] = rest {
            let (datagram, after) = after.split_at(usize::from(*length).min(after.len()));
            rest = after;
            now += Duration::from_millis(u64::from(*step));
            let _ = listener.handle_datagram(now, from, datagram);
            connection.handle_datagram(now, datagram);
            let _ = connection.send(now, &Bytes::from_static(&[5; 100]));
            connection.handle_timeout(now);
            while connection.poll_message(now).is_some() {}
            out.clear();
            for _ in 0..1000 {
                if connection.poll_transmit(now, &mut out).is_none() {
                    break;
                }
            }
            assert!(connection.statistics(now).received.buffered_packets <= config.window);
        }
    });
});
