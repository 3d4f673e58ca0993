use bytes::{Buf, Bytes};
use thiserror::Error;
use waverant_media::{CodecParameters, MediaTime, Packet, TICKS_PER_SECOND, TrackId, TrackKind, Tracks};

use super::boxes::BoxWriter;
use super::init::{InitTrack, MOVIE_TIMESCALE, write_init};
use super::sample_entry::is_video;
use super::{DEPENDENT_SAMPLE, SYNC_SAMPLE};

/// A fragment ends at the next keyframe, or when it is this long.
const MAX_FRAGMENT: MediaTime = MediaTime::from_ticks(TICKS_PER_SECOND);

/// The most samples that one fragment collects, whatever their timestamps say.
const MAX_SAMPLES: usize = 4096;

/// Audio timestamps that are off the sample count by no more than this are taken for rounding
/// (RTMP counts milliseconds) and follow the sample count.
const AUDIO_TOLERANCE: MediaTime = MediaTime::from_millis(20);

/// An AV1 temporal delimiter OBU with its size of 0.
const TEMPORAL_DELIMITER: [u8; 2] = [0x12, 0];

/// Assumed length of the only picture of a take.
const LONE_PICTURE: MediaTime = MediaTime::from_millis(33);

/// Why a packet cannot go into the file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum WriterError {
    /// The packet's track is not one the file was begun with.
    #[error("track {} is not part of this file", .0.0)]
    UnknownTrack(TrackId),
    /// A file needs at least one track.
    #[error("no track to write")]
    NoTracks,
}

/// A piece of file that is to be appended.
#[derive(Clone, Debug)]
pub struct Fragment {
    /// Headers and payloads in file order; payloads are the packets' own memory.
    pub segments: Vec<Bytes>,
    /// Sum of the segments' lengths.
    pub size_bytes: u64,
    /// Pictures in the fragment.
    pub video_frame_count: u64,
}

/// Bytes to write over what was appended before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Patch {
    /// Where in the file.
    pub offset: u64,
    /// What to put there.
    pub bytes: Bytes,
}

/// Writes packets as a fragmented MP4 file, one fragment per group of pictures or per second,
/// whichever is shorter.
///
/// The file needs no end to be playable: whatever fragments are whole can be played. Nothing is
/// written until the first fragment is complete, since only then it is known where the
/// presentation begins. Memory is bounded by one fragment.
#[derive(Debug)]
pub struct FragmentWriter {
    tracks: Vec<TrackWriter>,
    has_video: bool,
    sequence: u32,
    written: u64,
    /// The decode time that becomes 0 in the file.
    origin: Option<MediaTime>,
    presentation_start: MediaTime,
    fragment_start: Option<MediaTime>,
    duration_at: Option<u64>,
    end: MediaTime,
}

#[derive(Debug)]
struct TrackWriter {
    id: TrackId,
    number: u32,
    codec: CodecParameters,
    timescale: u32,
    /// Length of a frame on the track's clock: fixed for audio, the last one seen for video.
    frame_length: i64,
    samples: Vec<Sample>,
    /// Where the sample count says that the next audio frame begins.
    expected: Option<i64>,
    /// No sample may begin before this: the last sample's time, or the end of the last fragment.
    earliest: i64,
}

#[derive(Debug)]
struct Sample {
    decode_time: i64,
    composition_offset: i64,
    sync: bool,
    payload: Bytes,
}

impl TrackWriter {
    fn new(id: TrackId, codec: &CodecParameters) -> Self {
        let (timescale, frame_length) = match codec.sound() {
            Some(sound) => (sound.sample_rate, i64::from(sound.samples_per_frame)),
            None => (MOVIE_TIMESCALE, LONE_PICTURE.ticks()),
        };
        Self {
            id,
            // A file counts from 1; so the session's number can be read back.
            number: u32::from(id.0) + 1,
            codec: codec.clone(),
            timescale,
            frame_length,
            samples: Vec::new(),
            expected: None,
            earliest: 0,
        }
    }

    fn push(&mut self, packet: &Packet, origin: MediaTime) {
        let scaled = |time: MediaTime| time.in_timescale(self.timescale);
        let mut decode_time = scaled(packet.dts - origin);
        // Known for sound only.
        if let Some(expected) = self.expected
            && (decode_time - expected).abs() <= scaled(AUDIO_TOLERANCE)
        {
            decode_time = expected;
        }
        // Sound whose timestamps run slower than its samples would be set back here.
        decode_time = decode_time.max(self.earliest);
        self.earliest = decode_time;
        if let Some(samples) = self.codec.samples_in(&packet.payload) {
            self.frame_length = samples.into();
            self.expected = Some(decode_time + self.frame_length);
        }
        let composition_offset = scaled(packet.pts - packet.dts);
        let mut payload = packet.payload.clone();
        // A file says by its samples what a temporal delimiter says in a stream.
        // Source: AV1 Codec ISO Media File Format Binding, 2.4
        if matches!(self.codec, CodecParameters::Av1(_)) && payload.starts_with(&TEMPORAL_DELIMITER) {
            payload.advance(TEMPORAL_DELIMITER.len());
        }
        self.samples.push(Sample { decode_time, composition_offset, sync: packet.random_access, payload });
    }

    /// How long each sample of a fragment that ends lasts; `next` is the decode time of the sample that comes after.
    fn durations(&mut self, next: Option<i64>) -> Vec<u32> {
        let mut durations = Vec::with_capacity(self.samples.len());
        for (at, sample) in self.samples.iter().enumerate() {
            let following = self.samples.get(at + 1).map(|sample| sample.decode_time).or(next);
            let length = following.map_or(self.frame_length, |following| following - sample.decode_time);
            if is_video(&self.codec) && length > 0 {
                self.frame_length = length;
            }
            self.earliest = sample.decode_time + length.max(0);
            durations.push(u32::try_from(length.max(0)).unwrap_or(u32::MAX));
        }
        durations
    }
}

impl FragmentWriter {
    /// A writer for a file with `tracks`.
    ///
    /// # Errors
    /// [`WriterError::NoTracks`] if the set is empty.
    pub fn new(tracks: &Tracks) -> Result<Self, WriterError> {
        if tracks.is_empty() {
            return Err(WriterError::NoTracks);
        }
        let writers = tracks.iter().map(|track| TrackWriter::new(track.id, &track.codec));
        Ok(Self {
            tracks: writers.collect(),
            has_video: tracks.has(TrackKind::Video),
            sequence: 0,
            written: 0,
            origin: None,
            presentation_start: MediaTime::ZERO,
            fragment_start: None,
            duration_at: None,
            end: MediaTime::ZERO,
        })
    }

    /// Takes a packet; returns a fragment when the packet completes one.
    ///
    /// # Errors
    /// [`WriterError::UnknownTrack`]; the packet is not taken then.
    pub fn push(&mut self, packet: &Packet) -> Result<Option<Fragment>, WriterError> {
        let place = self.tracks.iter().position(|track| track.id == packet.track);
        let place = place.ok_or(WriterError::UnknownTrack(packet.track))?;
        let fragment = if self.cuts_before(packet) { self.cut(Some((place, packet.dts))) } else { None };
        let origin = *self.origin.get_or_insert(packet.dts);
        self.fragment_start.get_or_insert(packet.dts);
        self.tracks[place].push(packet, origin);
        self.end = self.end.max(packet.pts.max(packet.dts));
        Ok(fragment)
    }

    /// Ends the file: the last fragment, and the durations for its head.
    pub fn finish(&mut self) -> (Option<Fragment>, Vec<Patch>) {
        let fragment = self.cut(None);
        let patch = self.duration_at.map(|offset| {
            let ticks = u64::try_from(self.duration().in_timescale(MOVIE_TIMESCALE)).unwrap_or(0);
            Patch { offset, bytes: Bytes::copy_from_slice(&ticks.to_be_bytes()) }
        });
        (fragment, patch.into_iter().collect())
    }

    /// Length of the presentation so far, up to the end of the last packet.
    pub fn duration(&self) -> MediaTime {
        let lasts = self.tracks.iter().map(|track| {
            let rate = i64::from(track.timescale);
            MediaTime::from_ticks(track.frame_length.saturating_mul(TICKS_PER_SECOND) / rate)
        });
        match self.origin {
            Some(_) => self.end - self.presentation_start + lasts.max().unwrap_or_default(),
            None => MediaTime::ZERO,
        }
    }

    /// Only a picture may cut, so that the length of the last picture is always known.
    fn cuts_before(&self, packet: &Packet) -> bool {
        let Some(start) = self.fragment_start else { return false };
        let cutting_kind = !self.has_video || packet.kind == TrackKind::Video;
        let full = packet.dts - start >= MAX_FRAGMENT;
        let count: usize = self.tracks.iter().map(|track| track.samples.len()).sum();
        count >= MAX_SAMPLES || cutting_kind && (full || packet.is_keyframe())
    }

    fn cut(&mut self, next: Option<(usize, MediaTime)>) -> Option<Fragment> {
        if self.tracks.iter().all(|track| track.samples.is_empty()) {
            return None;
        }
        let mut segments = Vec::new();
        if self.sequence == 0 {
            segments.push(Bytes::from(self.write_head()));
        }
        self.sequence = self.sequence.wrapping_add(1);
        self.fragment_start = None;
        let origin = self.origin.unwrap_or_default();
        let next = next.map(|(place, dts)| (place, dts - origin));
        let video_frame_count = self.count_pictures();
        segments.extend(self.write_fragment(next));
        let size_bytes = segments.iter().map(|segment| segment.len() as u64).sum();
        self.written += size_bytes;
        Some(Fragment { segments, size_bytes, video_frame_count })
    }

    fn count_pictures(&self) -> u64 {
        let video = self.tracks.iter().filter(|track| is_video(&track.codec));
        video.map(|track| track.samples.len() as u64).sum()
    }

    /// Shifts all tracks by one amount, so that the earliest presented sample is at time 0.
    fn write_head(&mut self) -> Vec<u8> {
        let first_presented = |track: &TrackWriter| {
            let earliest = track.samples.iter().map(|sample| sample.decode_time + sample.composition_offset).min()?;
            Some(earliest.saturating_mul(TICKS_PER_SECOND) / i64::from(track.timescale))
        };
        let shift = self.tracks.iter().filter_map(first_presented).min().unwrap_or(0).max(0);
        let shift = MediaTime::from_ticks(shift);
        self.presentation_start = self.origin.unwrap_or_default() + shift;
        let tracks: Vec<InitTrack<'_>> = self
            .tracks
            .iter()
            .map(|track| InitTrack {
                number: track.number,
                timescale: track.timescale,
                codec: &track.codec,
                edit_start: shift.in_timescale(track.timescale),
            })
            .collect();
        let (head, duration_at) = write_init(&tracks);
        self.duration_at = Some(duration_at as u64);
        head
    }

    /// Writes `moof` and `mdat`; payloads follow track by track.
    fn write_fragment(&mut self, next: Option<(usize, MediaTime)>) -> Vec<Bytes> {
        let mut out = BoxWriter::new();
        let mut offsets = Vec::new();
        let sequence = self.sequence;
        out.boxed(b"moof", |out| {
            out.full_box(b"mfhd", 0, 0, |out| {
                out.u32(sequence);
            });
            for (place, track) in self.tracks.iter_mut().enumerate() {
                if track.samples.is_empty() {
                    continue;
                }
                let timescale = track.timescale;
                let next = next.filter(|(of, _)| *of == place).map(|(_, dts)| dts.in_timescale(timescale));
                // Audio keeps to its sample count across the border.
                let next = if track.expected.is_some() { track.expected } else { next };
                offsets.push((write_track_fragment(out, track, next), payload_size(track)));
            }
        });
        let mut offset = out.len() + 8;
        for (at, size) in &offsets {
            out.set_u32(*at, u32::try_from(offset).unwrap_or(u32::MAX));
            offset += size;
        }
        let total: usize = offsets.iter().map(|(_, size)| size).sum();
        out.u32(u32::try_from(total + 8).unwrap_or(u32::MAX)).bytes(b"mdat");
        let mut segments = vec![Bytes::from(out.into_bytes())];
        for track in &mut self.tracks {
            segments.extend(track.samples.drain(..).map(|sample| sample.payload));
        }
        segments
    }
}

fn payload_size(track: &TrackWriter) -> usize {
    track.samples.iter().map(|sample| sample.payload.len()).sum()
}

/// Writes a `traf`; returns the place of its data offset.
///
/// Source: ISO/IEC 14496-12, 8.8.7, 8.8.8 and 8.8.12
fn write_track_fragment(out: &mut BoxWriter, track: &mut TrackWriter, next: Option<i64>) -> usize {
    let durations = track.durations(next);
    let first = track.samples.first().map_or(0, |sample| sample.decode_time);
    let mut data_offset_at = 0;
    out.boxed(b"traf", |out| {
        // default-base-is-moof
        out.full_box(b"tfhd", 0, 0x02_0000, |out| {
            out.u32(track.number);
        });
        out.full_box(b"tfdt", 1, 0, |out| {
            out.u64(u64::try_from(first).unwrap_or(0));
        });
        // data offset; per sample: duration, size, flags, composition time offset (signed)
        out.full_box(b"trun", 1, 0x0f01, |out| {
            out.u32(u32::try_from(track.samples.len()).unwrap_or(u32::MAX));
            data_offset_at = out.len();
            out.u32(0);
            for (sample, duration) in track.samples.iter().zip(durations) {
                let offset = sample.composition_offset.clamp(i32::MIN.into(), i32::MAX.into());
                out.u32(duration);
                out.u32(u32::try_from(sample.payload.len()).unwrap_or(u32::MAX));
                out.u32(if sample.sync { SYNC_SAMPLE } else { DEPENDENT_SAMPLE });
                out.i32(i32::try_from(offset).unwrap_or(0));
            }
        });
    });
    data_offset_at
}
