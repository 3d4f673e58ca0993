//! A publisher that sends a container as a stream, MPEG-TS or Matroska: any bytes, cut anywhere,
//! become packets whose times never go back.
#![no_main]

use std::collections::BTreeMap;

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_relay::StreamSource;

/// Sixteen MiB for an element or a picture, a few of them at a time.
const BOUND: usize = 96 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let Some((cut, rest)) = input.split_first() else { return };
        let mut source = StreamSource::new();
        let mut last = BTreeMap::new();
        let mut check = |source: &mut StreamSource| {
            while let Some((packet, tracks)) = source.poll_packet() {
                assert!(tracks.get(packet.track).is_some());
                let before = last.insert(packet.track, packet.dts);
                assert!(before.is_none_or(|before| before <= packet.dts));
            }
        };
        for piece in rest.chunks(usize::from(*cut).max(1) * 8) {
            source.handle_bytes(piece);
            check(&mut source);
        }
        source.finish();
        check(&mut source);
    });
});
