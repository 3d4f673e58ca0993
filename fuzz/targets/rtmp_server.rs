//! Bytes from a publisher, the handshake done: no panic, and bounded memory.
#![no_main]

use std::time::Instant;

use libfuzzer_sys::fuzz_target;
use waverant_rtmp::{ServerConfig, ServerConnection, ServerEvent};

fuzz_target!(|input: &[u8]| {
    let now = Instant::now();
    let mut server = ServerConnection::new(ServerConfig::default(), now);
    let mut hello = vec![3];
    hello.resize(1 + 2 * 1536, 0);
    server.handle_input(now, &hello).expect("the handshake is well-formed");
    // The first byte says how the rest is cut.
    let Some((cut, rest)) = input.split_first() else { return };
    for piece in rest.chunks(usize::from(*cut).max(1)) {
        let outcome = server.handle_input(now, piece);
        while let Some(event) = server.poll_event() {
            if matches!(event, ServerEvent::PublishRequested(_)) {
                server.accept_publish(now).expect("a request waits");
            }
        }
        while server.poll_transmit().is_some() {}
        if outcome.is_err() {
            return;
        }
    }
});
