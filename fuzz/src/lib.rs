//! What all fuzz targets share: they hold the code to a bound of memory, and not only to not panicking.

use peak_alloc::PeakAlloc;

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

/// Runs `work`, and fails if it ever holds more than `bound` bytes beyond what is there before.
pub fn within(bound: usize, work: impl FnOnce()) {
    let before = MEMORY.current_usage();
    MEMORY.reset_peak_usage();
    work();
    let held = MEMORY.peak_usage().saturating_sub(before);
    assert!(held <= bound, "{held} bytes were held, {bound} are allowed");
}
