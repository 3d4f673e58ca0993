//! What a file holds, and what is wrong with it, without looking at its payloads.

use waverant_media::{MediaTime, TrackKind};

use super::FileReader;
use crate::parts::{FileError, FileFormat, FileMark, FileTrack, SampleRef};
use crate::source::Source;

/// Where nothing follows for longer than this, something is missing.
const PICTURE_GAP: MediaTime = MediaTime::from_millis(1_000);
const SOUND_GAP: MediaTime = MediaTime::from_millis(200);

/// Tracks that end further apart than this do not belong together to the end.
const END_TOLERANCE: MediaTime = MediaTime::from_millis(1_000);

/// Gaps that are kept; the others are counted.
const MAX_GAPS: usize = 100;

/// A time in which a track has nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TrackGap {
    /// When it begins.
    pub at: MediaTime,
    /// How long it lasts.
    pub length: MediaTime,
}

/// What was found of a track.
#[derive(Clone, Debug)]
pub struct TrackSurvey {
    /// The track.
    pub file_track: FileTrack,
    /// Pictures or frames of sound.
    pub sample_count: u64,
    /// Those at which decoding can start.
    pub sync_count: u64,
    /// Bytes of payload.
    pub size_bytes: u64,
    /// When the first sample is presented.
    pub start: Option<MediaTime>,
    /// When the last sample to be presented ends.
    pub end: MediaTime,
    /// Where something is missing.
    pub gaps: Vec<TrackGap>,
    /// How often that is.
    pub gap_count: u64,
    /// Samples that are decoded before the one that they follow.
    pub backward_count: u64,
    /// Samples that are presented before the file begins.
    pub negative_count: u64,
    last: Option<SampleRef>,
}

/// What was found of a file.
#[derive(Clone, Debug)]
pub struct FileSurvey {
    /// The container.
    pub format: FileFormat,
    /// The tracks in file order.
    pub tracks: Vec<TrackSurvey>,
    /// Moments that were pointed out.
    pub marks: Vec<FileMark>,
    /// Where the last sample ends.
    pub duration: MediaTime,
    /// What the head says of that.
    pub told_duration: Option<MediaTime>,
    /// Whether there is an index for seeking.
    pub has_index: bool,
    /// Bytes at the end that belong to nothing whole.
    pub loose_bytes: u64,
}

impl TrackSurvey {
    fn new(file_track: &FileTrack) -> Self {
        Self {
            file_track: file_track.clone(),
            sample_count: 0,
            sync_count: 0,
            size_bytes: 0,
            start: None,
            end: MediaTime::ZERO,
            gaps: Vec::new(),
            gap_count: 0,
            backward_count: 0,
            negative_count: 0,
            last: None,
        }
    }

    fn add(&mut self, sample: &SampleRef) {
        self.sample_count += 1;
        self.sync_count += u64::from(sample.sync);
        self.size_bytes += u64::from(sample.size);
        self.start = Some(self.start.map_or(sample.pts, |start| start.min(sample.pts)));
        self.end = self.end.max(sample.pts + sample.duration);
        self.negative_count += u64::from(sample.pts < MediaTime::ZERO);
        if let Some(last) = self.last.replace(*sample) {
            self.backward_count += u64::from(sample.dts < last.dts);
            let most = match self.file_track.track.codec.kind() {
                TrackKind::Video => PICTURE_GAP,
                TrackKind::Audio => SOUND_GAP,
            };
            let length = sample.dts - last.dts;
            if length > most {
                self.gap_count += 1;
                if self.gaps.len() < MAX_GAPS {
                    self.gaps.push(TrackGap { at: last.dts, length });
                }
            }
        }
    }
}

impl FileSurvey {
    /// What is wrong, in words; nothing if all is well. Marks tell why something is missing, so
    /// they are no reason to leave a gap out.
    pub fn findings(&self) -> Vec<String> {
        let mut found = Vec::new();
        if self.loose_bytes > 0 {
            found.push(format!("the last {} bytes are an unfinished piece", self.loose_bytes));
        }
        if !self.has_index {
            found.push("there is no index for seeking".to_owned());
        }
        if self.told_duration.is_none() {
            found.push("the head does not tell how long it plays".to_owned());
        }
        for (number, track) in (1..).zip(&self.tracks) {
            let name = format!("track {number} ({})", track.file_track.track.codec.name());
            if track.sample_count == 0 {
                found.push(format!("{name} is empty"));
                continue;
            }
            if track.sync_count == 0 {
                found.push(format!("{name} has no keyframe"));
            }
            if let Some(gap) = track.gaps.first() {
                let more = track.gap_count - 1;
                let more = if more > 0 { format!(", and {more} more") } else { String::new() };
                found.push(format!("{name} has nothing for {} from {} on{more}", gap.length, gap.at));
            }
            if track.backward_count > 0 {
                found.push(format!("{name}: timestamps go back {} times", track.backward_count));
            }
            if track.negative_count > 0 {
                found.push(format!("{name}: {} samples lie before the begin", track.negative_count));
            }
            if self.duration - track.end > END_TOLERANCE {
                found.push(format!("{name} ends at {}, and the file at {}", track.end, self.duration));
            }
        }
        found
    }
}

/// Looks through a file. `progress` is told how many bytes were looked at.
///
/// # Errors
/// [`FileError`] if it cannot be read.
pub fn survey(source: &impl Source, progress: &mut dyn FnMut(u64)) -> Result<FileSurvey, FileError> {
    let mut reader = FileReader::open(source)?;
    let mut tracks: Vec<TrackSurvey> = reader.tracks().iter().map(TrackSurvey::new).collect();
    while let Some(group) = reader.next_group()? {
        for sample in &group {
            if let Some(track) = tracks.get_mut(sample.track) {
                track.add(sample);
            }
        }
        progress(reader.whole_end());
    }
    // A plain file's payload is its end.
    let is_plain = reader.whole_end() == 0;
    Ok(FileSurvey {
        format: reader.format(),
        duration: tracks.iter().map(|track| track.end).max().unwrap_or_default(),
        tracks,
        marks: reader.marks().to_vec(),
        told_duration: reader.told_duration(),
        has_index: reader.has_index(),
        loose_bytes: if is_plain { 0 } else { source.len() - reader.whole_end() },
    })
}
