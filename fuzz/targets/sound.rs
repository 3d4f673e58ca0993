//! Frames of sound as a publisher sends them, through the decoder and the meter that judge them.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_codec::SoundDecoder;
use waverant_media::{MediaTime, testing};
use waverant_relay::SoundMeter;

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, rest)) = bytes.split_first() else { return };
    let codec = match kind % 4 {
        0 => testing::aac(),
        1 => testing::opus(),
        2 => testing::flac(),
        _ => testing::mp3(),
    };
    let mut decoder = SoundDecoder::new(&codec).expect("these are decoded");
    let mut meter: Option<SoundMeter> = None;
    // Each frame has its length before it.
    let mut rest = rest;
    for number in 0..32 {
        let Some((length, after)) = rest.split_first() else { break };
        let (frame, after) = after.split_at(usize::from(*length).min(after.len()));
        rest = after;
        if let Some((rate, channels, samples)) = decoder.decode(frame) {
            assert!(samples.len().is_multiple_of(channels), "whole samples of all channels");
            if meter.as_ref().is_none_or(|meter| !meter.is_for(rate, channels)) {
                meter = SoundMeter::new(rate, channels);
            }
            if let Some(meter) = &mut meter {
                meter.push(MediaTime::from_millis(number * 20), samples);
            }
        }
    }
    if let Some(meter) = meter {
        let figures = meter.figures();
        assert!(figures.quiet_for.len() == figures.rms.len());
    }
});
