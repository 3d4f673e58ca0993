//! Media messages of a publisher, one after the other: tags of both forms become packets whose
//! times never go back.
#![no_main]

use std::collections::BTreeMap;

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_relay::RtmpSource;
use waverant_rtmp::{MediaKind, Timestamp};

/// Tags are read where they lie.
const BOUND: usize = 8 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let mut source = RtmpSource::new();
        let mut last = BTreeMap::new();
        let mut time = 0u32;
        let mut rest = input;
        // Each message: a byte for kind and time step, a byte of length, the body.
        while let [head, length, after @ ..] = rest {
            let (body, after) = after.split_at(usize::from(*length).min(after.len()));
            rest = after;
            time = time.wrapping_add(u32::from(head >> 1));
            let kind = if head & 1 == 0 { MediaKind::Video } else { MediaKind::Audio };
            source.handle_media(kind, Timestamp(time), &Bytes::copy_from_slice(body));
            while let Some((packet, tracks)) = source.poll_packet() {
                assert!(tracks.get(packet.track).is_some());
                assert!(packet.payload.len() <= body.len().max(255));
                let before = last.insert(packet.track, packet.dts);
                assert!(before.is_none_or(|before| before <= packet.dts));
            }
        }
    });
});
