//! The figures of a show over time: one of each every second.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Instant;

use parking_lot::Mutex;
use waverant_media::TrackId;
use waverant_relay::{Figure, LegPhase, SeriesKey, SessionState, SoundFigures, Timeline};

use super::{Show, SourceSnapshot};
use crate::leg::LegSnapshot;
use crate::senses::Sensed;

/// Figures of a show over time, shared with who reads and keeps them.
pub type SharedTimeline = Arc<Mutex<Timeline>>;

/// What is noted over time, and what was counted before.
#[derive(Debug, Default)]
pub(super) struct TimelineDesk {
    pub(super) timeline: SharedTimeline,
    /// Pictures that each destination had missed a second ago.
    dropped: Mutex<BTreeMap<u64, u64>>,
    viewers: AtomicU32,
}

type Samples = Vec<(SeriesKey, f64)>;

impl TimelineDesk {
    pub(super) fn note(&self, at_s: u32, source: &SourceSnapshot, sensed: &Sensed, legs: &[LegSnapshot]) {
        let mut samples = of_stream(source);
        samples.extend(of_senses(source, sensed));
        samples.push((SeriesKey::whole(Figure::Viewers), self.viewers.load(Ordering::Relaxed).into()));
        let mut dropped = self.dropped.lock();
        for leg in legs {
            samples.extend(of_leg(leg));
            let record = &leg.record;
            let before = dropped.insert(record.destination_id, record.dropped_frame_count);
            let missed = record.dropped_frame_count.saturating_sub(before.unwrap_or(record.dropped_frame_count));
            if record.state != LegPhase::Off {
                samples.push((SeriesKey::of(Figure::LegDropped, &record.destination_name), missed as f64));
            }
        }
        drop(dropped);
        self.timeline.lock().note(at_s, samples);
    }
}

fn of_stream(source: &SourceSnapshot) -> Samples {
    let mut samples = vec![(SeriesKey::whole(Figure::Bitrate), source.figures.rate_1s_bps / 1000.0)];
    if source.state != SessionState::OnAir {
        return samples;
    }
    samples.push((SeriesKey::whole(Figure::FrameRate), source.frame_rate));
    samples.push((SeriesKey::whole(Figure::Jitter), source.figures.arrival.jitter_ms));
    let tracks = source.figures.tracks.iter();
    samples.extend(tracks.map(|track| (SeriesKey::of(Figure::TrackBitrate, track.id.0), track.rate_1s_bps / 1000.0)));
    if let Some(line) = &source.line {
        samples.push((SeriesKey::whole(Figure::LineRoundTrip), line.rtt.as_secs_f64() * 1000.0));
        samples.push((SeriesKey::whole(Figure::LineBuffer), line.buffered.as_secs_f64() * 1000.0));
    }
    if let Some(point) = source.line_points.last() {
        samples.push((SeriesKey::whole(Figure::LineLoss), point.loss_share * 100.0));
        samples.push((SeriesKey::whole(Figure::LineDropped), point.dropped_packets as f64));
    }
    samples
}

/// Of silence there is no loudness, and so no point.
fn of_senses(source: &SourceSnapshot, sensed: &Sensed) -> Samples {
    let is_coming = source.figures.idle.is_some_and(|idle| idle < super::checkup::HEARD_WITHIN);
    if !is_coming {
        return Samples::new();
    }
    let heard = sensed.sounds.iter().filter_map(|(track, heard)| Some((*track, heard.as_ref().ok()?)));
    let mut samples: Samples = heard.flat_map(|(track, heard)| of_sound(track, heard)).collect();
    if let Some(Ok(seen)) = &sensed.picture {
        samples.push((SeriesKey::whole(Figure::Brightness), seen.brightness * 100.0));
    }
    samples
}

fn of_sound(track: TrackId, heard: &SoundFigures) -> impl Iterator<Item = (SeriesKey, f64)> {
    let peak = heard.peak.iter().flatten().copied().reduce(f64::max);
    let figures = [(Figure::Loudness, heard.short_term), (Figure::Peak, peak)];
    figures.into_iter().filter_map(move |(figure, value)| Some((SeriesKey::of(figure, track.0), value?)))
}

/// A destination that is not to get the show has no points.
fn of_leg(leg: &LegSnapshot) -> Samples {
    let (name, phase) = (&leg.record.destination_name, leg.record.state);
    if phase == LegPhase::Off {
        return Samples::new();
    }
    let carrying = if phase == LegPhase::Carrying { 1.0 } else { 0.0 };
    let mut samples = vec![
        (SeriesKey::of(Figure::LegCarrying, name), carrying),
        (SeriesKey::of(Figure::LegBitrate, name), leg.bitrate_bps / 1000.0),
    ];
    if phase == LegPhase::Carrying {
        samples.push((SeriesKey::of(Figure::LegBehind, name), leg.lag_ms as f64));
    }
    if let Some(line) = &leg.line {
        samples.push((SeriesKey::of(Figure::LegLoss, name), line.quality.loss_share * 100.0));
    }
    samples
}

impl Show {
    /// Its figures over time.
    pub fn timeline(&self) -> &SharedTimeline {
        &self.timeline.timeline
    }

    /// When it began, on the clock by which its timeline and its report count.
    pub fn began(&self) -> Instant {
        self.context.began
    }

    /// Says how many watch.
    pub fn set_viewers(&self, count: u32) {
        self.timeline.viewers.store(count, Ordering::Relaxed);
    }

    pub(super) fn note_figures(&self, source: &SourceSnapshot) {
        let passed = crate::clock::now().saturating_duration_since(self.context.began);
        let at_s = u32::try_from(passed.as_secs()).unwrap_or(u32::MAX);
        self.timeline.note(at_s, source, &self.sensed(), &self.legs());
    }
}
