use std::sync::Arc;
use std::time::{Duration, Instant};

use waverant_media::{MediaTime, Tracks};
use waverant_relay::{LinePoint, LineQuality, SessionState, SourceCounters};
use waverant_rtmp::StreamRates;

use super::{Publisher, Show};

/// What can be seen of an incoming stream at one moment.
#[derive(Debug)]
pub(crate) struct SourceSnapshot {
    pub(crate) state: SessionState,
    pub(crate) state_for: Duration,
    pub(crate) hold_left: Option<Duration>,
    pub(crate) loss_count: u32,
    pub(crate) publisher: Publisher,
    pub(crate) tracks: Arc<Tracks>,
    pub(crate) video_bps: f64,
    pub(crate) frame_rate: f64,
    pub(crate) audio_bps: f64,
    pub(crate) keyframe_spacing: Option<MediaTime>,
    pub(crate) counters: SourceCounters,
    /// What is wrong or odd, in words.
    pub(crate) findings: Vec<String>,
    /// Labels of the keys of publishers that wait behind the one on air.
    pub(crate) waiting: Vec<String>,
    pub(crate) encoder: String,
    /// Width and height as the encoder announced them.
    pub(crate) announced_size: Option<(u32, u32)>,
    /// The line that the publisher comes in by, where its protocol measures it.
    pub(crate) line: Option<LineQuality>,
    pub(crate) line_points: Vec<LinePoint>,
}

impl Show {
    /// Rates of the incoming stream for its metadata: as the encoder announced them, else as they
    /// were measured so far.
    pub(crate) fn rates(&self) -> StreamRates {
        let now = Instant::now();
        let shown = self.shown.lock().clone();
        let announced = shown.source.lock().metadata().cloned().unwrap_or_default();
        let mut meters = shown.meters.lock();
        let (video_bps, _) = meters.video.rates(now);
        let (audio_bps, _) = meters.audio.rates(now);
        let measured = |rate: f64| Some(rate).filter(|rate| *rate > 0.0);
        StreamRates {
            frame_rate: announced.frame_rate,
            video_bps: announced.video_bps.or(measured(video_bps)),
            audio_bps: announced.audio_bps.or(measured(audio_bps)),
        }
    }

    /// Looks at the incoming stream.
    pub(crate) fn source_snapshot(&self) -> SourceSnapshot {
        let now = Instant::now();
        let (state, since, loss_count) = {
            let stage = self.stage.lock();
            let life = stage.attendance.life();
            (life.state(), life.since(), life.loss_count())
        };
        let hold_left = match state {
            SessionState::Holding { until } => Some(until.saturating_duration_since(now)),
            _ => None,
        };
        let shown = self.shown.lock().clone();
        let (tracks, problem, metadata) = {
            let source = shown.source.lock();
            let metadata = source.metadata().cloned().unwrap_or_default();
            (source.tracks().clone(), source.last_problem().map(str::to_owned), metadata)
        };
        // What is made here has no source of messages; its tracks are known from the stage.
        let tracks = if tracks.is_empty() { self.stage.lock().tracks.clone() } else { tracks };
        let counters = self.counters();
        let mut meters = shown.meters.lock();
        let (video_bps, frame_rate) = meters.video.rates(now);
        let (audio_bps, _) = meters.audio.rates(now);
        let keyframe_spacing = meters.keyframe_spacing();
        drop(meters);
        let line = shown.line.lock().clone();
        let findings = shown.publisher.finding.iter().cloned().chain(problem).chain(clock_finding(counters));
        let findings = findings.chain(line.finding());
        SourceSnapshot {
            state,
            state_for: now.saturating_duration_since(since),
            hold_left,
            loss_count,
            tracks,
            video_bps,
            frame_rate,
            audio_bps,
            keyframe_spacing,
            counters,
            findings: findings.chain(self.slate_findings.lock().clone()).collect(),
            waiting: self.waiting(),
            encoder: metadata.encoder.unwrap_or_else(|| shown.publisher.encoder.clone()),
            announced_size: metadata.picture_size,
            line: line.quality(),
            line_points: line.points(now),
            publisher: shown.publisher.clone(),
        }
    }

    /// What all publishers of the session did wrong.
    fn counters(&self) -> SourceCounters {
        let mut counters = *self.past_counters.lock();
        let seats: Vec<_> = self.seats.lock().values().cloned().collect();
        seats.iter().for_each(|seat| counters += seat.counters());
        counters
    }

    fn waiting(&self) -> Vec<String> {
        let shown = self.shown.lock().id;
        let seats = self.seats.lock();
        seats.values().filter(|seat| seat.id != shown).map(|seat| seat.publisher.key_label.clone()).collect()
    }

    /// What hinders the slate, in words.
    pub(super) fn set_slate_findings(&self, findings: Vec<String>) {
        *self.slate_findings.lock() = findings;
    }
}

fn clock_finding(counters: SourceCounters) -> Option<String> {
    (counters.clock_jump_count + counters.backward_count > 0).then(|| {
        format!(
            "the encoder's clock jumped {} times and ran back {} times; the times sent on kept rising",
            counters.clock_jump_count, counters.backward_count
        )
    })
}
