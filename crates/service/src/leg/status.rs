use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use parking_lot::Mutex;
use waverant_relay::{Leg, LegPolicy, LegState, RateMeter, SinkOutput};
use waverant_store::{Destination, LegRecord};

/// What can be seen of a leg from outside its task.
#[derive(Debug)]
pub(crate) struct LegStatus {
    session_id: u64,
    destination_id: u64,
    pub(crate) destination_name: String,
    leg: Mutex<Leg>,
    meter: Mutex<RateMeter>,
    sent_frames: AtomicU64,
    sent_bytes: AtomicU64,
    dropped_frames: AtomicU64,
    lag_ms: AtomicU64,
    left_out: Mutex<Option<String>>,
}

/// A leg at one moment.
#[derive(Debug)]
pub(crate) struct LegSnapshot {
    pub(crate) record: LegRecord,
    pub(crate) leg: Leg,
    pub(crate) bitrate_bps: f64,
    pub(crate) lag_ms: u64,
    /// What the platform does not get of the stream, in words.
    pub(crate) left_out: Option<String>,
}

impl LegStatus {
    pub(super) fn new(session_id: u64, destination: &Destination) -> Self {
        let now = Instant::now();
        let seed = u32::try_from((session_id ^ destination.id << 8) & u64::from(u32::MAX)).unwrap_or(1);
        Self {
            session_id,
            destination_id: destination.id,
            destination_name: destination.name.clone(),
            leg: Mutex::new(Leg::new(LegPolicy::default(), now, seed)),
            meter: Mutex::new(RateMeter::new(now)),
            sent_frames: AtomicU64::new(0),
            sent_bytes: AtomicU64::new(0),
            dropped_frames: AtomicU64::new(0),
            lag_ms: AtomicU64::new(0),
            left_out: Mutex::new(None),
        }
    }

    pub(super) fn state(&self) -> LegState {
        self.leg.lock().state()
    }

    /// Moves the leg; true if it stands elsewhere now.
    pub(super) fn step(&self, step: impl FnOnce(&mut Leg, Instant)) -> bool {
        let mut leg = self.leg.lock();
        let before = leg.state();
        step(&mut leg, Instant::now());
        leg.state() != before
    }

    pub(super) fn count_sent(&self, sent: SinkOutput, lag_ms: u64) {
        self.sent_frames.fetch_add(sent.video_frame_count, Ordering::Relaxed);
        self.sent_bytes.fetch_add(sent.payload_bytes, Ordering::Relaxed);
        self.lag_ms.store(lag_ms, Ordering::Relaxed);
        self.meter.lock().record(Instant::now(), sent.payload_bytes, sent.video_frame_count);
    }

    pub(super) fn count_dropped(&self, frames: u64) {
        self.dropped_frames.fetch_add(frames, Ordering::Relaxed);
    }

    pub(super) fn note_left_out(&self, left_out: Option<&str>) {
        let mut noted = self.left_out.lock();
        if noted.as_deref() != left_out {
            *noted = left_out.map(str::to_owned);
        }
    }

    pub(super) fn record(&self) -> LegRecord {
        let leg = self.leg.lock();
        LegRecord {
            session_id: self.session_id,
            destination_id: self.destination_id,
            destination_name: self.destination_name.clone(),
            state: leg.state().name().to_owned(),
            reason: leg.reason().map(str::to_owned),
            sent_frame_count: self.sent_frames.load(Ordering::Relaxed),
            sent_bytes: self.sent_bytes.load(Ordering::Relaxed),
            dropped_frame_count: self.dropped_frames.load(Ordering::Relaxed),
            redial_count: leg.redial_count(),
        }
    }

    pub(crate) fn snapshot(&self) -> LegSnapshot {
        let (bitrate_bps, _) = self.meter.lock().rates(Instant::now());
        let leg = self.leg.lock().clone();
        let left_out = self.left_out.lock().clone();
        LegSnapshot { record: self.record(), leg, bitrate_bps, lag_ms: self.lag_ms.load(Ordering::Relaxed), left_out }
    }
}
