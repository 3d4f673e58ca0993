//! Frames of sound as a publisher sends them, through the decoder and the meter that judge them.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_codec::{Hand, SoundPiece};
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
    // Each frame has its length before it.
    let (mut rest, mut frames) = (rest, Vec::new());
    for _ in 0..32 {
        let Some((length, after)) = rest.split_first() else { break };
        let (frame, after) = after.split_at(usize::from(*length).min(after.len()));
        rest = after;
        frames.push(Bytes::copy_from_slice(frame));
    }
    let mut meter: Option<SoundMeter> = None;
    let pieces = Hand::default().hear(&codec, &[], &frames).expect("done here").expect("these are decoded");
    assert!(pieces.len() == frames.len(), "a piece for each frame");
    for (number, piece) in (0..).zip(pieces) {
        let SoundPiece::Heard { rate, channels, samples } = piece else { continue };
        assert!(samples.len().is_multiple_of(channels), "whole samples of all channels");
        if meter.as_ref().is_none_or(|meter| !meter.is_for(rate, channels)) {
            meter = SoundMeter::new(rate, channels);
        }
        if let Some(meter) = &mut meter {
            meter.push(MediaTime::from_millis(number * 20), &samples);
        }
    }
    if let Some(meter) = meter {
        let figures = meter.figures();
        assert!(figures.quiet_for.len() == figures.rms.len());
    }
});
