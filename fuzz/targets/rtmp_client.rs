//! Bytes from a platform, or from a server that plays to us, the handshake done.
#![no_main]

use std::time::Instant;

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_rtmp::{ClientConfig, ClientConnection, ClientPurpose, ClientTarget};

/// A player of ours: two messages of the longest kind that are not whole yet.
const BOUND: usize = 8 * 1024 * 1024 + 2 * 4 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let now = Instant::now();
        let Some((cut, rest)) = input.split_first() else { return };
        let purpose = if cut % 2 == 0 { ClientPurpose::Publish } else { ClientPurpose::Play };
        let target =
            ClientTarget { purpose, app: "in".into(), tc_url: "rtmp://a/in".into(), stream_name: "key".into() };
        let mut client = ClientConnection::new(ClientConfig::default(), target, now);
        let mut hello = vec![3];
        hello.resize(1 + 2 * 1536, 0);
        client.handle_input(now, &hello).expect("the handshake is well-formed");
        for piece in rest.chunks(usize::from(*cut).max(1)) {
            let outcome = client.handle_input(now, piece);
            while client.poll_event().is_some() {}
            while client.poll_transmit().is_some() {}
            if outcome.is_err() {
                return;
            }
        }
    });
});
