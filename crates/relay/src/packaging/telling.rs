//! Playlists and manifests of what there is.

use time::OffsetDateTime;
use waverant_container::{
    Manifest, ManifestPeriod, ManifestSegment, ManifestTrack, MediaPlaylist, MultivariantPlaylist, PieceName,
    PlaylistPart, PlaylistSegment, Rendition, RenditionReport, VariantFacts,
};
use waverant_media::{MediaTime, TICKS_PER_SECOND, TrackId, TrackKind};

use super::Packager;
use super::packager::Periods;
use super::segment::Segment;
use super::shelf::Found;
use super::track::TrackPackager;

/// What is added to the peak that was seen: the next segment may be a little larger.
const PEAK_HEADROOM: f64 = 1.2;

/// How far a track has come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Position {
    /// The number of its newest segment, whole or growing; none before the first.
    pub segment: Option<u64>,
    /// How many parts of that there are.
    pub part_count: u32,
    /// Whether it is whole.
    pub is_whole: bool,
}

impl Position {
    /// True if segment `number` can be read, or its part `part`.
    pub fn has(&self, number: u64, part: Option<u32>) -> bool {
        let Some(segment) = self.segment else { return false };
        match part {
            _ if number < segment => true,
            _ if number > segment => false,
            None => self.is_whole,
            Some(part) => self.is_whole || part < self.part_count,
        }
    }
}

impl Packager {
    /// The playlist that players are given; `folder` is where the tracks' playlists are, relative to it, with the
    /// slash at the end. None while there is nothing to play.
    pub fn multivariant(&self, folder: &str) -> Option<String> {
        self.has_begun().then_some(())?;
        let going_on = || self.tracks.values().filter(|track| !track.has_ended || self.has_ended);
        let renditions: Vec<Rendition<'_>> = going_on()
            .map(|track| Rendition { track: &track.track, uri: format!("{folder}{}/index.m3u8", track.track.id.0) })
            .collect();
        let sum = |of: fn(&TrackPackager) -> f64| {
            let of_kind = |kind| going_on().filter(move |track| track.kind() == kind).map(of).fold(0.0, f64::max);
            of_kind(TrackKind::Video) + of_kind(TrackKind::Audio)
        };
        let picture = going_on().find(|track| track.kind() == TrackKind::Video);
        let facts = VariantFacts {
            peak_bps: whole(sum(|track| track.rate.peak.max(track.growing_rate())) * PEAK_HEADROOM),
            average_bps: whole(sum(|track| match track.rate.average() {
                0.0 => track.growing_rate(),
                average => average,
            })),
            frame_rate: picture.and_then(|picture| self.frame_rate.or(picture.track.codec.frame_rate())),
            picture_size: picture.and_then(|picture| picture.picture_size),
        };
        Some(MultivariantPlaylist { renditions: &renditions, facts }.write())
    }

    /// The playlist of a track, whole or as a delta update. None while there is nothing in it, or without such a
    /// track.
    pub fn playlist(&self, id: TrackId, skips: bool) -> Option<String> {
        let (plan, track) = (self.plan?, self.tracks.get(&id)?);
        let segments: Vec<PlaylistSegment> =
            track.told().map(|segment| self.playlist_segment(track, segment)).collect();
        if segments.is_empty() {
            return None;
        }
        let others = self.tracks.values().filter(|other| other.track.id != id && !other.has_ended);
        let reports: Vec<RenditionReport> = others.filter_map(report).collect();
        let playlist = MediaPlaylist {
            target_duration: plan.target_duration,
            part_target: self.rules.part.map(|_| track.part_target()),
            segments: &segments,
            reports: &reports,
            is_ended: track.has_ended,
            is_static: false,
        };
        Some(playlist.write(skips))
    }

    pub(super) fn playlist_segment(&self, track: &TrackPackager, segment: &Segment) -> PlaylistSegment {
        let parts = segment
            .parts
            .iter()
            .map(|part| PlaylistPart { duration: part.length(segment.timescale), independent: part.independent });
        PlaylistSegment {
            number: segment.number,
            discontinuity: segment.period,
            header: segment.header,
            began: self.clock.date_of(self.moment(segment.start_time())),
            duration: segment.length(),
            parts: parts.collect(),
            is_whole: track.shelf.open().is_none_or(|open| open.number != segment.number),
        }
    }

    /// A moment of the pieces' clock on the packets' timeline.
    fn moment(&self, at: MediaTime) -> MediaTime {
        at + self.plan.map_or_else(Default::default, |plan| plan.origin)
    }

    /// How far a track has come; none without such a track.
    pub fn position(&self, id: TrackId) -> Option<Position> {
        let track = self.tracks.get(&id)?;
        let newest = track.shelf.told.back();
        Some(Position {
            segment: newest.map(|segment| segment.number),
            part_count: newest.map_or(0, |segment| u32::try_from(segment.parts.len()).unwrap_or(u32::MAX)),
            is_whole: track.shelf.open().is_none(),
        })
    }

    /// What there is under a name of a track.
    pub fn find(&self, id: TrackId, name: PieceName) -> Found {
        let found = |track: &TrackPackager| track.shelf.find(name, track.next_number, track.has_ended);
        self.tracks.get(&id).map_or(Found::Absent, found)
    }

    /// The manifest of DASH; `folder` is where the tracks' folders are, relative to it, with the slash at the end.
    /// None while no segment is whole.
    pub fn manifest(&self, folder: &str, now: OffsetDateTime) -> Option<String> {
        let plan = self.plan?;
        let periods: Vec<ManifestPeriod<'_>> = self.periods.told(self.tracks.values(), folder);
        if periods.is_empty() {
            return None;
        }
        let ends = self.tracks.values().filter_map(|track| track.shelf.whole().next_back());
        let end = ends.map(|segment| segment.end_time()).max().filter(|_| self.has_ended);
        let manifest = Manifest {
            clock_zero: self.clock.date_of(plan.origin),
            now,
            target_duration: plan.target_duration,
            window: u32::try_from(self.rules.window.ticks() / TICKS_PER_SECOND).unwrap_or(0),
            periods,
            ended_at_ms: end.map(|end| u64::try_from(end.millis()).unwrap_or(0)),
        };
        Some(manifest.write())
    }
}

impl TrackPackager {
    fn told(&self) -> impl Iterator<Item = &Segment> {
        self.shelf.told.iter()
    }

    /// The bitrate of the segment that grows, as long as no other is known.
    fn growing_rate(&self) -> f64 {
        let Some(open) = self.shelf.open() else { return 0.0 };
        let seconds = open.length().to_duration().as_secs_f64();
        // Exact up to 2^53.
        #[expect(clippy::cast_precision_loss)]
        let bits = open.size_bytes() as f64 * 8.0;
        if self.rate.peak == 0.0 && seconds > 0.0 { bits / seconds } else { 0.0 }
    }
}

fn report(track: &TrackPackager) -> Option<RenditionReport> {
    let newest = track.shelf.told.back()?;
    let last_part = u32::try_from(newest.parts.len()).ok()?.checked_sub(1);
    let uri = format!("../{}/index.m3u8", track.track.id.0);
    Some(RenditionReport { uri, last_segment: newest.number, last_part })
}

impl Periods {
    fn told<'a>(&self, tracks: impl Iterator<Item = &'a TrackPackager>, folder: &str) -> Vec<ManifestPeriod<'a>> {
        let tracks: Vec<&TrackPackager> = tracks.collect();
        let periods = self.began.iter().map(|(number, began)| ManifestPeriod {
            number: *number,
            start_ms: u64::try_from(began.millis()).unwrap_or(0),
            tracks: tracks.iter().filter_map(|track| manifest_track(track, *number, folder)).collect(),
        });
        periods.filter(|period| !period.tracks.is_empty()).collect()
    }
}

/// What a manifest says of a track in a period; none if it has no whole segment there.
fn manifest_track<'a>(track: &'a TrackPackager, period: u64, folder: &str) -> Option<ManifestTrack<'a>> {
    let segments: Vec<&Segment> = track.shelf.whole().filter(|segment| segment.period == period).collect();
    let first = segments.first()?;
    Some(ManifestTrack {
        track: &track.track,
        folder: format!("{folder}{}/", track.track.id.0),
        header: first.header,
        timescale: first.timescale,
        peak_bps: whole(track.rate.peak * PEAK_HEADROOM),
        picture_size: track.picture_size,
        starts_clean: segments.iter().all(|segment| segment.starts_clean()),
        first_segment: first.number,
        segments: segments
            .iter()
            .map(|segment| ManifestSegment { start: segment.start(), duration: segment.end() - segment.start() })
            .collect(),
    })
}

fn whole(rate: f64) -> u64 {
    // Negative rates and those beyond 2^53 do not occur.
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let whole = rate.max(0.0).ceil() as u64;
    whole
}
