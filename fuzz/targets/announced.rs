//! What a proxy says of who calls: read as a door reads it, never beyond its end, and within bounds.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_relay::{Announced, announced};

fuzz_target!(|bytes: &[u8]| {
    within(64 * 1024, || {
        let mut have = 0;
        while let Ok(Announced::Needs(all)) = announced(&bytes[..have]) {
            assert!(all > have && all <= 16 + 2048);
            if all > bytes.len() {
                break;
            }
            have = all;
        }
    });
});
