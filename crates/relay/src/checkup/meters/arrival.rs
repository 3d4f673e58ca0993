use std::collections::VecDeque;
use std::time::{Duration, Instant};

use waverant_media::MediaTime;

use super::trend::Trend;

/// Pauses and bursts are looked back on for this long.
const WINDOW: Duration = Duration::from_secs(10);

/// What arrives within this time arrives at once.
const AT_ONCE: Duration = Duration::from_millis(100);

/// Pauses and bursts that are kept; shorter ones make no finding.
const LEAST: Duration = Duration::from_millis(200);

/// Kept at most.
const MOST: usize = 64;

/// A growth of one millisecond per second is a thousand millionths.
const PPM: f64 = 1000.0;

/// When packets arrive, beside the times that they bear.
#[derive(Clone, Debug)]
pub(super) struct Arrival {
    began: Instant,
    last: Option<(Instant, MediaTime)>,
    /// Interarrival jitter, in milliseconds.
    jitter: f64,
    /// Pauses and when they ended; the oldest first.
    pauses: VecDeque<(Instant, Duration)>,
    /// What arrived at once, as media time, and when.
    bursts: VecDeque<(Instant, Duration)>,
    /// When what arrives at once began to, and the media time then.
    at_once: Option<(Instant, MediaTime)>,
    lateness: Trend,
}

/// What is known of how a stream arrives.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct ArrivalFigures {
    /// How unevenly pictures (or frames of sound, where there are none) arrive, in milliseconds: the running mean of
    /// RFC 3550, 6.4.1. Times rounded to milliseconds make 0.4 of their own.
    pub jitter_ms: f64,
    /// The longest time of the last ten seconds in which nothing arrived.
    pub longest_pause: Duration,
    /// The most of the stream, by its own times, that arrived within 100 ms in the last ten seconds.
    pub largest_burst: Duration,
    /// How much faster the encoder's clock runs than ours, in millionths; slower ones are negative. None while it
    /// cannot be told. Error: 10 for a steady line after two minutes.
    pub clock_ppm: Option<f64>,
}

impl Arrival {
    pub(super) fn new(now: Instant) -> Self {
        Self {
            began: now,
            last: None,
            jitter: 0.0,
            pauses: VecDeque::new(),
            bursts: VecDeque::new(),
            at_once: None,
            lateness: Trend::default(),
        }
    }

    /// Takes the arrival of any packet.
    pub(super) fn note(&mut self, now: Instant, before: Option<Instant>) {
        let Some(pause) = before.map(|before| now.saturating_duration_since(before)) else { return };
        if pause >= LEAST {
            keep(&mut self.pauses, now, pause);
        }
    }

    /// Takes the arrival of a packet of the track that leads; `late` is how far its time is behind the wall, in ms.
    pub(super) fn record(&mut self, now: Instant, time: MediaTime, late: f64) {
        if let Some((then, before)) = self.last.replace((now, time)) {
            let on_wall = now.saturating_duration_since(then).as_secs_f64() * 1000.0;
            let in_stream = millis(time - before);
            self.jitter += ((on_wall - in_stream).abs() - self.jitter) / 16.0;
        }
        self.lateness.record(now.saturating_duration_since(self.began), late);
        match self.at_once {
            Some((since, _)) if now.saturating_duration_since(since) < AT_ONCE => {}
            _ => self.at_once = Some((now, time)),
        }
        let Some((_, from)) = self.at_once else { return };
        let burst = (time - from).to_duration();
        if burst >= LEAST {
            // One burst is one entry, however many packets it has.
            if self.bursts.back().is_some_and(|(at, _)| now.saturating_duration_since(*at) < AT_ONCE) {
                self.bursts.pop_back();
            }
            keep(&mut self.bursts, now, burst);
        }
    }

    pub(super) fn figures(&self, now: Instant, newest: Option<Instant>) -> ArrivalFigures {
        let longest = |kept: &VecDeque<(Instant, Duration)>| {
            let recent = kept.iter().filter(|(at, _)| now.saturating_duration_since(*at) < WINDOW);
            recent.map(|(_, length)| *length).max().unwrap_or_default()
        };
        let going_on = newest.map(|newest| now.saturating_duration_since(newest)).filter(|pause| *pause >= LEAST);
        ArrivalFigures {
            jitter_ms: self.jitter,
            longest_pause: longest(&self.pauses).max(going_on.unwrap_or_default()),
            largest_burst: longest(&self.bursts),
            // A clock that runs fast makes times run ahead of the wall.
            clock_ppm: self.lateness.growth().map(|growth| -growth * PPM),
        }
    }
}

fn keep(kept: &mut VecDeque<(Instant, Duration)>, now: Instant, length: Duration) {
    while kept.len() >= MOST || kept.front().is_some_and(|(at, _)| now.saturating_duration_since(*at) >= WINDOW) {
        kept.pop_front();
    }
    kept.push_back((now, length));
}

pub(super) fn millis(time: MediaTime) -> f64 {
    time.ticks() as f64 / waverant_media::TICKS_PER_MILLISECOND as f64
}
