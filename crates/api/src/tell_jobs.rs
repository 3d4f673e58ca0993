//! How jobs and what they found are told to callers.

use waverant_container::{FileFormat, TrackSurvey};
use waverant_library::{CheckedTake, JobKind, JobOutcome, JobState, JobView};
use waverant_model as model;

use crate::tell::hex;

pub(crate) fn job(job: JobView) -> model::JobReport {
    let (state, error, result) = match job.state {
        JobState::Waiting => (model::JobState::Waiting, None, None),
        JobState::Running => (model::JobState::Running, None, None),
        JobState::Done(outcome) => (model::JobState::Done, None, Some(result(&outcome))),
        JobState::Failed(error) => (model::JobState::Failed, Some(error), None),
    };
    model::JobReport {
        id: job.id,
        kind: match job.kind {
            JobKind::Check => model::JobKind::Check,
            JobKind::Cut => model::JobKind::Cut,
            JobKind::Restore => model::JobKind::Restore,
        },
        session: job.session,
        take: job.take,
        began_at: job.began_at,
        state,
        progress: job.progress,
        error,
        result,
    }
}

fn result(outcome: &JobOutcome) -> model::JobResult {
    match outcome {
        JobOutcome::Checked(checked) => model::JobResult::Check(Box::new(check(checked))),
        JobOutcome::Made(made) => model::JobResult::Made(model::MadeTake {
            session: made.session,
            take: made.take,
            duration_ms: made.duration_ms,
            size_bytes: made.size_bytes,
        }),
    }
}

fn check(checked: &CheckedTake) -> model::TakeCheck {
    let (found, findings) = (&checked.survey, checked.findings());
    let marks =
        found.marks.iter().map(|mark| model::CheckedMark { at_ms: mark.at.millis(), title: mark.title.clone() });
    model::TakeCheck {
        is_good: findings.is_empty(),
        findings,
        format: match found.format {
            FileFormat::Mp4 => model::FileForm::Mp4,
            FileFormat::Matroska => model::FileForm::Matroska,
        },
        duration_ms: found.duration.millis(),
        told_duration_ms: found.told_duration.map(|told| told.millis()),
        has_index: found.has_index,
        loose_bytes: found.loose_bytes,
        size_bytes: checked.size_bytes,
        tracks: found.tracks.iter().map(track).collect(),
        marks: marks.collect(),
        sha256: hex(&checked.sha256),
        digest_matches: checked.digest_matches(),
    }
}

fn track(found: &TrackSurvey) -> model::TrackCheck {
    let track = &found.file_track.track;
    let gaps = found.gaps.iter();
    let gaps = gaps.map(|gap| model::CheckedGap { at_ms: gap.at.millis(), length_ms: gap.length.millis() });
    model::TrackCheck {
        kind: if track.codec.sound().is_some() { model::TrackKind::Audio } else { model::TrackKind::Video },
        codec: track.codec.name().to_owned(),
        language: track.language.as_deref().map(str::to_owned),
        name: track.name.as_deref().map(str::to_owned),
        is_default: found.file_track.is_default,
        sample_count: found.sample_count,
        sync_count: found.sync_count,
        size_bytes: found.size_bytes,
        start_ms: found.start.unwrap_or_default().millis(),
        end_ms: found.end.millis(),
        gaps: gaps.collect(),
        gap_count: found.gap_count,
        timestamp_error_count: found.backward_count + found.negative_count,
    }
}
