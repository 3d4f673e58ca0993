//! The first bytes of both roles, with and without digests.
#![no_main]

use std::time::Instant;

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientPurpose, ClientTarget, Greeting, ServerConfig, ServerConnection,
};

/// A handshake is three kilobytes.
const BOUND: usize = 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let now = Instant::now();
        let Some((cut, rest)) = input.split_first() else { return };
        let mut server = ServerConnection::new(ServerConfig::default(), now);
        for piece in rest.chunks(usize::from(*cut).max(1) * 16) {
            if server.handle_input(now, piece).is_err() {
                break;
            }
            while server.poll_transmit().is_some() {}
        }
        let target = ClientTarget {
            purpose: ClientPurpose::Publish,
            app: "in".into(),
            tc_url: "rtmp://a/in".into(),
            stream_name: "key".into(),
        };
        for greeting in [Greeting::Plain, Greeting::DigestFirst, Greeting::DigestSecond] {
            let config = ClientConfig { greeting, ..ClientConfig::default() };
            let mut client = ClientConnection::new(config, target.clone(), now);
            let _ = client.handle_input(now, rest);
            while client.poll_transmit().is_some() {}
        }
    });
});
