use std::collections::VecDeque;

use waverant_media::{CodecParameters, MediaTime, Packet, TICKS_PER_SECOND};

/// Groups that are looked back on.
const GROUPS: usize = 4;

/// A whole group of pictures: a keyframe and what follows up to the next.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Group {
    length: MediaTime,
    pictures: u32,
    reordered: u32,
    /// The most pictures in a row that are shown before one that was sent before them.
    depth: u32,
    bytes: u64,
    is_open: bool,
}

/// The group that is going on.
#[derive(Clone, Copy, Debug)]
struct Begun {
    dts: MediaTime,
    pts: MediaTime,
    /// The latest time of a picture so far.
    latest: MediaTime,
    run: u32,
    group: Group,
}

/// How pictures are grouped.
#[derive(Clone, Debug, Default)]
pub(super) struct Groups {
    begun: Option<Begun>,
    /// The newest last.
    groups: VecDeque<Group>,
}

/// What is known of the last four whole groups of pictures.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct GroupFigures {
    /// The longest distance between keyframes, by decode times: the one that platforms complain about. Exact.
    pub spacing: Option<MediaTime>,
    /// How long the group that is going on is, up to its newest picture.
    pub open_length: Option<MediaTime>,
    /// Pictures in the newest whole group.
    pub pictures: u32,
    /// The share of pictures that are shown before one that was sent before them: B-frames that make a decoder wait.
    /// Those of which the order shows nothing are not counted.
    pub reordered_share: f64,
    /// The most of those in a row.
    pub reordered_run: u32,
    /// True if a picture behind a keyframe is shown before it and needs the group before (an open group).
    pub is_open: bool,
    /// Bits per second of the newest whole group: its bytes by its length. Exact.
    pub bitrate_bps: f64,
}

impl Groups {
    /// Takes the next picture.
    pub(super) fn record(&mut self, packet: &Packet, codec: &CodecParameters) {
        if packet.random_access {
            self.finish(packet.dts);
            self.begun =
                Some(Begun { dts: packet.dts, pts: packet.pts, latest: packet.pts, run: 0, group: Group::default() });
        }
        let Some(begun) = &mut self.begun else { return };
        let group = &mut begun.group;
        group.pictures = group.pictures.saturating_add(1);
        group.bytes += packet.payload.len() as u64;
        if packet.pts < begun.latest {
            group.reordered += 1;
            begun.run += 1;
            group.depth = group.depth.max(begun.run);
        } else {
            begun.run = 0;
            begun.latest = packet.pts;
        }
        group.is_open |= packet.pts < begun.pts && !codec.is_decodable_leading(&packet.payload);
    }

    fn finish(&mut self, at: MediaTime) {
        let Some(begun) = self.begun.take() else { return };
        if self.groups.len() == GROUPS {
            self.groups.pop_front();
        }
        self.groups.push_back(Group { length: at - begun.dts, ..begun.group });
    }

    pub(super) fn figures(&self, newest: Option<MediaTime>) -> GroupFigures {
        let (pictures, reordered) = self.groups.iter().fold((0u64, 0u64), |(pictures, reordered), group| {
            (pictures + u64::from(group.pictures), reordered + u64::from(group.reordered))
        });
        let last = self.groups.back().copied().unwrap_or_default();
        let ticks = last.length.ticks();
        let per_second = TICKS_PER_SECOND as f64;
        GroupFigures {
            spacing: self.groups.iter().map(|group| group.length).max(),
            open_length: self.begun.zip(newest).map(|(begun, newest)| newest - begun.dts),
            pictures: last.pictures,
            reordered_share: if pictures == 0 { 0.0 } else { reordered as f64 / pictures as f64 },
            reordered_run: self.groups.iter().map(|group| group.depth).max().unwrap_or(0),
            is_open: self.groups.iter().any(|group| group.is_open),
            bitrate_bps: if ticks <= 0 { 0.0 } else { last.bytes as f64 * 8.0 * per_second / ticks as f64 },
        }
    }
}
