//! The numbers of the rules. They stand in docs/findings.md as well, which is made from them.

use std::time::Duration;

/// A threshold with the weaker one that lets a finding stand.
#[derive(Clone, Copy, Debug)]
pub(in crate::checkup) struct Threshold {
    /// From here on it is told.
    pub(in crate::checkup) raise: f64,
    /// Down to here it is told on.
    pub(in crate::checkup) keep: f64,
}

impl Threshold {
    const fn new(raise: f64, keep: f64) -> Self {
        Self { raise, keep }
    }

    /// None below both; else whether the stronger one is reached.
    pub(super) fn reached(self, value: f64) -> Option<bool> {
        (value >= self.keep).then_some(value >= self.raise)
    }
}

/// A track that sends nothing for so long stands still.
pub(super) const STOPPED: Duration = Duration::from_secs(3);

/// Seconds between keyframes.
pub(in crate::checkup) const KEYFRAMES_RARE: Threshold = Threshold::new(8.0, 8.0);

/// The share of uneven steps between pictures.
pub(in crate::checkup) const UNEVEN: Threshold = Threshold::new(0.10, 0.05);

/// The share of pictures that are left out.
pub(in crate::checkup) const SKIPPED: Threshold = Threshold::new(0.05, 0.02);

/// The longest pause in seconds.
pub(in crate::checkup) const PAUSE: Threshold = Threshold::new(1.0, 0.5);

/// Millionths that a clock is off.
pub(in crate::checkup) const CLOCK_PPM: Threshold = Threshold::new(100.0, 50.0);

/// Milliseconds a minute that sound drifts.
pub(in crate::checkup) const DRIFT: Threshold = Threshold::new(10.0, 5.0);

/// Redials within five minutes.
pub(in crate::checkup) const REDIALS: Threshold = Threshold::new(3.0, 2.0);

/// Seconds behind the show beyond a destination's delay.
pub(in crate::checkup) const BEHIND: Threshold = Threshold::new(5.0, 2.0);

/// The share of the uplink that is used.
pub(in crate::checkup) const UPLINK: Threshold = Threshold::new(0.9, 0.8);

/// Seconds below -60 dBFS.
pub(in crate::checkup) const QUIET: f64 = 10.0;

/// Clips in ten seconds.
pub(in crate::checkup) const CLIPS: Threshold = Threshold::new(10.0, 2.0);

/// How much channels are each other's opposite.
pub(in crate::checkup) const PHASE: Threshold = Threshold::new(0.5, 0.3);

/// LU above the target, and below it.
pub(in crate::checkup) const LOUD: Threshold = Threshold::new(3.0, 2.0);
pub(in crate::checkup) const SOFT: Threshold = Threshold::new(5.0, 4.0);

/// Loudness is judged after so much sound.
pub(super) const MIN_HEARD: Duration = Duration::from_secs(30);

/// Seconds that a picture is black, nothing changes in it, or it is too dark.
pub(in crate::checkup) const BLACK: f64 = 10.0;
pub(in crate::checkup) const FROZEN: f64 = 10.0;
pub(in crate::checkup) const DARK: f64 = 30.0;

/// The share of the machine's processors that is used, and of its memory.
pub(in crate::checkup) const PROCESSOR: Threshold = Threshold::new(0.9, 0.8);
pub(in crate::checkup) const MEMORY: Threshold = Threshold::new(0.95, 0.9);

/// Seconds of a day, and of what is left of a certificate when it is told.
pub(in crate::checkup) const DAY: i64 = 86_400;
pub(in crate::checkup) const CERTIFICATE_LEFT: i64 = 14 * DAY;

/// Seconds by which a clock may be steered without being told.
pub(in crate::checkup) const CLOCK_PUT: f64 = 2.0;
