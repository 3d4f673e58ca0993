use waverant_container::{CmafSample, CmafTimeline, write_cmaf_header};
use waverant_media::{MediaTime, Packet, Track, TrackKind};

use super::plan::{LEAST_PART, Plan};
use super::segment::{OpenPart, Segment, in_time, span};
use super::shelf::Shelf;

/// Players play over a hole that is smaller.
const SMALL_HOLE: MediaTime = MediaTime::from_millis(100);

/// Samples of a part at most: timestamps that stand still do not make it endless.
const MAX_SAMPLES: usize = 512;

/// One track on its way into segments.
#[derive(Debug)]
pub(super) struct TrackPackager {
    pub(super) track: Track,
    pub(super) timeline: CmafTimeline,
    pub(super) shelf: Shelf,
    pub(super) picture_size: Option<(u32, u32)>,
    /// The longest part, in ticks.
    part_target: u64,
    longest_segment: MediaTime,
    most_bytes: u64,
    /// The time of its newest packet in this period.
    pub(super) newest: Option<MediaTime>,
    /// A picture whose length the next one tells.
    held: Option<CmafSample>,
    part: OpenPart,
    /// Pieces written so far.
    sequence: u32,
    pub(super) next_number: u64,
    header: Option<u64>,
    /// The period of what is being collected.
    period: u64,
    /// Where the segment is to end, if another track says so.
    cut_at: Option<MediaTime>,
    /// Bits and length of all segments so far, and the largest rate of one.
    pub(super) rate: SegmentRate,
    pub(super) has_ended: bool,
}

/// Bitrates of segments, headers counted.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct SegmentRate {
    bits: f64,
    seconds: f64,
    /// In bits per second.
    pub(super) peak: f64,
}

impl SegmentRate {
    /// In bits per second; zero before the first segment.
    pub(super) fn average(&self) -> f64 {
        if self.seconds > 0.0 { self.bits / self.seconds } else { 0.0 }
    }

    fn count(&mut self, bytes: u64, length: MediaTime) {
        let seconds = length.to_duration().as_secs_f64();
        if seconds > 0.0 {
            // Exact up to 2^53.
            #[expect(clippy::cast_precision_loss)]
            let bits = bytes as f64 * 8.0;
            self.bits += bits;
            self.seconds += seconds;
            self.peak = self.peak.max(bits / seconds);
        }
    }
}

/// What a sample led to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Outcome {
    /// There is a new part.
    pub(super) has_part: bool,
    /// A segment began, by this track's own judgement, at this moment of the packets' timeline.
    pub(super) began_segment: Option<MediaTime>,
}

impl TrackPackager {
    pub(super) fn new(track: &Track, plan: &Plan, period: u64) -> Self {
        let timeline = CmafTimeline::new(track, plan.origin);
        Self {
            part_target: part_target(plan, &timeline),
            longest_segment: plan.longest_segment(),
            most_bytes: plan.most_bytes,
            track: track.clone(),
            timeline,
            shelf: Shelf::default(),
            picture_size: track.codec.picture_size(),
            newest: None,
            held: None,
            part: OpenPart::default(),
            sequence: 0,
            next_number: 0,
            header: None,
            period,
            cut_at: None,
            rate: SegmentRate::default(),
            has_ended: false,
        }
    }

    pub(super) fn kind(&self) -> TrackKind {
        self.track.codec.kind()
    }

    pub(super) fn part_target(&self) -> MediaTime {
        in_time(self.part_target, self.timeline.timescale())
    }

    /// Ends what was collected: what follows is another period. `track` is what it carries from then on.
    pub(super) fn begin_period(&mut self, track: &Track, plan: &Plan, period: u64) -> bool {
        let has_part = self.flush();
        self.period = period;
        (self.cut_at, self.newest) = (None, None);
        if self.track.codec == track.codec {
            self.timeline.begin_anew();
        } else {
            self.timeline = CmafTimeline::new(track, plan.origin);
            self.header = None;
            self.picture_size = track.codec.picture_size();
        }
        self.track = track.clone();
        has_part
    }

    /// Ends the part and the segment that grow; true if there is a new part.
    pub(super) fn flush(&mut self) -> bool {
        let mut has_part = false;
        if let Some(held) = self.held.take() {
            if self.overfills_segment(&held) {
                has_part = self.close_part();
                self.close_segment();
            } else if self.ends_part_before(&held) {
                has_part = self.end_part(&held);
            }
            self.part.push(held);
        }
        has_part |= self.close_part();
        self.close_segment();
        has_part
    }

    /// Another track's segment ended at `moment`: this one's ends with the next sample from then on.
    pub(super) fn cut_at(&mut self, moment: MediaTime) {
        self.cut_at = Some(moment);
    }

    /// Takes a packet of this track.
    pub(super) fn push(&mut self, packet: &Packet, plan: &Plan, leads: bool) -> Outcome {
        if packet.random_access && self.picture_size.is_none() {
            self.picture_size = self.track.codec.picture_size_in(&packet.payload);
        }
        self.newest = Some(packet.dts);
        let sample = self.timeline.place(packet);
        if self.kind() == TrackKind::Audio {
            return self.add(sample, plan, leads);
        }
        let most = u32::try_from(self.part_target).unwrap_or(u32::MAX);
        match self.held.replace(sample) {
            Some(mut held) => {
                if let Some(next) = &self.held {
                    self.timeline.settle(&mut held, next, most);
                }
                self.add(held, plan, leads)
            }
            None => Outcome::default(),
        }
    }

    fn add(&mut self, sample: CmafSample, plan: &Plan, leads: bool) -> Outcome {
        let mut outcome = Outcome::default();
        if self.ends_segment_before(&sample, plan, leads) {
            outcome.has_part = self.close_part();
            self.close_segment();
            self.cut_at = None;
            outcome.began_segment = Some(self.timeline.media_time(sample.decode_time));
        } else if self.ends_part_before(&sample) {
            outcome.has_part = self.end_part(&sample);
        }
        self.part.push(sample);
        outcome
    }

    fn ends_part_before(&self, sample: &CmafSample) -> bool {
        let is_full = self.part.length() + u64::from(sample.duration) > self.part_target
            || self.part.sample_count() >= MAX_SAMPLES;
        !self.part.is_empty() && (is_full || self.part.hole_before(sample) > 0)
    }

    fn ends_segment_before(&self, sample: &CmafSample, plan: &Plan, leads: bool) -> bool {
        let Some(start) = self.segment_start() else { return false };
        let timescale = self.timeline.timescale();
        if self.overfills_segment(sample) {
            return true;
        }
        if !leads {
            return self.cut_at.is_some_and(|cut_at| self.timeline.media_time(sample.decode_time) >= cut_at);
        }
        // Keyframes come a little early or late; sound ends where it is nearest.
        let wish = match self.kind() {
            TrackKind::Video => plan.segment.ticks() - plan.early.ticks(),
            TrackKind::Audio => plan.segment.ticks() - in_time(u64::from(sample.duration), timescale).ticks() / 2,
        };
        sample.sync && span(start, sample.decode_time, timescale).ticks() >= wish
    }

    /// True if the segment would be longer or larger than any may be.
    fn overfills_segment(&self, sample: &CmafSample) -> bool {
        let bytes = self.shelf.open().map_or(0, Segment::size_bytes) + self.part.bytes();
        if bytes > 0 && bytes + sample.payload.len() as u64 > self.most_bytes {
            return true;
        }
        let length = |start| span(start, sample.end(), self.timeline.timescale());
        self.segment_start().is_some_and(|start| length(start) > self.longest_segment)
    }

    fn segment_start(&self) -> Option<u64> {
        self.shelf.open().map(Segment::start).or(self.part.start())
    }

    /// Ends the part before `next`. The segment ends with it if the part is short, as only the last one of a segment
    /// may be; and before a hole, so that the date of what follows is told.
    fn end_part(&mut self, next: &CmafSample) -> bool {
        let is_short = self.part.length() * 100 < self.part_target * u64::try_from(LEAST_PART).unwrap_or(0);
        let hole = in_time(self.part.hole_before(next), self.timeline.timescale());
        let has_part = self.close_part();
        if is_short || hole > SMALL_HOLE {
            self.close_segment();
        }
        has_part
    }

    fn close_part(&mut self) -> bool {
        let kind = self.kind();
        let Some(part) = self.part.close(kind, self.sequence.wrapping_add(1)) else { return false };
        self.sequence = self.sequence.wrapping_add(1);
        let header = match self.header {
            Some(header) => header,
            None => self.begin_header(),
        };
        if self.shelf.open().is_none() {
            let (number, period, timescale) = (self.next_number, self.period, self.timeline.timescale());
            self.shelf.begin_segment(Segment::new((number, period, header), timescale));
            self.next_number += 1;
        }
        self.shelf.add_part(part);
        true
    }

    fn begin_header(&mut self) -> u64 {
        let number = self.period;
        self.shelf.add_header(number, write_cmaf_header(&self.track, &self.timeline, self.picture_size));
        self.header = Some(number);
        number
    }

    fn close_segment(&mut self) {
        if let Some(open) = self.shelf.open() {
            self.rate.count(open.size_bytes(), open.length());
        }
        self.shelf.close_segment();
    }

    /// Memory held: on the shelf, and of the part that is collected.
    pub(super) fn held_bytes(&self) -> u64 {
        self.shelf.bytes() + self.part.bytes()
    }

    /// How long the told segments are together.
    pub(super) fn told_length(&self) -> MediaTime {
        self.shelf.told.iter().fold(MediaTime::ZERO, |sum, segment| sum + segment.length())
    }
}

fn part_target(plan: &Plan, timeline: &CmafTimeline) -> u64 {
    let timescale = timeline.timescale();
    let target = match timeline.codec().kind() {
        TrackKind::Video => plan.part_target,
        TrackKind::Audio => plan.part_target_of_sound(in_time(u64::from(timeline.frame_length()), timescale)),
    };
    u64::try_from(target.in_timescale(timescale)).unwrap_or(1)
}
