//! Decoder configurations, frame headers and NAL units.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_media::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, FlacConfig, HevcDecoderConfig, HevcSequence,
    Mp3Config, NalUnits, OpusConfig, SequenceParameters, Vp9Config,
};

/// Headers are read where they lie.
const BOUND: usize = 8 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let bytes = Bytes::copy_from_slice(input);
        let _ = AvcDecoderConfig::parse(bytes.clone());
        let _ = HevcDecoderConfig::parse(bytes.clone());
        let _ = Av1Config::parse(bytes.clone());
        let _ = Vp9Config::parse(bytes.clone());
        let _ = AudioSpecificConfig::parse(bytes.clone());
        let _ = FlacConfig::parse(bytes.clone()).map(|config| config.stream_info());
        if let Ok(config) = OpusConfig::parse(bytes) {
            assert_eq!(
                OpusConfig::from_mp4_box(&config.mp4_box()).map(|again| again.channel_count()),
                Ok(config.channel_count())
            );
        }
        if let Ok(config) = Ac3Config::parse(input) {
            let again = Ac3Config::from_mp4_box(config.is_enhanced(), &config.mp4_box());
            assert_eq!(again.channel_count(), config.channel_count());
        }
        let _ = Mp3Config::parse(input);
        let _ = (OpusConfig::samples_in(input), FlacConfig::samples_in(input));
        let _ = (SequenceParameters::parse(input), HevcSequence::parse(input));
        for size in [1, 2, 4] {
            let total: usize = NalUnits::new(input, size).map(<[u8]>::len).sum();
            assert!(total <= input.len());
        }
    });
});
