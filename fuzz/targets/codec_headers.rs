//! Decoder configurations and NAL units.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_media::{AudioSpecificConfig, AvcDecoderConfig, NalUnits, SequenceParameters};

fuzz_target!(|input: &[u8]| {
    let bytes = Bytes::copy_from_slice(input);
    let _ = AvcDecoderConfig::parse(bytes.clone());
    let _ = AudioSpecificConfig::parse(bytes);
    let _ = SequenceParameters::parse(input);
    for size in [1, 2, 4] {
        let total: usize = NalUnits::new(input, size).map(<[u8]>::len).sum();
        assert!(total <= input.len());
    }
});
