//! The report of a show: what each destination got, and what happened.

use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_media::TrackKind;

use super::Show;
use crate::leg::LegSnapshot;

/// What is known of a show, during it or at its end. Times count from its begin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct ShowReport {
    /// How long it lasted, the time that it held included.
    pub(crate) length_ms: u64,
    /// The incoming stream.
    pub(crate) source: SourceReport,
    /// The legs by destination.
    pub(crate) legs: Vec<LegReport>,
    /// What happened, in order.
    pub(crate) events: Vec<EventReport>,
    /// How many events more there were.
    pub(crate) more_event_count: u64,
}

/// The incoming stream of a show.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct SourceReport {
    /// Codecs and size at the end.
    pub(crate) stream: String,
    /// How often the publisher was lost.
    pub(crate) loss_count: u32,
    /// Messages that could not be used.
    pub(crate) unusable_count: u64,
    /// Times when the encoder's clock jumped or ran back.
    pub(crate) clock_fault_count: u64,
    /// What was wrong or odd, in words.
    pub(crate) findings: Vec<String>,
}

/// What a destination got.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct LegReport {
    /// The destination's name.
    pub(crate) destination: String,
    /// Where the leg stood last.
    pub(crate) state: String,
    /// Why its last connection ended.
    pub(crate) reason: Option<String>,
    /// What of the stream it did not get.
    pub(crate) note: Option<String>,
    /// When it got its first picture; none if it never did.
    pub(crate) began_at_ms: Option<u64>,
    /// How long it got the show.
    pub(crate) carried_ms: u64,
    /// How long it got nothing though it was to.
    pub(crate) lost_ms: u64,
    /// How often that was.
    pub(crate) gap_count: u32,
    /// The first of those times.
    pub(crate) gaps: Vec<GapReport>,
    /// Pictures sent.
    pub(crate) sent_frame_count: u64,
    /// Payload bytes sent.
    pub(crate) sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub(crate) dropped_frame_count: u64,
    /// How much of the show they were.
    pub(crate) dropped_ms: u64,
    /// How often it was dialed again.
    pub(crate) redial_count: u32,
    /// The delay that it was given.
    pub(crate) delay_ms: u64,
    /// The most that it was behind the source beyond that.
    pub(crate) most_behind_ms: u64,
    /// Limits of its sheet that were not kept, at the end or when the show stopped keeping them.
    pub(crate) breaches: Vec<String>,
}

/// A time in which a destination got nothing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct GapReport {
    /// When it began.
    pub(crate) at_ms: u64,
    /// How long it lasted.
    pub(crate) length_ms: u64,
    /// Why.
    pub(crate) reason: String,
}

/// Something that happened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct EventReport {
    /// When.
    pub(crate) at_ms: u64,
    /// What.
    pub(crate) text: String,
}

fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

impl Show {
    /// The report of the show up to now.
    pub(crate) fn report(&self) -> ShowReport {
        let source = self.source_snapshot();
        let size = source.tracks.first(TrackKind::Video).and_then(|video| video.codec.picture_size());
        let size = size.or(source.announced_size).map(|(width, height)| format!(" {width}x{height}"));
        let counters = source.counters;
        let mut legs: Vec<LegReport> =
            self.legs.lock().values().map(|leg| leg_report(self.began, leg.status.snapshot())).collect();
        legs.sort_by(|a, b| a.destination.cmp(&b.destination));
        let (events, more_event_count) = self.events.all();
        ShowReport {
            length_ms: millis(self.began.elapsed()),
            source: SourceReport {
                stream: format!("{}{}", source.tracks, size.unwrap_or_default()),
                loss_count: source.loss_count,
                unusable_count: counters.damaged_count + counters.unsupported_count + counters.headless_count,
                clock_fault_count: counters.clock_jump_count + counters.backward_count,
                findings: source.findings,
            },
            legs,
            events: events.into_iter().map(|event| EventReport { at_ms: millis(event.at), text: event.text }).collect(),
            more_event_count,
        }
    }
}

fn leg_report(began: Instant, leg: LegSnapshot) -> LegReport {
    let now = Instant::now();
    let since_begin = |at: Instant| millis(at.saturating_duration_since(began));
    let history = leg.leg.history();
    let (gap_count, lost) = history.lost(now);
    let gaps = history.gaps(now).into_iter().map(|gap| GapReport {
        at_ms: since_begin(gap.began),
        length_ms: millis(gap.length),
        reason: gap.reason,
    });
    LegReport {
        began_at_ms: history.first_carried().map(since_begin),
        carried_ms: millis(history.carried(now)),
        lost_ms: millis(lost),
        gap_count,
        gaps: gaps.collect(),
        destination: leg.record.destination_name,
        state: leg.record.state,
        reason: leg.record.reason,
        note: leg.note,
        sent_frame_count: leg.record.sent_frame_count,
        sent_bytes: leg.record.sent_bytes,
        dropped_frame_count: leg.record.dropped_frame_count,
        dropped_ms: leg.record.dropped_ms,
        redial_count: leg.record.redial_count,
        delay_ms: millis(leg.delay),
        most_behind_ms: leg.most_behind_ms,
        breaches: leg.past_breaches,
    }
}
