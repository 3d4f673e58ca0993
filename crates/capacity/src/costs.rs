/// A gigabyte, as traffic is paid.
const GB: f64 = 1e9;

/// What the parts of a show take, in seconds of one processor per second and in bytes. The figures are those of
/// `waverant-bench` on two small cores (docs/operations.md); a machine corrects the processor's by what it shows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Costs {
    /// Seconds of a processor for a GB that comes in, checked, metered and put in the hub.
    pub received_gb: f64,
    /// For a GB sent to a destination, in writes of 20 ms.
    pub sent_gb: f64,
    /// For a GB recorded.
    pub recorded_gb: f64,
    /// For a GB sent to viewers as segments.
    pub viewed_gb: f64,
    /// For a second of sound that is listened to, and keyframes that are looked at: of each track.
    pub heard_track: f64,
    /// Bytes of memory of the service alone.
    pub base_bytes: f64,
    /// Seconds of a show that lie in memory.
    pub ring_seconds: f64,
    /// Bytes of memory for a leg, and for a viewer.
    pub leg_bytes: f64,
    /// See `leg_bytes`.
    pub viewer_bytes: f64,
}

impl Default for Costs {
    fn default() -> Self {
        Self {
            received_gb: 3.0,
            sent_gb: 2.2,
            recorded_gb: 2.5,
            viewed_gb: 1.5,
            heard_track: 0.008,
            base_bytes: 90e6,
            ring_seconds: 12.0,
            leg_bytes: 0.4e6,
            viewer_bytes: 0.15e6,
        }
    }
}

impl Costs {
    /// The share of one processor that a rate takes, in bits per second, at so many seconds for a GB.
    pub(crate) fn share(rate_bps: f64, seconds_per_gb: f64) -> f64 {
        rate_bps / 8.0 / GB * seconds_per_gb
    }

    /// The same costs on a machine that was seen to take `factor` times what they say of the processor. What is far off
    /// is not believed: little load says little.
    #[must_use]
    pub fn corrected(self, factor: f64) -> Self {
        let factor = if factor.is_finite() { factor.clamp(0.25, 8.0) } else { 1.0 };
        Self {
            received_gb: self.received_gb * factor,
            sent_gb: self.sent_gb * factor,
            recorded_gb: self.recorded_gb * factor,
            viewed_gb: self.viewed_gb * factor,
            heard_track: self.heard_track * factor,
            ..self
        }
    }
}
