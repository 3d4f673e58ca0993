//! Packets with any times and payloads, through the meters and the rules.
#![no_main]

use std::time::{Duration, Instant};

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_media::{MediaTime, Packet, TrackId, testing};
use waverant_relay::{Checkup, IntakeFacts, StreamMeter, judge_stream};

fuzz_target!(|bytes: &[u8]| {
    let start = Instant::now();
    let tracks = testing::tracks([(TrackId::VIDEO, testing::hevc()), (TrackId::AUDIO, testing::aac())]);
    let (mut meter, mut checkup, mut now) = (StreamMeter::new(start), Checkup::default(), start);
    // Ten bytes are a packet: its track, when it comes, its times, and its payload.
    for chunk in bytes.chunks_exact(10) {
        let track = TrackId(chunk[0] % 5);
        now += Duration::from_millis(u64::from(chunk[1]) * u64::from(chunk[2]));
        let time = |at: usize| i64::from(i16::from_le_bytes([chunk[at], chunk[at + 1]])) << (chunk[7] % 45);
        let packet = Packet {
            track,
            kind: track.kind(),
            dts: MediaTime::from_ticks(time(3)),
            pts: MediaTime::from_ticks(time(5)),
            random_access: chunk[8] & 1 == 1,
            payload: Bytes::copy_from_slice(&chunk[7..10]),
        };
        meter.record(now, &packet, &tracks);
        if chunk[9] & 3 == 0 {
            checkup.update(now, judge_stream(&meter.figures(now), &tracks, &IntakeFacts::default()));
        }
    }
});
