use std::sync::Arc;
use std::time::{Duration, Instant};

use waverant_media::{MediaTime, Tracks};
use waverant_relay::{SessionState, SourceCounters};
use waverant_rtmp::StreamRates;

use super::Show;

/// What can be seen of an incoming stream at one moment.
#[derive(Debug)]
pub(crate) struct SourceSnapshot {
    pub(crate) state: SessionState,
    pub(crate) state_for: Duration,
    pub(crate) hold_left: Option<Duration>,
    pub(crate) loss_count: u32,
    pub(crate) tracks: Arc<Tracks>,
    pub(crate) video_bps: f64,
    pub(crate) frame_rate: f64,
    pub(crate) audio_bps: f64,
    pub(crate) keyframe_spacing: Option<MediaTime>,
    pub(crate) counters: SourceCounters,
    pub(crate) problem: Option<String>,
    pub(crate) encoder_name: Option<String>,
    /// Width and height as the encoder announced them.
    pub(crate) announced_size: Option<(u32, u32)>,
}

impl Show {
    /// Rates of the incoming stream for its metadata: as the encoder announced them, else as they
    /// were measured so far.
    pub(crate) fn rates(&self) -> StreamRates {
        let now = Instant::now();
        let announced = self.source.lock().metadata().cloned().unwrap_or_default();
        let mut meters = self.meters.lock();
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
            let life = self.life.lock();
            (life.state(), life.since(), life.loss_count())
        };
        let hold_left = match state {
            SessionState::Holding { until } => Some(until.saturating_duration_since(now)),
            _ => None,
        };
        let (tracks, counters, problem, metadata) = {
            let source = self.source.lock();
            let metadata = source.metadata().cloned().unwrap_or_default();
            (source.tracks().clone(), source.counters(), source.last_problem().map(str::to_owned), metadata)
        };
        let mut meters = self.meters.lock();
        let (video_bps, frame_rate) = meters.video.rates(now);
        let (audio_bps, _) = meters.audio.rates(now);
        SourceSnapshot {
            state,
            state_for: now.saturating_duration_since(since),
            hold_left,
            loss_count,
            tracks,
            video_bps,
            frame_rate,
            audio_bps,
            keyframe_spacing: meters.keyframe_spacing(),
            counters,
            problem,
            encoder_name: metadata.encoder,
            announced_size: metadata.picture_size,
        }
    }
}
