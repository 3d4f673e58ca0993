use std::time::{Duration, Instant};

use waverant_media::{Track, TrackKind};
use waverant_relay::{SoundFigures, SourceCounters};

use super::{Show, ShownFinding, SourceSnapshot};
use crate::clock;
use crate::events::ShowEvent;
use crate::leg::LegSnapshot;

/// What is known of a show, during it or at its end: what each destination got, and what happened. Times count from
/// its begin.
#[derive(Clone, Debug)]
pub struct ShowReport {
    /// How long it lasted, the time that it held included.
    pub length: Duration,
    /// Codecs and size of the incoming stream at the end.
    pub stream: String,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// What was wrong with the incoming stream, counted.
    pub counters: SourceCounters,
    /// The tracks of sound, with what was heard of them, or why nothing was.
    pub sounds: Vec<(Track, Option<Result<SoundFigures, String>>)>,
    /// What was wrong or odd.
    pub findings: Vec<ShownFinding>,
    /// How much more there was.
    pub more_finding_count: u64,
    /// When it began, to count from.
    pub began: Instant,
    /// The legs by destination.
    pub legs: Vec<LegReport>,
    /// What happened, in order.
    pub events: Vec<ShowEvent>,
    /// How many events more there were.
    pub more_event_count: u64,
}

/// What a destination got.
#[derive(Clone, Debug)]
pub struct LegReport {
    /// What is kept of the leg, with what can be seen of it.
    pub leg: LegSnapshot,
    /// When it got its first picture; none if it never did.
    pub began_at: Option<Duration>,
    /// How long it got the show.
    pub carried: Duration,
    /// How long it got nothing though it was to.
    pub lost: Duration,
    /// How often that was.
    pub gap_count: u32,
    /// The first of those times.
    pub gaps: Vec<ReportedGap>,
}

/// A time in which a destination got nothing.
#[derive(Clone, Debug)]
pub struct ReportedGap {
    /// When it began.
    pub at: Duration,
    /// How long it lasted.
    pub length: Duration,
    /// Why.
    pub reason: String,
}

impl Show {
    /// The report of the show up to now.
    pub fn report(&self) -> ShowReport {
        let source = self.source_snapshot();
        let size = source.tracks.first(TrackKind::Video).and_then(|video| video.codec.picture_size());
        let size = size.or(source.announced_size).map(|(width, height)| format!(" {width}x{height}"));
        let (events, more_event_count) = self.context.events.all();
        let (findings, more_finding_count) = self.all_findings();
        ShowReport {
            length: clock::now().saturating_duration_since(self.context.began),
            stream: format!("{}{}", source.tracks, size.unwrap_or_default()),
            loss_count: source.loss_count,
            counters: source.counters,
            sounds: self.heard_of(&source),
            findings,
            more_finding_count,
            began: self.context.began,
            legs: self.legs().into_iter().map(|leg| leg_report(self.context.began, leg)).collect(),
            events,
            more_event_count,
        }
    }
}

impl Show {
    fn heard_of(&self, source: &SourceSnapshot) -> Vec<(Track, Option<Result<SoundFigures, String>>)> {
        let sensed = self.sensed();
        let sounds = source.tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio);
        sounds.map(|track| (track.clone(), sensed.sounds.get(&track.id).cloned())).collect()
    }
}

fn leg_report(began: Instant, leg: LegSnapshot) -> LegReport {
    let now = clock::now();
    let since_begin = |at: Instant| at.saturating_duration_since(began);
    let history = leg.leg.history();
    let (gap_count, lost) = history.lost(now);
    let gaps = history.gaps(now).into_iter();
    let gaps = gaps.map(|gap| ReportedGap { at: since_begin(gap.began), length: gap.length, reason: gap.reason });
    LegReport {
        began_at: history.first_carried().map(since_begin),
        carried: history.carried(now),
        lost,
        gap_count,
        gaps: gaps.collect(),
        leg,
    }
}
