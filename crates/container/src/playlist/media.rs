use std::fmt::Write as _;

use time::OffsetDateTime;
use time::format_description::well_known::{Iso8601, iso8601};
use waverant_media::{MediaTime, TICKS_PER_SECOND};

use super::PieceName;

/// The version with delta updates, and the one with headers (EXT-X-MAP) and nothing newer.
///
/// Source: RFC 8216bis, 7
const LOW_LATENCY_VERSION: u8 = 9;
const PLAIN_VERSION: u8 = 6;

/// How many target durations a player must at least stay behind the end, and from the end on segments are never
/// left out of delta updates.
///
/// Source: RFC 8216bis, 4.4.3.8
const HOLD_BACK: u32 = 3;
const SKIP_BOUNDARY: u32 = 6;

/// How many target durations from the end parts are told.
///
/// Source: RFC 8216bis, 6.2.2
const PARTS_TOLD: u32 = 3;

/// Dates with milliseconds.
const DATE: u128 = iso8601::Config::DEFAULT
    .set_time_precision(iso8601::TimePrecision::Second { decimal_digits: std::num::NonZeroU8::new(3) })
    .set_year_is_six_digits(false)
    .encode();

/// A part of a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlaylistPart {
    /// How long it is.
    pub duration: MediaTime,
    /// Whether decoding can begin in it.
    pub independent: bool,
}

/// A segment, whole or still growing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaylistSegment {
    /// Its media sequence number.
    pub number: u64,
    /// How many discontinuities there were up to its begin, over the whole life of the playlist.
    pub discontinuity: u64,
    /// The number of its header.
    pub header: u64,
    /// When its first sample was published.
    pub began: OffsetDateTime,
    /// How long it is; of one that grows, so far.
    pub duration: MediaTime,
    /// Its parts.
    pub parts: Vec<PlaylistPart>,
    /// False while it grows; only the last one may.
    pub is_whole: bool,
}

/// What another playlist of the same stream has come to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RenditionReport {
    /// Where the playlist is, relative to this one.
    pub uri: String,
    /// The media sequence number of its last segment.
    pub last_segment: u64,
    /// The last part of that.
    pub last_part: Option<u32>,
}

/// A media playlist: the segments of one track, as they are at one moment.
///
/// Source: RFC 8216bis, 4.4
#[derive(Clone, Debug)]
pub struct MediaPlaylist<'a> {
    /// No segment is longer, rounded to seconds.
    pub target_duration: u32,
    /// No part is longer; none for a playlist without parts.
    pub part_target: Option<MediaTime>,
    /// The segments by rising number, without a gap.
    pub segments: &'a [PlaylistSegment],
    /// The other tracks.
    pub reports: &'a [RenditionReport],
    /// Whether nothing follows.
    pub is_ended: bool,
    /// Whether it lies where nobody answers for it, as in object storage: then nothing is promised of the server.
    pub is_static: bool,
}

impl MediaPlaylist<'_> {
    /// The playlist as text; `skips` makes it a delta update, which leaves out what is long known.
    pub fn write(&self, skips: bool) -> String {
        let mut out = String::with_capacity(512 + self.segments.len() * 160);
        // Writing into a string cannot fail.
        let _ = self.write_into(&mut out, skips);
        out
    }

    fn write_into(&self, out: &mut String, skips: bool) -> std::fmt::Result {
        let version = if self.part_target.is_some() { LOW_LATENCY_VERSION } else { PLAIN_VERSION };
        let first = self.segments.first();
        writeln!(out, "#EXTM3U\n#EXT-X-VERSION:{version}\n#EXT-X-TARGETDURATION:{}", self.target_duration)?;
        if !self.is_static {
            self.write_control(out)?;
        }
        writeln!(out, "#EXT-X-MEDIA-SEQUENCE:{}", first.map_or(0, |first| first.number))?;
        let mut discontinuity = first.map_or(0, |first| first.discontinuity);
        writeln!(out, "#EXT-X-DISCONTINUITY-SEQUENCE:{discontinuity}")?;
        let skipped = if skips { self.skippable() } else { 0 };
        let mut header = None;
        if let Some(last) = skipped.checked_sub(1).and_then(|last| self.segments.get(last)) {
            writeln!(out, "#EXT-X-SKIP:SKIPPED-SEGMENTS={skipped}")?;
            (header, discontinuity) = (Some(last.header), last.discontinuity);
        }
        let parts_from = self.parts_from();
        // Of one that grows there is nothing to tell but its parts.
        let is_told = |segment: &PlaylistSegment| segment.is_whole || self.part_target.is_some();
        let told = self.segments.iter().enumerate().take_while(|(_, segment)| is_told(segment));
        for (place, segment) in told.skip(skipped) {
            for _ in discontinuity..segment.discontinuity {
                writeln!(out, "#EXT-X-DISCONTINUITY")?;
            }
            discontinuity = segment.discontinuity;
            if header.replace(segment.header) != Some(segment.header) {
                writeln!(out, "#EXT-X-MAP:URI=\"{}\"", PieceName::Header(segment.header))?;
            }
            write_segment(out, segment, self.part_target.is_some() && place >= parts_from)?;
        }
        self.write_end(out)
    }

    /// What the server does for players.
    ///
    /// Source: RFC 8216bis, 4.4.3.7 and 4.4.3.8
    fn write_control(&self, out: &mut String) -> std::fmt::Result {
        let hold_back = self.target_duration * HOLD_BACK;
        write!(out, "#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,HOLD-BACK={hold_back}")?;
        let Some(part_target) = self.part_target else { return writeln!(out) };
        let part_hold_back = MediaTime::from_ticks(part_target.ticks() * i64::from(HOLD_BACK));
        let skip_until = self.target_duration * SKIP_BOUNDARY;
        write!(out, ",PART-HOLD-BACK={},CAN-SKIP-UNTIL={skip_until}", Seconds(part_hold_back))?;
        writeln!(out, "\n#EXT-X-PART-INF:PART-TARGET={}", Seconds(part_target))
    }

    /// What comes next, and what the other tracks have come to.
    fn write_end(&self, out: &mut String) -> std::fmt::Result {
        if self.is_ended {
            return writeln!(out, "#EXT-X-ENDLIST");
        }
        if self.part_target.is_none() {
            return Ok(());
        }
        if let Some(next) = self.next_part() {
            writeln!(out, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"{next}\"")?;
        }
        for report in self.reports {
            write!(out, "#EXT-X-RENDITION-REPORT:URI=\"{}\",LAST-MSN={}", report.uri, report.last_segment)?;
            match report.last_part {
                Some(part) => writeln!(out, ",LAST-PART={part}")?,
                None => writeln!(out)?,
            }
        }
        Ok(())
    }

    fn next_part(&self) -> Option<PieceName> {
        let last = self.segments.last()?;
        Some(match last.is_whole {
            true => PieceName::Part(last.number + 1, 0),
            false => PieceName::Part(last.number, u32::try_from(last.parts.len()).unwrap_or(u32::MAX)),
        })
    }

    /// How many segments a delta update leaves out.
    fn skippable(&self) -> usize {
        if self.part_target.is_none() {
            return 0;
        }
        self.place_before_end(self.target_duration * SKIP_BOUNDARY)
    }

    /// The place of the first segment whose parts are told.
    fn parts_from(&self) -> usize {
        self.place_before_end(self.target_duration * PARTS_TOLD)
    }

    /// How many segments end more than `seconds` before the end of the playlist.
    fn place_before_end(&self, seconds: u32) -> usize {
        let limit = MediaTime::from_ticks(i64::from(seconds) * TICKS_PER_SECOND);
        let mut behind = MediaTime::ZERO;
        for (place, segment) in self.segments.iter().enumerate().rev() {
            if behind > limit {
                return place + 1;
            }
            behind = behind + segment.duration;
        }
        0
    }
}

fn write_segment(out: &mut String, segment: &PlaylistSegment, tells_parts: bool) -> std::fmt::Result {
    let parts = if tells_parts { segment.parts.as_slice() } else { &[] };
    if segment.is_whole || !parts.is_empty() {
        let date = segment.began.to_offset(time::UtcOffset::UTC).format(&Iso8601::<DATE>).unwrap_or_default();
        writeln!(out, "#EXT-X-PROGRAM-DATE-TIME:{date}")?;
    }
    for (place, part) in (0..).zip(parts) {
        let name = PieceName::Part(segment.number, place);
        write!(out, "#EXT-X-PART:DURATION={},URI=\"{name}\"", Seconds(part.duration))?;
        writeln!(out, "{}", if part.independent { ",INDEPENDENT=YES" } else { "" })?;
    }
    if segment.is_whole {
        writeln!(out, "#EXTINF:{},\n{}", Seconds(segment.duration), PieceName::Segment(segment.number))?;
    }
    Ok(())
}

/// Seconds with five digits behind the point, rounded to the nearest.
struct Seconds(MediaTime);

impl std::fmt::Display for Seconds {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let all = self.0.in_timescale(100_000);
        write!(out, "{}.{:05}", all.div_euclid(100_000), all.rem_euclid(100_000))
    }
}
