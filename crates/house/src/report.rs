use std::time::{Duration, Instant};

use waverant_media::Track;
use waverant_model::{
    EventReport, FindingReport, GapReport, LegReport, LegState, ShowReport, SoundReport, SourceReport,
};
use waverant_relay::{LegPhase, SoundFigures};
use waverant_show::ShownFinding;

use crate::words::severity_word;

/// A report as it is kept and answered.
pub fn report_of(report: &waverant_show::ShowReport) -> ShowReport {
    let counters = report.counters;
    let events = report.events.iter().map(|event| EventReport { at_ms: millis(event.at), text: event.text.clone() });
    ShowReport {
        length_ms: millis(report.length),
        source: SourceReport {
            stream: report.stream.clone(),
            loss_count: report.loss_count,
            unusable_count: counters.damaged_count + counters.unsupported_count + counters.headless_count,
            clock_fault_count: counters.clock_jump_count + counters.backward_count,
            findings: Vec::new(),
        },
        sounds: report.sounds.iter().map(sound_report).collect(),
        findings: report.findings.iter().map(|shown| finding_report(report.began, shown)).collect(),
        more_finding_count: report.more_finding_count,
        legs: report.legs.iter().map(leg_report).collect(),
        events: events.collect(),
        more_event_count: report.more_event_count,
    }
}

fn sound_report((track, heard): &(Track, Option<Result<SoundFigures, String>>)) -> SoundReport {
    let figures = heard.as_ref().and_then(|heard| heard.as_ref().ok());
    let name = track.name.as_deref().or(track.language.as_deref());
    SoundReport {
        track: track.id.0,
        codec: track.codec.name().to_owned(),
        name: name.map(str::to_owned),
        loudness: figures.and_then(|heard| heard.integrated),
        range: figures.and_then(|heard| heard.range),
        true_peak: figures.and_then(|heard| heard.true_peak),
        heard_ms: figures.map_or(0, |heard| millis(heard.heard)),
        not_heard: heard.as_ref().and_then(|heard| heard.as_ref().err()).cloned(),
    }
}

fn finding_report(began: Instant, shown: &ShownFinding) -> FindingReport {
    let since_begin = |at: Instant| millis(at.saturating_duration_since(began));
    let finding = &shown.finding;
    FindingReport {
        code: finding.key.code.word().to_owned(),
        severity: severity_word(finding.severity),
        at_ms: since_begin(finding.since),
        until_ms: shown.until.map(since_begin),
        cause: finding.cause.clone(),
        advice: finding.advice.clone(),
        track: finding.key.track.map(|track| track.0),
        destinations: shown.destinations.clone(),
    }
}

fn leg_report(report: &waverant_show::LegReport) -> LegReport {
    let (leg, record) = (&report.leg, &report.leg.record);
    let gaps = report.gaps.iter().map(|gap| GapReport {
        at_ms: millis(gap.at),
        length_ms: millis(gap.length),
        reason: gap.reason.clone(),
    });
    LegReport {
        destination: record.destination_name.clone(),
        state: leg_state(record.state),
        reason: record.reason.clone(),
        note: leg.note.clone(),
        began_at_ms: report.began_at.map(millis),
        carried_ms: millis(report.carried),
        lost_ms: millis(report.lost),
        gap_count: report.gap_count,
        gaps: gaps.collect(),
        sent_frame_count: record.sent_frame_count,
        sent_bytes: record.sent_bytes,
        dropped_frame_count: record.dropped_frame_count,
        dropped_ms: record.dropped_ms,
        redial_count: record.redial_count,
        delay_ms: millis(leg.delay),
        most_behind_ms: leg.most_behind_ms,
        breaches: Vec::new(),
    }
}

/// Where a leg stands, as it is told.
pub fn leg_state(phase: LegPhase) -> LegState {
    match phase {
        LegPhase::Dialing => LegState::Dialing,
        LegPhase::Carrying => LegState::Carrying,
        LegPhase::WaitingToRedial => LegState::WaitingToRedial,
        LegPhase::Refused => LegState::Refused,
        LegPhase::Off => LegState::Off,
    }
}

fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}
