//! Whole files: samples stay within the file, and a cut file never reads as a longer one.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_container::Mp4File;
use waverant_fuzz::within;

/// Two hundred thousand samples, and what is drawn from them.
const BOUND: usize = 64 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let file = Bytes::copy_from_slice(input);
        if let Ok(parsed) = Mp4File::parse(&file) {
            for sample in parsed.tracks.iter().flat_map(|track| &track.samples) {
                assert!(sample.payload.len() <= file.len());
            }
            let _ = parsed.duration();
        }
    });
});
