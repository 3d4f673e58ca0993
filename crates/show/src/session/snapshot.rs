use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use waverant_media::{MediaTime, Tracks};
use waverant_relay::{LineFault, LinePoint, LineQuality, OnAir, Opener, SessionState, SourceCounters, StreamFigures};

use crate::clock;

use super::seat::SeatState;
use super::{Publisher, Show, hold_left};

/// What can be seen of an incoming stream at one moment.
#[derive(Debug)]
pub struct SourceSnapshot {
    /// Where the session stands.
    pub state: SessionState,
    /// For how long.
    pub state_for: Duration,
    /// While it holds: how long it still waits.
    pub hold_left: Option<Duration>,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// Who publishes, or did last.
    pub publisher: Publisher,
    /// The tracks as they are now.
    pub tracks: Arc<Tracks>,
    /// Pictures, in bits per second.
    pub video_bps: f64,
    /// Measured, in pictures per second.
    pub frame_rate: f64,
    /// Sound of all tracks, in bits per second.
    pub audio_bps: f64,
    /// What is measured of it.
    pub figures: StreamFigures,
    /// What all publishers of the session did wrong.
    pub counters: SourceCounters,
    /// The newest thing of it that could not be used, in words.
    pub problem: Option<String>,
    /// True if that was damage, which passes; false if it is what is not carried.
    pub is_damage: bool,
    /// What hinders the slate, in words.
    pub slate_findings: Vec<String>,
    /// Labels of the keys of publishers that wait behind the one on air.
    pub waiting: Vec<String>,
    /// What the encoder calls itself.
    pub encoder: String,
    /// Width and height as the encoder announced them.
    pub announced_size: Option<(u32, u32)>,
    /// The line that the publisher comes in by, where its protocol measures it.
    pub line: Option<LineQuality>,
    /// The last two minutes of the line, the oldest first.
    pub line_points: Vec<LinePoint>,
    /// What is wrong with the line.
    pub line_fault: Option<LineFault>,
}

impl SourceSnapshot {
    /// Pictures per second by their own times while they come, which is more exact; else as they arrive.
    pub fn told_frame_rate(&self) -> f64 {
        let comes = self.frame_rate > 0.0;
        self.figures.cadence.filter(|_| comes).map_or(self.frame_rate, |cadence| cadence.rate)
    }

    /// The longest of the last four distances between keyframes.
    pub fn keyframe_spacing(&self) -> Option<MediaTime> {
        self.figures.groups.spacing
    }
}

/// What is seen of one publisher, on air or not.
#[derive(Clone, Debug)]
pub struct SeenPublisher {
    /// What it calls itself.
    pub encoder: String,
    /// Where it is.
    pub peer: SocketAddr,
    /// Its tracks; none while nothing of it was understood.
    pub tracks: Option<Arc<Tracks>>,
    /// What comes in of all tracks, in bits per second.
    pub bitrate_bps: f64,
    /// Whether it is the show.
    pub is_on_air: bool,
}

impl Show {
    /// What is seen of the newest publisher that `opener` let in, while it is there.
    pub fn seen(&self, opener: Opener) -> Option<SeenPublisher> {
        let (seat, is_on_air) = {
            let mut stage = self.stage.lock();
            let seat = stage.seats.values().rev().find(|seat| seat.publisher.opener == opener)?.clone();
            let is_on_air = stage.program().on_air() == OnAir::Seat(seat.id);
            (seat, is_on_air)
        };
        let (tracks, metadata) = {
            let source = seat.source.lock();
            (source.tracks().cloned().filter(|tracks| !tracks.is_empty()), source.metadata().cloned())
        };
        let encoder = metadata.and_then(|metadata| metadata.encoder);
        Some(SeenPublisher {
            encoder: encoder.unwrap_or_else(|| seat.publisher.encoder.clone()),
            peer: seat.publisher.peer,
            tracks,
            bitrate_bps: seat.bitrate_bps(clock::now()),
            is_on_air,
        })
    }

    /// What comes in of all tracks, in bits per second. It costs less than to look at all of the stream.
    pub fn bitrate_bps(&self) -> f64 {
        let (now, shown) = (clock::now(), self.stage.lock().shown.clone());
        shown.bitrate_bps(now)
    }

    /// Looks at the incoming stream.
    pub fn source_snapshot(&self) -> SourceSnapshot {
        let now = clock::now();
        let (state, since, loss_count, shown, stage_tracks, slate_findings) = {
            let stage = self.stage.lock();
            let (life, findings) = (stage.attendance.life(), stage.slate_findings.clone());
            (life.state(), life.since(), life.loss_count(), stage.shown.clone(), stage.tracks.clone(), findings)
        };
        let (tracks, problem, is_damage, metadata) = {
            let source = shown.source.lock();
            let metadata = source.metadata().cloned().unwrap_or_default();
            (source.tracks().cloned(), source.last_problem().map(str::to_owned), source.is_damage(), metadata)
        };
        // What is made here has no intake; its tracks are known from the stage.
        let tracks = tracks.filter(|tracks| !tracks.is_empty()).unwrap_or(stage_tracks);
        let (counters, waiting) = self.others(&shown);
        let mut meters = shown.meters.lock();
        let (video_bps, frame_rate) = meters.video.rates(now);
        let (audio_bps, _) = meters.audio.rates(now);
        let figures = meters.stream.figures(now);
        drop(meters);
        let line = shown.line.lock().clone();
        SourceSnapshot {
            state,
            state_for: now.saturating_duration_since(since),
            hold_left: hold_left(state, now),
            loss_count,
            tracks,
            video_bps,
            frame_rate,
            audio_bps,
            figures,
            counters,
            problem,
            is_damage,
            slate_findings,
            waiting,
            encoder: metadata.encoder.unwrap_or_else(|| shown.publisher.encoder.clone()),
            announced_size: metadata.picture_size,
            line: line.quality(),
            line_points: line.points(now),
            line_fault: line.fault(),
            publisher: shown.publisher.clone(),
        }
    }

    /// What all publishers of the session did wrong, and the labels of those that are not shown.
    fn others(&self, shown: &SeatState) -> (SourceCounters, Vec<String>) {
        let (mut counters, seats): (_, Vec<_>) = {
            let stage = self.stage.lock();
            (stage.past_counters, stage.seats.values().cloned().collect())
        };
        // Not under the stage's lock: the source of a seat is locked before it.
        seats.iter().for_each(|seat| counters += seat.counters());
        let waiting = seats.iter().filter(|seat| seat.id != shown.id);
        (counters, waiting.map(|seat| seat.publisher.key_label.clone()).collect())
    }
}
