//! Blocks of figures as they lie in the records.
#![no_main]

use libfuzzer_sys::fuzz_target;
use waverant_relay::{Block, Strip};

fuzz_target!(|bytes: &[u8]| {
    let Ok(block) = Block::decode(bytes) else { return };
    let mut strip = Strip::new(block.start_s..block.start_s.saturating_add(100), block.step_s);
    strip.add(&block, block.start_s.into());
    strip.widen(7);
    // What was understood is packed as itself.
    assert_eq!(Block::decode(&block.encode()).map(|again| again.series.len()), Ok(block.series.len()));
});
