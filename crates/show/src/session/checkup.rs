//! The checkup of a show: once a second its rules see the figures, and what lasts is a finding.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use waverant_media::{Track, TrackId, TrackKind, Tracks};
use waverant_relay::{
    Breach, Checkup, Condition, Finding, FindingChange, FindingCode, Growth, IntakeFacts, LegFacts, LegOrder, LegPhase,
    OnBreach, Remedy, SessionState, ShowNews, SinkRules, StreamFacts, judge_leg, judge_line, judge_picture,
    judge_sound, judge_stream,
};

use super::{Show, SourceSnapshot};
use crate::clock;
use crate::leg::{LegHandle, LegSnapshot};
use crate::recorder::RecorderState;
use crate::senses::Sensed;

/// Faults of a clock, and pictures that a destination missed, are told for so long.
const RECENT: Duration = Duration::from_secs(60);

/// While nothing comes, what was heard and seen is of the past.
pub(super) const HEARD_WITHIN: Duration = Duration::from_secs(1);

/// Redials are counted for so long.
const REDIALS_WITHIN: Duration = Duration::from_secs(300);

/// A finding of a show, with what it means for the show.
#[derive(Clone, Debug)]
pub struct ShownFinding {
    /// The finding.
    pub finding: Finding,
    /// When it ended; none while it stands.
    pub until: Option<Instant>,
    /// Destinations that suffer from it, by name.
    pub destinations: Vec<String>,
    /// True if it is known, and is not to be told for the rest of the show.
    pub is_muted: bool,
}

/// What is judged of a show, and what of it is not to be told.
#[derive(Debug)]
pub(super) struct CheckupDesk(Mutex<Desk>);

#[derive(Debug)]
struct Desk {
    checkup: Checkup,
    muted: Vec<FindingCode>,
    clock_jumps: Growth,
    clock_backs: Growth,
    take_gaps: Growth,
    /// By destination number.
    legs: BTreeMap<u64, LegCounts>,
    /// What each destination is sent, by name.
    sent: BTreeMap<String, Vec<TrackId>>,
    /// What is wrong where the show is told from a depot, in words.
    publishing_fault: Option<String>,
}

/// What is counted of a leg.
#[derive(Debug)]
struct LegCounts {
    redials: Growth,
    dropped: Growth,
}

impl Default for LegCounts {
    fn default() -> Self {
        Self { redials: Growth::within(REDIALS_WITHIN), dropped: Growth::within(RECENT) }
    }
}

impl Default for CheckupDesk {
    fn default() -> Self {
        let recent = || Growth::within(RECENT);
        Self(Mutex::new(Desk {
            checkup: Checkup::default(),
            muted: Vec::new(),
            clock_jumps: recent(),
            clock_backs: recent(),
            take_gaps: recent(),
            legs: BTreeMap::new(),
            sent: BTreeMap::new(),
            publishing_fault: None,
        }))
    }
}

impl Desk {
    fn shown(&self, finding: &Finding, until: Option<Instant>) -> ShownFinding {
        let gets = |tracks: &[TrackId]| finding.key.track.is_none_or(|track| tracks.contains(&track));
        let destinations = match &finding.key.destination {
            Some(destination) => vec![destination.clone()],
            None if !finding.key.code.reaches_destinations() => Vec::new(),
            None => self.sent.iter().filter(|(_, tracks)| gets(tracks)).map(|(name, _)| name.clone()).collect(),
        };
        let is_muted = self.muted.contains(&finding.key.code);
        ShownFinding { finding: finding.clone(), until, destinations, is_muted }
    }

    fn judge_source(
        &mut self,
        now: Instant,
        source: &SourceSnapshot,
        (sensed, loudness): (&Sensed, Option<i8>),
    ) -> Vec<Condition> {
        let counters = source.counters;
        let intake = IntakeFacts {
            problem: source.problem.as_deref(),
            is_damage: source.is_damage,
            clock_jumps: self.clock_jumps.record(now, counters.clock_jump_count),
            clock_backs: self.clock_backs.record(now, counters.backward_count),
        };
        if source.state != SessionState::OnAir {
            return Vec::new();
        }
        let mut found = judge_stream(&source.figures, &source.tracks, &intake);
        if source.figures.idle.is_some_and(|idle| idle < HEARD_WITHIN) {
            found.extend(senses(&source.tracks, sensed, loudness));
        }
        let on_line = source.line_fault.as_ref().map(|fault| {
            let remedy = fault.latency.map(Remedy::ChannelLatency);
            judge_line(fault).with_remedy(remedy)
        });
        found.extend(on_line);
        let (odd, unfit) = (source.publisher.finding.as_ref(), &source.slate_findings);
        let about = |code: FindingCode, cause: &str| {
            let (cause, advice) = cause.split_once("; ").unwrap_or((cause, code.about().advice));
            Condition::new(code, cause, advice)
        };
        found.extend(odd.map(|cause| about(FindingCode::AddressOdd, cause)));
        if !unfit.is_empty() {
            let advice = FindingCode::SlateUnfit.about().advice;
            found.push(Condition::new(FindingCode::SlateUnfit, unfit.join("; "), advice));
        }
        found
    }

    fn judge_leg(
        &mut self,
        now: Instant,
        id: u64,
        leg: &LegSnapshot,
        (breaches, fitting_track): (&[Breach], Option<TrackId>),
        held: OnBreach,
    ) -> Vec<Condition> {
        let record = &leg.record;
        let counts = self.legs.entry(id).or_default();
        let redials = counts.redials.record(now, record.redial_count.into());
        let dropped = counts.dropped.record(now, record.dropped_frame_count);
        // What it missed while it was not connected is told as that.
        let is_settled = record.state == LegPhase::Carrying && now.saturating_duration_since(leg.leg.since()) > RECENT;
        judge_leg(&LegFacts {
            destination: &record.destination_name,
            phase: record.state,
            reason: record.reason.as_deref(),
            redials,
            behind: Duration::from_millis(leg.lag_ms),
            dropped: if is_settled { dropped } else { 0 },
            breaches,
            is_held_back: held == OnBreach::DoNotSend,
            fitting_track,
            line: leg.line.as_ref().and_then(|line| line.fault.as_ref()),
        })
    }

    fn judge_records(&mut self, now: Instant, recorder: &RecorderState, gaps: u64) -> Vec<Condition> {
        let mut found = Vec::new();
        if let RecorderState::Stopped(reason) = recorder {
            let advice = FindingCode::RecordingStopped.about().advice;
            found.push(Condition::new(FindingCode::RecordingStopped, format!("nothing is recorded: {reason}"), advice));
        }
        let gaps = self.take_gaps.record(now, gaps);
        if gaps > 0 {
            let cause = format!("the disk was too slow {gaps} times in the last minute: parts of the take are missing");
            let advice = FindingCode::RecordingGaps.about().advice;
            found.push(Condition::new(FindingCode::RecordingGaps, cause, advice));
        }
        if let Some(fault) = &self.publishing_fault {
            let advice = FindingCode::PublishingFails.about().advice;
            found.push(Condition::new(FindingCode::PublishingFails, fault, advice));
        }
        found
    }
}

/// What is heard and seen of the tracks that there are.
fn senses(tracks: &Tracks, sensed: &Sensed, loudness: Option<i8>) -> Vec<Condition> {
    let target = loudness.map(f64::from);
    let heard = tracks.iter().filter_map(|track| Some((track, sensed.sounds.get(&track.id)?.as_ref().ok()?)));
    let sounds = heard.flat_map(|(track, heard)| judge_sound(track, tracks, heard, target));
    let seen = sensed.picture.as_ref().and_then(|seen| judge_picture(seen.as_ref().ok()?));
    sounds.chain(seen).collect()
}

/// What of a destination's sheet the stream does not keep.
fn breaches(source: &SourceSnapshot, order: &LegOrder, meant: &Tracks) -> Vec<Breach> {
    // What is told of pictures is of the first track.
    let is_first = meant.first(TrackKind::Video).is_none_or(|video| video.id == TrackId::VIDEO);
    let rate = |track: &Track| source.figures.track(track.id).map_or(0.0, |figures| figures.rate_10s_bps);
    let facts = StreamFacts {
        is_secure: order.destination.is_secure(),
        tracks: (!meant.is_empty()).then_some(meant),
        bitrate_bps: meant.iter().map(rate).sum(),
        frame_rate: if is_first { source.frame_rate } else { 0.0 },
        keyframe_spacing: source.keyframe_spacing().filter(|_| is_first),
        has_open_groups: is_first && source.figures.groups.is_open,
    };
    order.limits.check(&facts)
}

/// A track of pictures that would keep what of the sheet is not kept, if it went alone.
fn fitting_track(source: &SourceSnapshot, order: &LegOrder, found: &[Breach]) -> Option<TrackId> {
    if found.is_empty() {
        return None;
    }
    let pictures = source.tracks.iter().filter(|track| track.codec.kind() == TrackKind::Video);
    let fits = |number: u8| {
        let rules = SinkRules { video_track: Some(number), ..order.sink.clone() };
        let left = breaches(source, order, &rules.meant(&source.tracks));
        left.len() < found.len() && left.iter().all(|left| found.iter().any(|breach| breach.limit == left.limit))
    };
    let others = pictures.filter(|track| order.sink.video_track != Some(track.id.place() + 1));
    others.map(|track| track.id).find(|id| id.place() > 0 && fits(id.place() + 1))
}

impl Show {
    /// Judges the show; to be called once a second. Holds legs back that are not to be sent what their destination
    /// does not accept.
    pub(super) fn check_up(&self, source: &SourceSnapshot) {
        let now = clock::now();
        let (recorder, gaps) = (self.recorder.state().0, self.takes.all());
        let gaps = gaps.iter().map(|take| u64::from(take.gap_count)).sum();
        let legs = self.legs.lock();
        let mut desk = self.checkup.0.lock();
        let mut conditions = desk.judge_source(now, source, (&self.sensed(), self.rules().loudness));
        desk.sent.clear();
        for (id, leg) in legs.iter() {
            leg.status.note_second(now);
            let order = leg.orders.borrow().clone();
            let meant = order.sink.meant(&source.tracks);
            let found = breaches(source, &order, &meant);
            if order.is_on {
                let tracks = meant.iter().map(|track| track.id).collect();
                desk.sent.insert(order.destination.name.clone(), tracks);
            }
            let fitting = fitting_track(source, &order, &found);
            let judged = desk.judge_leg(now, *id, &leg.status.snapshot(), (&found, fitting), order.limits.on_breach);
            conditions.extend(judged);
        }
        conditions.extend(desk.judge_records(now, &recorder, gaps));
        for change in desk.checkup.update(now, conditions) {
            self.log(&change);
            if !desk.muted.contains(&change.key().code) {
                self.context.ledger.tell(self.id(), ShowNews::Finding(change));
            }
        }
        let standing = desk.checkup.standing();
        drop(desk);
        legs.values().for_each(|leg| hold_back(leg, &standing));
    }

    fn log(&self, change: &FindingChange) {
        let (finding, is_raised) = match change {
            FindingChange::Raised(finding) => (finding, true),
            FindingChange::Cleared(past) => (&past.finding, false),
        };
        let (session, channel, code) = (self.id(), &self.channel.name, finding.key.code.word());
        let destination = finding.key.destination.as_deref();
        match is_raised {
            true => tracing::info!(session, %channel, code, destination, cause = finding.cause, "a finding"),
            false => tracing::info!(session, %channel, code, destination, "a finding is over"),
        }
    }

    /// What is wrong or odd now: the worst first.
    pub fn findings(&self) -> Vec<ShownFinding> {
        let desk = self.checkup.0.lock();
        desk.checkup.standing().iter().map(|finding| desk.shown(finding, None)).collect()
    }

    /// What was wrong or odd in this show, in the order in which it ended, what stands last; and how much more there was.
    pub fn all_findings(&self) -> (Vec<ShownFinding>, u64) {
        let desk = self.checkup.0.lock();
        let (past, more) = desk.checkup.past();
        let past = past.map(|past| desk.shown(&past.finding, Some(past.until)));
        let standing = desk.checkup.standing();
        (past.chain(standing.iter().map(|finding| desk.shown(finding, None))).collect(), more)
    }

    /// Says whether findings of this code are known, and not to be told for the rest of the show.
    pub fn mute(&self, code: FindingCode, is_muted: bool) {
        let muted = &mut self.checkup.0.lock().muted;
        muted.retain(|known| *known != code);
        if is_muted {
            muted.push(code);
        }
    }

    /// Says what is wrong where the show is told from a depot.
    pub fn set_publishing_fault(&self, fault: Option<String>) {
        self.checkup.0.lock().publishing_fault = fault;
    }
}

/// Holds a leg back as long as its destination would not accept the stream, if that is its rule.
fn hold_back(leg: &LegHandle, standing: &[Finding]) {
    leg.orders.send_if_modified(|order: &mut LegOrder| {
        let is_of = |finding: &&Finding| {
            finding.key.code.is_limit() && finding.key.destination.as_deref() == Some(&order.destination.name)
        };
        let reasons: Vec<String> = standing
            .iter()
            .filter(|_| order.limits.on_breach == OnBreach::DoNotSend)
            .filter(is_of)
            .map(|finding| format!("{}: {}", finding.cause, finding.advice))
            .collect();
        let held_back = (!reasons.is_empty()).then(|| reasons.join("; "));
        let changed = order.held_back != held_back;
        order.held_back = held_back;
        changed
    });
}
