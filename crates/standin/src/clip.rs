use std::path::Path;

use anyhow::Context;
use bytes::{BufMut, Bytes, BytesMut};
use waverant_container::Mp4File;
use waverant_media::{CodecParameters, MediaTime, Track, TrackId, TrackKind, Tracks};

/// Identifies our stamps among the SEI messages of a picture.
const STAMP_ID: [u8; 16] = *b"waverant stamp 1";

/// SEI payload type of unregistered user data.
///
/// Source: ISO/IEC 14496-10, D.1.7
const USER_DATA: u8 = 5;

/// A packet of the clip in the order in which it is sent.
#[derive(Clone, Debug)]
pub(crate) struct ClipPacket {
    pub(crate) track: TrackId,
    pub(crate) kind: TrackKind,
    pub(crate) dts: MediaTime,
    pub(crate) composition_ms: i64,
    pub(crate) keyframe: bool,
    pub(crate) payload: Bytes,
}

/// A clip that is sent over and over with running timestamps.
#[derive(Clone, Debug)]
pub struct Clip {
    pub(crate) tracks: Tracks,
    packets: Vec<ClipPacket>,
    length: MediaTime,
    pauses: Option<Pauses>,
}

/// A track of sound that is silent now and then.
#[derive(Clone, Debug)]
struct Pauses {
    track: TrackId,
    every: MediaTime,
    length: MediaTime,
    silence: Bytes,
}

impl Clip {
    /// Reads a fragmented MP4 file.
    ///
    /// # Errors
    /// If the file cannot be read or holds no packets.
    pub fn load(path: &Path) -> anyhow::Result<Self> {
        let bytes = std::fs::read(path).with_context(|| format!("clip {}", path.display()))?;
        let file = Mp4File::parse(&bytes.into()).with_context(|| format!("clip {}", path.display()))?;
        let mut tracks = Tracks::new();
        let mut packets = Vec::new();
        for track in &file.tracks {
            let Some(codec) = &track.codec else { continue };
            let kind = codec.kind();
            tracks.set(Track::new(track.track_id(), codec.clone()));
            packets.extend(track.samples.iter().map(|sample| ClipPacket {
                track: track.track_id(),
                kind,
                dts: sample.dts,
                composition_ms: sample.pts.millis() - sample.dts.millis(),
                keyframe: sample.sync,
                payload: sample.payload.clone(),
            }));
        }
        packets.sort_by_key(|packet| packet.dts);
        anyhow::ensure!(!packets.is_empty(), "clip {} holds no packets", path.display());
        Ok(Self { tracks, packets, length: file.duration(), pauses: None })
    }

    pub(crate) fn from_parts(tracks: Tracks, packets: Vec<ClipPacket>, length: MediaTime) -> Self {
        Self { tracks, packets, length, pauses: None }
    }

    /// The clip with a language and a name for each track of sound.
    #[must_use]
    pub fn with_labels(mut self, labels: &[(&str, &str)]) -> Self {
        for (place, (language, name)) in (0..).zip(labels) {
            let id = TrackId::at(TrackKind::Audio, place);
            if let Some(track) = id.and_then(|id| self.tracks.get(id)).cloned() {
                self.tracks.set(Track { language: Some((*language).into()), name: Some((*name).into()), ..track });
            }
        }
        self
    }

    /// The clip with `count` tracks of sound: the further ones play the first one's frames, each from
    /// another place on.
    #[must_use]
    pub fn with_sounds(mut self, count: u8) -> Self {
        let Some(first) = self.tracks.get(TrackId::AUDIO).cloned() else { return self };
        let sounds: Vec<ClipPacket> =
            self.packets.iter().filter(|packet| packet.track == TrackId::AUDIO).cloned().collect();
        for place in 1..count {
            let Some(id) = TrackId::at(TrackKind::Audio, place) else { break };
            self.tracks.set(Track { id, ..first.clone() });
            let later = sounds.iter().cycle().skip(usize::from(place) * 17);
            let shifted = sounds.iter().zip(later);
            self.packets.extend(shifted.map(|(packet, other)| ClipPacket {
                track: id,
                payload: other.payload.clone(),
                ..packet.clone()
            }));
        }
        self.packets.sort_by_key(|packet| packet.dts);
        self
    }

    /// The clip with one of its sounds, counted from 0, silent at the end of every so many seconds: a microphone with a
    /// loose plug.
    ///
    /// # Errors
    /// If there is no such sound, or no silence can be written in its codec.
    pub fn with_pauses(mut self, sound: u8, every: u32, length: u32) -> anyhow::Result<Self> {
        let track = TrackId::at(TrackKind::Audio, sound).and_then(|id| self.tracks.get(id));
        let track = track.with_context(|| format!("there is no sound {sound}"))?;
        let silence = track.codec.silent_frame().context("no silence is written in its codec")?;
        let seconds = |count: u32| MediaTime::from_millis(i64::from(count) * 1000);
        self.pauses = Some(Pauses { track: track.id, every: seconds(every.max(1)), length: seconds(length), silence });
        Ok(self)
    }

    /// The number of the first keyframe from packet `number` on: what an encoder begins with.
    pub fn keyframe_from(&self, number: usize) -> usize {
        let is_start = |number: &usize| {
            let packet = &self.packets[number % self.packets.len()];
            packet.keyframe && packet.track == TrackId::VIDEO
        };
        (number..number + self.packets.len()).find(is_start).unwrap_or(number)
    }

    /// Packet `number` of an endless repetition.
    pub(crate) fn packet(&self, number: usize) -> ClipPacket {
        let round = i64::try_from(number / self.packets.len()).unwrap_or(0);
        let packet = &self.packets[number % self.packets.len()];
        let dts = MediaTime::from_ticks(packet.dts.ticks() + round * self.length.ticks());
        let is_h264 =
            self.tracks.get(packet.track).is_some_and(|track| matches!(track.codec, CodecParameters::H264(_)));
        let is_silent = |pauses: &&Pauses| {
            let left = pauses.every.ticks() - dts.ticks().rem_euclid(pauses.every.ticks());
            pauses.track == packet.track && left <= pauses.length.ticks()
        };
        let payload = match self.pauses.as_ref().filter(is_silent) {
            Some(pauses) => pauses.silence.clone(),
            None if is_h264 => stamped(&packet.payload, number),
            None => packet.payload.clone(),
        };
        ClipPacket { dts, payload, ..packet.clone() }
    }
}

/// Puts an SEI message with the packet's number before a picture, so that no two pictures of a
/// show are alike and a lost or repeated one is noticed.
fn stamped(picture: &Bytes, number: usize) -> Bytes {
    let mut out = BytesMut::with_capacity(picture.len() + 48);
    let text = format!("{number:012}");
    let size = STAMP_ID.len() + text.len();
    out.put_u32(u32::try_from(size + 4).unwrap_or(0));
    out.put_slice(&[6, USER_DATA, u8::try_from(size).unwrap_or(0)]);
    out.put_slice(&STAMP_ID);
    out.put_slice(text.as_bytes());
    out.put_u8(0x80);
    out.put_slice(picture);
    out.freeze()
}
