//! Bytes from a publisher or player, the handshake done: no panic, and bounded memory.
#![no_main]

use std::time::Instant;

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_rtmp::{MediaOutput, ServerConfig, ServerConnection, ServerEvent, Timestamp};

/// A publisher: two messages of the longest kind that are not whole yet, and what waits to be read of them.
const BOUND: usize = 8 * 1024 * 1024 + 2 * 4 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
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
                match event {
                    ServerEvent::PublishRequested(request) => {
                        server.accept_publish(now, request.stream).expect("a request waits");
                    }
                    ServerEvent::PlayRequested(request) => {
                        server.accept_play(now, request.stream).expect("a request waits");
                        if let Some(mut player) = server.player(request.stream) {
                            player
                                .send_video(Timestamp(0), &[0x17, 1, 0, 0, 0], &vec![7; 300].into())
                                .expect("it plays");
                        }
                    }
                    _ => {}
                }
            }
            while server.poll_transmit().is_some() {}
            if outcome.is_err() {
                return;
            }
        }
    });
});
