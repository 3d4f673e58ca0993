//! Checking a take: its structure, and the digest of its bytes.

use std::sync::Arc;

use serde::Serialize;
use sha2::{Digest, Sha256};
use tokio_util::sync::CancellationToken;
use utoipa::ToSchema;
use waverant_container::{FileFormat, FileSurvey, Source, TrackSurvey, survey};

use super::files::hex;
use super::{Job, Library, LibraryError};
use crate::recorder::FileSource;

/// Bytes that are read at once.
const CHUNK: usize = 1024 * 1024;

/// What was found of a take.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TakeCheck {
    /// True if nothing is wrong.
    is_good: bool,
    /// What is wrong, in words.
    findings: Vec<String>,
    /// `MP4` or `Matroska`.
    format: &'static str,
    /// How long it plays.
    duration_ms: i64,
    /// How long its head says that it plays.
    told_duration_ms: Option<i64>,
    /// Whether there is an index for seeking.
    has_index: bool,
    /// Bytes at the end that belong to nothing whole.
    loose_bytes: u64,
    /// Its length in bytes.
    size_bytes: u64,
    /// The tracks in file order.
    tracks: Vec<TrackCheck>,
    /// Moments that were pointed out.
    marks: Vec<CheckedMark>,
    /// The digest of the file.
    sha256: String,
    /// Whether it is that of the records; none if there is none.
    digest_matches: Option<bool>,
}

/// A track of the take.
#[derive(Debug, Serialize, ToSchema)]
struct TrackCheck {
    /// `video` or `audio`.
    kind: &'static str,
    /// Codec.
    codec: &'static str,
    /// As RFC 5646 has it.
    language: Option<String>,
    /// What the publisher called it.
    name: Option<String>,
    /// Whether it is played where nobody chooses.
    is_default: bool,
    /// Pictures or frames of sound.
    sample_count: u64,
    /// Those at which decoding can start.
    sync_count: u64,
    /// Bytes of payload.
    size_bytes: u64,
    /// When the first sample is presented.
    start_ms: i64,
    /// When the last one ends.
    end_ms: i64,
    /// Where something is missing; the first hundred.
    gaps: Vec<CheckedGap>,
    /// How often something is missing.
    gap_count: u64,
    /// Samples whose timestamps go back or lie before the begin.
    timestamp_error_count: u64,
}

/// A time in which a track has nothing.
#[derive(Debug, Serialize, ToSchema)]
struct CheckedGap {
    /// When it begins.
    at_ms: i64,
    /// How long it lasts.
    length_ms: i64,
}

/// A moment of the take.
#[derive(Debug, Serialize, ToSchema)]
struct CheckedMark {
    /// When.
    at_ms: i64,
    /// Why.
    title: String,
}

impl TakeCheck {
    fn new(found: &FileSurvey, size_bytes: u64, digest: [u8; 32], expected: Option<[u8; 32]>) -> Self {
        let digest_matches = expected.map(|expected| expected == digest);
        let mut findings = found.findings();
        if digest_matches == Some(false) {
            findings.push("the file is not the one that was recorded: its SHA-256 is another".to_owned());
        }
        Self {
            is_good: findings.is_empty(),
            findings,
            format: match found.format {
                FileFormat::Mp4 => "MP4",
                FileFormat::Matroska => "Matroska",
            },
            duration_ms: found.duration.millis(),
            told_duration_ms: found.told_duration.map(|told| told.millis()),
            has_index: found.has_index,
            loose_bytes: found.loose_bytes,
            size_bytes,
            tracks: found.tracks.iter().map(TrackCheck::new).collect(),
            marks: found
                .marks
                .iter()
                .map(|mark| CheckedMark { at_ms: mark.at.millis(), title: mark.title.clone() })
                .collect(),
            sha256: hex(&digest),
            digest_matches,
        }
    }
}

impl TrackCheck {
    fn new(found: &TrackSurvey) -> Self {
        let track = &found.file_track.track;
        Self {
            kind: if track.codec.sound().is_some() { "audio" } else { "video" },
            codec: track.codec.name(),
            language: track.language.as_deref().map(str::to_owned),
            name: track.name.as_deref().map(str::to_owned),
            is_default: found.file_track.is_default,
            sample_count: found.sample_count,
            sync_count: found.sync_count,
            size_bytes: found.size_bytes,
            start_ms: found.start.unwrap_or_default().millis(),
            end_ms: found.end.millis(),
            gaps: found
                .gaps
                .iter()
                .map(|gap| CheckedGap { at_ms: gap.at.millis(), length_ms: gap.length.millis() })
                .collect(),
            gap_count: found.gap_count,
            timestamp_error_count: found.backward_count + found.negative_count,
        }
    }
}

/// Reads all of a file. Blocks, until the service stops. `progress` is told how many bytes were read.
pub(super) fn digest(
    source: &FileSource,
    stopping: &CancellationToken,
    mut progress: impl FnMut(u64),
) -> std::io::Result<[u8; 32]> {
    let mut hash = Sha256::new();
    let mut buffer = vec![0; CHUNK];
    let mut at = 0;
    while at < source.len() {
        if stopping.is_cancelled() {
            return Err(std::io::Error::other("the service stops"));
        }
        let length = usize::try_from(source.len() - at).unwrap_or(usize::MAX).min(CHUNK);
        source.read_at(at, &mut buffer[..length])?;
        hash.update(&buffer[..length]);
        at += length as u64;
        progress(at);
    }
    Ok(hash.finalize().into())
}

impl Library {
    /// Checks a take in a job.
    pub(crate) async fn start_check(self: &Arc<Self>, session: u64, number: u32) -> Result<Arc<Job>, LibraryError> {
        let take = self.ended_take(session, number).await?;
        let library = self.clone();
        Ok(self.jobs.start("check", (session, number), move |job| async move {
            let (expected, stopping) = (take.card.sha256, library.stopping.clone());
            let checked = library.with_file(&take, move |source| {
                job.set_total(source.len() * 2);
                let found = survey(&source, &mut |bytes| job.set_done(bytes)).map_err(|error| error.to_string())?;
                let digest = digest(&source, &stopping, |bytes| job.set_done(source.len() + bytes));
                let digest = digest.map_err(|error| error.to_string())?;
                Ok(TakeCheck::new(&found, source.len(), digest, expected))
            });
            let checked = checked.await.map_err(|error| error.told())?;
            serde_json::to_value(checked).map_err(|error| error.to_string())
        }))
    }
}

impl LibraryError {
    /// In words.
    pub(crate) fn told(self) -> String {
        match self {
            Self::Store(error) => error.to_string(),
            Self::NoFile(path) => format!("the file {path} is not there"),
            Self::State(told) | Self::File(told) => told,
        }
    }
}
