//! Meters of an incoming stream: a publisher's packets in, figures out. Each figure says how it is made, and its error.

mod arrival;
mod cadence;
mod groups;
mod picture;
mod rate;
mod sound;
mod sound_pace;
mod trend;

#[cfg(test)]
mod tests;

use std::time::{Duration, Instant};

pub use arrival::ArrivalFigures;
pub use cadence::CadenceFigures;
pub use groups::GroupFigures;
pub use picture::{PictureFigures, PictureMeter};
pub use sound::{SoundFigures, SoundMeter};
pub use sound_pace::PaceFigures;
use waverant_media::{MediaTime, Packet, TrackId, TrackKind, Tracks};

use arrival::{Arrival, millis};
use cadence::Cadence;
use groups::Groups;
use rate::{ByteRate, UsualRate};
use sound_pace::SoundPace;

/// Windows of the rates that are told.
const SHORT: Duration = Duration::from_secs(1);
const LONG: Duration = Duration::from_secs(10);

/// Tracks that are metered; intake lets no more in.
const MAX_TRACKS: usize = 16;

/// Measures one publisher's stream. A packet costs the same however long the show is, and memory is bounded.
#[derive(Clone, Debug)]
pub struct StreamMeter {
    began: Instant,
    /// When any packet arrived last.
    newest: Option<Instant>,
    /// The time of the first packet.
    origin: Option<MediaTime>,
    bytes: ByteRate,
    usual: UsualRate,
    arrival: Arrival,
    cadence: Cadence,
    groups: Groups,
    /// How far the newest picture was behind the wall, in ms.
    pictures_late: Option<f64>,
    tracks: Vec<TrackMeter>,
}

#[derive(Clone, Debug)]
struct TrackMeter {
    id: TrackId,
    bytes: ByteRate,
    arrived: Instant,
    time: MediaTime,
    pace: SoundPace,
}

/// The figures of a stream at one moment. Rates are in bits per second.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StreamFigures {
    /// How long it is measured.
    pub measured_for: Duration,
    /// How long nothing has arrived; None before anything did.
    pub idle: Option<Duration>,
    /// All tracks, over the last second and the last ten. Error: a keyframe belongs to one window or the next.
    pub rate_1s_bps: f64,
    /// See `rate_1s_bps`.
    pub rate_10s_bps: f64,
    /// While it is less than half of that: the median of all ten seconds in the two minutes before.
    pub fallen_from_bps: Option<f64>,
    /// How pictures follow each other.
    pub cadence: Option<CadenceFigures>,
    /// How pictures are grouped.
    pub groups: GroupFigures,
    /// How packets arrive.
    pub arrival: ArrivalFigures,
    /// The tracks by number.
    pub tracks: Vec<TrackFigures>,
}

/// The figures of one track at one moment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TrackFigures {
    /// Its number.
    pub id: TrackId,
    /// Over the last second.
    pub rate_1s_bps: f64,
    /// Over the last ten.
    pub rate_10s_bps: f64,
    /// How long nothing of it has arrived.
    pub idle: Duration,
    /// How its sound keeps pace.
    pub pace: PaceFigures,
}

impl StreamFigures {
    /// The figures of one track.
    pub fn track(&self, id: TrackId) -> Option<&TrackFigures> {
        self.tracks.iter().find(|track| track.id == id)
    }
}

impl StreamMeter {
    /// A meter that begins at `now`.
    pub fn new(now: Instant) -> Self {
        Self {
            began: now,
            newest: None,
            origin: None,
            bytes: ByteRate::new(now),
            usual: UsualRate::default(),
            arrival: Arrival::new(now),
            cadence: Cadence::default(),
            groups: Groups::default(),
            pictures_late: None,
            tracks: Vec::new(),
        }
    }

    /// Takes a packet that arrived at `now`.
    pub fn record(&mut self, now: Instant, packet: &Packet, tracks: &Tracks) {
        let bytes = packet.payload.len() as u64;
        let at = now.saturating_duration_since(self.began);
        let origin = *self.origin.get_or_insert(packet.dts);
        let late = at.as_secs_f64() * 1000.0 - millis(packet.dts - origin);
        self.bytes.record(now, bytes);
        self.usual.record(at, bytes);
        self.arrival.note(now, self.newest.replace(now));
        // Pictures and what leads are of the first track of their kind.
        let is_first = |kind| tracks.first(kind).is_some_and(|track| track.id == packet.track);
        let is_picture = is_first(TrackKind::Video);
        if is_picture || !tracks.has(TrackKind::Video) && is_first(TrackKind::Audio) {
            self.arrival.record(now, packet.dts, late);
        }
        let Some(track) = tracks.get(packet.track) else { return };
        if is_picture {
            self.pictures_late = Some(late);
            self.cadence.record(packet.dts);
            self.groups.record(packet, &track.codec);
        }
        let pictures_late = self.pictures_late;
        let Some(meter) = self.track(now, packet) else { return };
        meter.bytes.record(now, bytes);
        (meter.arrived, meter.time) = (now, packet.dts);
        if packet.kind == TrackKind::Audio {
            meter.pace.record(packet, &track.codec, (at, late, pictures_late));
        }
    }

    fn track(&mut self, now: Instant, packet: &Packet) -> Option<&mut TrackMeter> {
        let place = match self.tracks.binary_search_by_key(&packet.track, |track| track.id) {
            Ok(place) => place,
            Err(_) if self.tracks.len() == MAX_TRACKS => return None,
            Err(place) => {
                let meter = TrackMeter {
                    id: packet.track,
                    bytes: ByteRate::new(now),
                    arrived: now,
                    time: packet.dts,
                    pace: SoundPace::default(),
                };
                self.tracks.insert(place, meter);
                place
            }
        };
        self.tracks.get_mut(place)
    }

    /// Pictures per second at the usual step between two; None before it is known.
    pub fn frame_rate(&self) -> Option<f64> {
        self.cadence.usual_rate()
    }

    /// The figures at `now`.
    pub fn figures(&mut self, now: Instant) -> StreamFigures {
        let since = |at: Instant| now.saturating_duration_since(at);
        let first_picture = self.tracks.iter().find(|track| track.id.kind() == TrackKind::Video);
        let newest_picture = first_picture.map(|track| track.time);
        let tracks = self.tracks.iter_mut().map(|track| TrackFigures {
            id: track.id,
            rate_1s_bps: track.bytes.rate(now, SHORT),
            rate_10s_bps: track.bytes.rate(now, LONG),
            idle: since(track.arrived),
            pace: track.pace.figures(),
        });
        StreamFigures {
            tracks: tracks.collect(),
            measured_for: since(self.began),
            idle: self.newest.map(since),
            rate_1s_bps: self.bytes.rate(now, SHORT),
            rate_10s_bps: self.bytes.rate(now, LONG),
            fallen_from_bps: self.usual.fallen_from(),
            cadence: self.cadence.figures(),
            groups: self.groups.figures(newest_picture),
            arrival: self.arrival.figures(now, self.newest),
        }
    }
}
