//! A set-up file: whatever stands in it, reading it ends, and each fault has a place within it.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_fuzz::within;
use waverant_setup::{Document, Setup, references};

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(&bytes[..bytes.len().min(8 * 1024)]);
    within(8 * 1024 * 1024, || {
        let lines = text.matches('\n').count() + 1;
        let faults = match Document::read(&text) {
            Err(faults) => faults,
            Ok(mut document) => {
                let _ = Setup::read(&mut document);
                document.take_faults()
            }
        };
        assert!(faults.len() <= 101 && faults.iter().all(|fault| (1..=lines).contains(&fault.place.line)));
        let _ = references(&text);
    });
});
