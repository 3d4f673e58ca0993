use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use waverant_media::MediaTime;
use waverant_relay::{
    ChannelName, Leg, LegDestination, LegPolicy, LegRecord, LegState, LineFault, LineMeter, LinePoint, LineQuality,
    RateMeter, SinkOutput, SpreadMeter,
};
use waverant_srt::Statistics;

use crate::clock;
use crate::context::ShowContext;

/// Seconds of the outgoing bitrate that are kept to be drawn.
const TRACE_LENGTH: usize = 60;

/// What can be seen of a leg from outside its task.
#[derive(Debug)]
pub struct LegStatus {
    session_id: u64,
    channel: ChannelName,
    destination_id: u64,
    /// The destination's name.
    pub destination_name: String,
    leg: Mutex<Leg>,
    meter: Mutex<RateMeter>,
    sent_frames: AtomicU64,
    sent_bytes: AtomicU64,
    dropped_frames: AtomicU64,
    dropped_ms: AtomicU64,
    lag_ms: AtomicU64,
    most_behind_ms: AtomicU64,
    delay_ms: AtomicU64,
    note: Mutex<Option<String>>,
    /// Outgoing bits per second, one value for each of the last seconds.
    trace: Mutex<VecDeque<u64>>,
    /// The line of a connection over SRT, while there is one.
    line: Mutex<Option<LineMeter>>,
    /// Those of all legs.
    lags: Arc<SpreadMeter>,
}

/// The line to a destination at one moment.
#[derive(Clone, Debug)]
pub struct LegLine {
    /// How good it is.
    pub quality: LineQuality,
    /// The last two minutes.
    pub points: Vec<LinePoint>,
    /// What is wrong with it.
    pub fault: Option<LineFault>,
}

/// A leg at one moment.
#[derive(Clone, Debug)]
pub struct LegSnapshot {
    /// What is kept of it.
    pub record: LegRecord,
    /// Where it stands, and its history.
    pub leg: Leg,
    /// Payload going out, in bits per second.
    pub bitrate_bps: f64,
    /// How far it is behind the source beyond its delay.
    pub lag_ms: u64,
    /// The most that it was behind.
    pub most_behind_ms: u64,
    /// The delay that it was given.
    pub delay: Duration,
    /// What the platform does not get of the stream, in words.
    pub note: Option<String>,
    /// Outgoing bits per second, one value for each of the last seconds.
    pub trace: Vec<u64>,
    /// The line that it goes by, over SRT.
    pub line: Option<LegLine>,
}

impl LegStatus {
    pub(super) fn new(show: &ShowContext, destination: &LegDestination) -> Self {
        let (now, session_id) = (clock::now(), show.id);
        let seed = u32::try_from((session_id ^ destination.id << 8) & u64::from(u32::MAX)).unwrap_or(1);
        Self {
            session_id,
            channel: show.channel.clone(),
            destination_id: destination.id,
            destination_name: destination.name.clone(),
            leg: Mutex::new(Leg::new(LegPolicy::default(), now, seed)),
            meter: Mutex::new(RateMeter::new(now)),
            sent_frames: AtomicU64::new(0),
            sent_bytes: AtomicU64::new(0),
            dropped_frames: AtomicU64::new(0),
            dropped_ms: AtomicU64::new(0),
            lag_ms: AtomicU64::new(0),
            most_behind_ms: AtomicU64::new(0),
            delay_ms: AtomicU64::new(0),
            note: Mutex::new(None),
            trace: Mutex::default(),
            line: Mutex::default(),
            lags: show.lags.clone(),
        }
    }

    pub(super) fn state(&self) -> LegState {
        self.leg.lock().state()
    }

    /// Moves the leg; true if it stands elsewhere now.
    pub(super) fn step(&self, step: impl FnOnce(&mut Leg, Instant)) -> bool {
        let mut leg = self.leg.lock();
        let before = leg.state();
        step(&mut leg, clock::now());
        leg.state() != before
    }

    pub(super) fn count_sent(&self, sent: SinkOutput, lag_ms: u64) {
        self.sent_frames.fetch_add(sent.video_frame_count, Ordering::Relaxed);
        self.sent_bytes.fetch_add(sent.payload_bytes, Ordering::Relaxed);
        self.lags.note(lag_ms);
        self.lag_ms.store(lag_ms, Ordering::Relaxed);
        self.most_behind_ms.fetch_max(lag_ms, Ordering::Relaxed);
        self.meter.lock().record(clock::now(), sent.payload_bytes, sent.video_frame_count);
    }

    pub(super) fn count_dropped(&self, frames: u64, length: MediaTime) {
        self.dropped_frames.fetch_add(frames, Ordering::Relaxed);
        self.dropped_ms.fetch_add(u64::try_from(length.millis()).unwrap_or(0), Ordering::Relaxed);
    }

    /// Says where a new connection begins: by how much behind the last packet of the one before; negative if
    /// it repeats some.
    pub(super) fn tell_resumed(&self, step: MediaTime) {
        let (session, channel, destination) = (self.session_id, &self.channel, &self.destination_name);
        let step_ms = step.millis();
        tracing::info!(session, %channel, destination, step_ms, "the leg goes on at a keyframe");
    }

    pub(super) fn set_delay(&self, delay: Duration) {
        self.delay_ms.store(u64::try_from(delay.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    pub(super) fn set_note(&self, note: Option<&str>) {
        *self.note.lock() = note.map(str::to_owned);
    }

    /// A connection over SRT begins.
    pub(super) fn begin_line(&self) {
        *self.line.lock() = Some(LineMeter::default());
    }

    /// Takes its figures.
    pub(super) fn record_line(&self, now: Instant, statistics: &Statistics) {
        if let Some(meter) = self.line.lock().as_mut() {
            meter.record_sent(now, statistics);
        }
    }

    /// It is over.
    pub(super) fn end_line(&self) {
        *self.line.lock() = None;
    }

    fn line(&self) -> Option<LegLine> {
        let line = self.line.lock();
        let meter = line.as_ref()?;
        let (points, fault) = (meter.points(clock::now()), meter.fault());
        Some(LegLine { quality: meter.quality()?, points, fault })
    }

    /// Notes what goes out, once a second, to be drawn.
    pub(crate) fn note_second(&self, now: Instant) {
        let (bitrate, _) = self.meter.lock().rates(now);
        let mut trace = self.trace.lock();
        if trace.len() == TRACE_LENGTH {
            trace.pop_front();
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a rate, not below 0")]
        trace.push_back(bitrate as u64);
    }

    pub(super) fn record(&self) -> LegRecord {
        let leg = self.leg.lock();
        LegRecord {
            session_id: self.session_id,
            destination_id: self.destination_id,
            destination_name: self.destination_name.clone(),
            state: leg.state().into(),
            reason: leg.reason().map(str::to_owned),
            sent_frame_count: self.sent_frames.load(Ordering::Relaxed),
            sent_bytes: self.sent_bytes.load(Ordering::Relaxed),
            dropped_frame_count: self.dropped_frames.load(Ordering::Relaxed),
            dropped_ms: self.dropped_ms.load(Ordering::Relaxed),
            redial_count: leg.redial_count(),
        }
    }

    /// The leg at this moment.
    pub fn snapshot(&self) -> LegSnapshot {
        let (bitrate_bps, _) = self.meter.lock().rates(clock::now());
        let leg = self.leg.lock().clone();
        let note = self.note.lock().clone();
        let trace = self.trace.lock().iter().copied().collect();
        LegSnapshot {
            record: self.record(),
            leg,
            bitrate_bps,
            lag_ms: self.lag_ms.load(Ordering::Relaxed),
            most_behind_ms: self.most_behind_ms.load(Ordering::Relaxed),
            delay: Duration::from_millis(self.delay_ms.load(Ordering::Relaxed)),
            note,
            trace,
            line: self.line(),
        }
    }
}
