use bytes::{Buf, Bytes};
use waverant_media::{MediaTime, Packet, TICKS_PER_SECOND, Track, TrackKind, Tracks};

use super::boxes::BoxWriter;
use super::clock::SampleClock;
use super::index::RandomAccess;
use super::init::{FRAGMENTED, Init, InitTrack, MOVIE_TIMESCALE, write_init};
use super::mark::write_mark;
use super::sample_entry::is_video;
use super::{DEPENDENT_SAMPLE, SYNC_SAMPLE};
use crate::cutting::{Cutter, Fragment, Patch, WriterError, without_delimiter};
use crate::parts::{FileHead, FileMark, MAX_MARKS, shortened};

/// Assumed length of the only picture of a take.
const LONE_PICTURE: MediaTime = MediaTime::from_millis(33);

/// Writes packets as a fragmented MP4 file, one fragment per group of pictures or per half a
/// second, whichever is shorter.
///
/// The file needs no end to be playable: whatever fragments are whole can be played. Nothing is
/// written until the first fragment is complete, since only then it is known where the
/// presentation begins. Memory is bounded by one fragment.
#[derive(Debug)]
pub struct FragmentWriter {
    head: FileHead,
    tracks: Vec<TrackWriter>,
    cutter: Cutter,
    sequence: u32,
    written: u64,
    /// The decode time that becomes 0 in the file.
    origin: Option<MediaTime>,
    presentation_start: Option<MediaTime>,
    duration_at: Option<u64>,
    end: MediaTime,
    random_access: RandomAccess,
    /// Marks that go out with the next fragment, on the packets' timeline.
    marks: Vec<(MediaTime, String)>,
    mark_count: u32,
}

#[derive(Debug)]
struct TrackWriter {
    track: Track,
    number: u32,
    is_default: bool,
    picture_size: (u32, u32),
    clock: SampleClock,
    /// Length of a frame on the track's clock: fixed for audio, the last one seen for video.
    frame_length: i64,
    /// What the file's decode times are less than the clock's. Sound has no edit: one is read as the
    /// encoder's priming, and then the sound comes early by it.
    shift: i64,
    samples: Vec<Sample>,
}

#[derive(Debug)]
struct Sample {
    decode_time: i64,
    composition_offset: i64,
    sync: bool,
    payload: Bytes,
}

impl TrackWriter {
    fn new(track: &Track, is_default: bool) -> Self {
        let (timescale, frame_length) = match track.codec.sound() {
            Some(sound) => (sound.sample_rate, i64::from(sound.samples_per_frame)),
            None => (MOVIE_TIMESCALE, LONE_PICTURE.ticks()),
        };
        Self {
            track: track.clone(),
            // A file counts from 1; so the session's number can be read back.
            number: u32::from(track.id.0) + 1,
            is_default,
            picture_size: track.codec.picture_size().unwrap_or_default(),
            clock: SampleClock::new(timescale),
            frame_length,
            shift: 0,
            samples: Vec::new(),
        }
    }

    fn push(&mut self, packet: &Packet, origin: MediaTime) {
        let codec = &self.track.codec;
        if let Some(samples) = codec.samples_in(&packet.payload) {
            self.frame_length = samples.into();
        }
        let known_length = (!is_video(codec)).then_some(self.frame_length);
        let decode_time = self.clock.place(packet.dts - origin, known_length);
        let composition_offset = (packet.pts - packet.dts).in_timescale(self.clock.timescale);
        if packet.random_access && self.picture_size == (0, 0) {
            self.picture_size = codec.picture_size_in(&packet.payload).unwrap_or_default();
        }
        let mut payload = packet.payload.clone();
        payload.advance(payload.len() - without_delimiter(codec, &packet.payload).len());
        self.samples.push(Sample { decode_time, composition_offset, sync: packet.random_access, payload });
    }

    /// How long each sample of a fragment that ends lasts; `next` is the decode time of the sample that comes after.
    fn durations(&mut self, next: Option<i64>) -> Vec<u32> {
        let mut durations = Vec::with_capacity(self.samples.len());
        for (at, sample) in self.samples.iter().enumerate() {
            let following = self.samples.get(at + 1).map(|sample| sample.decode_time).or(next);
            let length = following.map_or(self.frame_length, |following| following - sample.decode_time);
            if is_video(&self.track.codec) && length > 0 {
                self.frame_length = length;
            }
            self.clock.earliest = sample.decode_time + length.max(0);
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
    pub fn new(tracks: &Tracks, head: &FileHead) -> Result<Self, WriterError> {
        if tracks.is_empty() {
            return Err(WriterError::NoTracks);
        }
        let is_first = |track: &Track| tracks.first(track.codec.kind()).is_some_and(|first| first.id == track.id);
        let writers: Vec<TrackWriter> = tracks.iter().map(|track| TrackWriter::new(track, is_first(track))).collect();
        let indexed = tracks.first(TrackKind::Video).or(tracks.iter().next());
        Ok(Self {
            head: head.clone(),
            random_access: RandomAccess::new(indexed.map_or(0, |track| u32::from(track.id.0) + 1)),
            tracks: writers,
            cutter: Cutter::new(tracks),
            sequence: 0,
            written: 0,
            origin: None,
            presentation_start: None,
            duration_at: None,
            end: MediaTime::ZERO,
            marks: Vec::new(),
            mark_count: 0,
        })
    }

    /// Takes a packet; returns a fragment when the packet completes one.
    ///
    /// # Errors
    /// [`WriterError::UnknownTrack`]; the packet is not taken then.
    pub fn push(&mut self, packet: &Packet) -> Result<Option<Fragment>, WriterError> {
        let place = self.tracks.iter().position(|track| track.track.id == packet.track);
        let place = place.ok_or(WriterError::UnknownTrack(packet.track))?;
        let cuts = self.cutter.cuts_before(packet);
        let fragment = if cuts { self.cut(Some((place, packet.dts))) } else { None };
        let origin = *self.origin.get_or_insert(packet.dts);
        self.cutter.count(packet);
        self.tracks[place].push(packet, origin);
        self.end = self.end.max(packet.pts.max(packet.dts));
        Ok(fragment)
    }

    /// Points out the moment `at` of the packets' timeline; it goes out with the next fragment.
    pub fn mark(&mut self, at: MediaTime, title: &str) {
        if self.mark_count as usize + self.marks.len() < MAX_MARKS {
            self.marks.push((at, shortened(title)));
        }
    }

    /// Ends the file: the last fragment with the index, and the durations for its head.
    pub fn finish(&mut self) -> (Option<Fragment>, Vec<Patch>) {
        let mut fragment = self.cut(None);
        if self.sequence > 0 {
            let last = fragment.get_or_insert_default();
            let index = self.random_access.write();
            last.size_bytes += index.len() as u64;
            last.segments.push(index);
        }
        let patch = self.duration_at.map(|offset| {
            let ticks = u64::try_from(self.duration().in_timescale(MOVIE_TIMESCALE)).unwrap_or(0);
            Patch { offset, bytes: Bytes::copy_from_slice(&ticks.to_be_bytes()) }
        });
        (fragment, patch.into_iter().collect())
    }

    /// Length of the presentation so far, up to the end of the last packet.
    pub fn duration(&self) -> MediaTime {
        let lasts = self.tracks.iter().map(|track| {
            let rate = i64::from(track.clock.timescale);
            MediaTime::from_ticks(track.frame_length.saturating_mul(TICKS_PER_SECOND) / rate)
        });
        let start = self.presentation_start.or(self.origin);
        start.map_or(MediaTime::ZERO, |start| self.end - start + lasts.max().unwrap_or_default())
    }

    /// What of the packets' timeline is zero in the file; none before the first fragment.
    pub(crate) fn presentation_start(&self) -> Option<MediaTime> {
        self.presentation_start
    }

    fn cut(&mut self, next: Option<(usize, MediaTime)>) -> Option<Fragment> {
        if self.tracks.iter().all(|track| track.samples.is_empty()) {
            return None;
        }
        let mut segments = Vec::new();
        if self.sequence == 0 {
            segments.push(Bytes::from(self.write_head()));
        }
        segments.extend(self.write_marks());
        self.sequence = self.sequence.wrapping_add(1);
        self.cutter.cut();
        let origin = self.origin.unwrap_or_default();
        let next = next.map(|(place, dts)| (place, dts - origin));
        let video_frame_count = self.count_pictures();
        let before: u64 = segments.iter().map(|segment| segment.len() as u64).sum();
        self.note_sync_sample(self.written + before);
        segments.extend(self.write_fragment(next));
        let size_bytes = segments.iter().map(|segment| segment.len() as u64).sum();
        self.written += size_bytes;
        Some(Fragment { segments, size_bytes, video_frame_count, patches: Vec::new() })
    }

    fn write_marks(&mut self) -> Option<Bytes> {
        if self.marks.is_empty() {
            return None;
        }
        let start = self.presentation_start.unwrap_or_default();
        let mut out = BoxWriter::new();
        for (at, title) in self.marks.drain(..) {
            self.mark_count += 1;
            write_mark(&mut out, self.mark_count, &FileMark { at: (at - start).max(MediaTime::ZERO), title });
        }
        Some(out.into_bytes().into())
    }

    fn note_sync_sample(&mut self, moof_at: u64) {
        let written = self.tracks.iter().filter(|track| !track.samples.is_empty());
        for (number, track) in (1..).zip(written) {
            let Some(place) = track.samples.iter().position(|sample| sample.sync) else { continue };
            if self.random_access.is_of(track.number)
                && let Some(sample) = track.samples.get(place)
            {
                let time = sample.decode_time - track.shift + sample.composition_offset;
                self.random_access.note(time, moof_at, number, u32::try_from(place + 1).unwrap_or(u32::MAX));
            }
        }
    }

    fn count_pictures(&self) -> u64 {
        let video = self.tracks.iter().filter(|track| is_video(&track.track.codec));
        video.map(|track| track.samples.len() as u64).sum()
    }

    /// Shifts all tracks by one amount, so that the earliest presented sample is at time 0: pictures
    /// by an edit, since their decode times would be negative, sound by its decode times.
    fn write_head(&mut self) -> Vec<u8> {
        let first_presented = |track: &TrackWriter| {
            let earliest = track.samples.iter().map(|sample| sample.decode_time + sample.composition_offset).min()?;
            Some(earliest.saturating_mul(TICKS_PER_SECOND) / i64::from(track.clock.timescale))
        };
        let shift = self.tracks.iter().filter_map(first_presented).min().unwrap_or(0).max(0);
        let shift = MediaTime::from_ticks(shift);
        self.presentation_start = Some(self.origin.unwrap_or_default() + shift);
        for track in self.tracks.iter_mut().filter(|track| !is_video(&track.track.codec)) {
            track.shift = shift.in_timescale(track.clock.timescale);
        }
        let tracks = self.tracks.iter().map(|track| InitTrack {
            number: track.number,
            timescale: track.clock.timescale,
            codec: &track.track.codec,
            picture_size: track.picture_size,
            language: track.track.language.as_deref(),
            name: track.track.name.as_deref(),
            is_default: track.is_default,
            edit_start: shift.in_timescale(track.clock.timescale) - track.shift,
            sets_in_stream: true,
            tables: None,
        });
        let init = Init { began_ms: self.head.began_ms, tracks: tracks.collect(), brands: FRAGMENTED, duration: 0 };
        let (head, duration_at) = write_init(&init);
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
                let timescale = track.clock.timescale;
                let next = next.filter(|(of, _)| *of == place).map(|(_, dts)| dts.in_timescale(timescale));
                // Audio keeps to its sample count across the border.
                let next = if track.clock.expected.is_some() { track.clock.expected } else { next };
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
    let first = track.samples.first().map_or(0, |sample| sample.decode_time - track.shift);
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
