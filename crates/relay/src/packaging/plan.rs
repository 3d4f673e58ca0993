//! What is fixed for as long as a packager runs: playlists may not change it.

use waverant_media::{MediaTime, TICKS_PER_MILLISECOND, TICKS_PER_SECOND, TrackKind};

use super::PackagingRules;
use crate::hub::Entry;

/// Without a second keyframe within this time, segments end between keyframes.
const PATIENCE: MediaTime = MediaTime::from_millis(10_500);

/// Segments without a known spacing of keyframes, and the longest ones there are.
const UNKNOWN_SEGMENT: i64 = 6;
const LONGEST_SEGMENT: i64 = 10;

/// Pictures from which the frame rate is told.
const ENOUGH_PICTURES: usize = 8;

/// Sound alone begins with this much of it.
const ENOUGH_SOUND: MediaTime = MediaTime::from_millis(500);

/// Parts that playlists do not tell.
const UNTOLD_PART: MediaTime = MediaTime::from_millis(1_000);

/// The origin of the pieces' clock is so much before the first packet: sound may come behind pictures.
const BEFORE_FIRST: MediaTime = MediaTime::from_millis(10_000);

/// Times in milliseconds are off by so much.
const ROUNDING: i64 = 2 * TICKS_PER_MILLISECOND;

/// A part is at least so much of the target, in percent, but for the last one of a segment.
///
/// Source: RFC 8216bis, 4.4.3.7
pub(super) const LEAST_PART: i64 = 85;

/// What is decided from the first packets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Plan {
    /// The zero of the pieces' clock.
    pub(super) origin: MediaTime,
    /// In seconds.
    pub(super) target_duration: u32,
    /// The wished length of segments.
    pub(super) segment: MediaTime,
    /// So much earlier than wished a keyframe may end a segment.
    pub(super) early: MediaTime,
    /// The longest part of pictures; of sound, unless its frames do not fit.
    pub(super) part_target: MediaTime,
    /// No segment takes more memory, whatever the timestamps say.
    pub(super) most_bytes: u64,
    /// Whether pictures say where segments end.
    pub(super) has_video: bool,
}

impl Plan {
    /// Decides from the first packets; none while they are too few. After `is_over` no more will come.
    pub(super) fn decide(rules: &PackagingRules, entries: &[Entry], is_over: bool) -> Option<Self> {
        let (first, last) = (entries.first()?, entries.last()?);
        let elapsed = last.packet.dts - first.packet.dts;
        let has_video = first.tracks.has(TrackKind::Video);
        let pictures: Vec<&Entry> = entries.iter().filter(|entry| entry.packet.kind == TrackKind::Video).collect();
        let keyframes: Vec<MediaTime> =
            pictures.iter().filter(|entry| entry.packet.random_access).map(|entry| entry.packet.dts).collect();
        let spacing = keyframes.windows(2).map(|pair| pair[1] - pair[0]).max();
        let is_enough = match has_video {
            true => pictures.len() >= ENOUGH_PICTURES && spacing.is_some() || elapsed >= PATIENCE,
            false => elapsed >= ENOUGH_SOUND,
        };
        if !is_enough && !is_over {
            return None;
        }
        let wish = seconds_up(rules.segment);
        let target = match (has_video, spacing) {
            (true, Some(spacing)) => wish.max(seconds_near(spacing)),
            (true, None) => wish.max(UNKNOWN_SEGMENT),
            (false, _) => wish,
        };
        Some(Self {
            origin: first.packet.dts - BEFORE_FIRST,
            target_duration: u32::try_from(target.clamp(1, LONGEST_SEGMENT)).unwrap_or(1),
            segment: rules.segment,
            early: MediaTime::from_ticks((spacing.unwrap_or(rules.segment).ticks() / 2).min(rules.segment.ticks() / 4)),
            part_target: part_target(rules.part.unwrap_or(UNTOLD_PART), &pictures),
            most_bytes: rules.max_bytes / 4,
            has_video,
        })
    }

    /// The longest segment that, rounded, is no longer than the target.
    pub(super) fn longest_segment(&self) -> MediaTime {
        MediaTime::from_ticks(i64::from(self.target_duration) * TICKS_PER_SECOND + TICKS_PER_SECOND * 49 / 100)
    }

    /// The longest part of sound with frames of `frame`: the pictures' one, if whole frames fill it well enough.
    pub(super) fn part_target_of_sound(&self, frame: MediaTime) -> MediaTime {
        let count = (self.part_target.ticks() / frame.ticks().max(1)).max(1);
        let filled = frame.ticks() * count;
        let fits = filled <= self.part_target.ticks() && filled * 100 >= self.part_target.ticks() * (LEAST_PART + 1);
        if fits { self.part_target } else { up_to_millis(filled + TICKS_PER_MILLISECOND) }
    }
}

/// As many pictures as are nearest to `wish`: then all parts but the last of a segment are filled, as they must be.
fn part_target(wish: MediaTime, pictures: &[&Entry]) -> MediaTime {
    let mut lengths: Vec<i64> =
        pictures.windows(2).map(|pair| (pair[1].packet.dts - pair[0].packet.dts).ticks()).collect();
    lengths.sort_unstable();
    let Some(usual) = lengths.get(lengths.len() / 2).copied().filter(|length| *length > 0) else { return wish };
    // One picture in ten may be late without being the measure.
    let long = lengths.get(lengths.len() * 9 / 10).copied().unwrap_or(usual);
    let is_steady = long - usual <= ROUNDING;
    if is_steady {
        let count = ((wish.ticks() + usual / 2) / usual).max(1);
        return up_to_millis(count * usual + ROUNDING);
    }
    // Any picture must fit between the least and the most.
    let needed = long * 100 / (100 - LEAST_PART);
    up_to_millis(wish.ticks().max(needed).min(TICKS_PER_SECOND))
}

fn up_to_millis(ticks: i64) -> MediaTime {
    MediaTime::from_ticks((ticks + TICKS_PER_MILLISECOND - 1) / TICKS_PER_MILLISECOND * TICKS_PER_MILLISECOND)
}

fn seconds_up(time: MediaTime) -> i64 {
    (time.ticks() + TICKS_PER_SECOND - 1) / TICKS_PER_SECOND
}

/// Rounded as the length of a segment is.
fn seconds_near(time: MediaTime) -> i64 {
    (time.ticks() + TICKS_PER_SECOND / 2) / TICKS_PER_SECOND
}
