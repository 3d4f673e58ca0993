use bytes::{Buf, Bytes};
use waverant_media::{CodecParameters, MediaTime, Packet, TICKS_PER_SECOND, Track};

use super::parameter_sets::without_parameter_sets;
use crate::cutting::without_delimiter;
use crate::mp4::{MOVIE_TIMESCALE, SampleClock};

/// Assumed length of a picture before a second one came.
const FIRST_PICTURE: MediaTime = MediaTime::from_millis(33);

/// A picture is shown for no longer than this where nobody knows better: what is longer is a hole.
const LONGEST_PICTURE: MediaTime = MediaTime::from_millis(1_000);

/// A coded picture or frame of sound, on its track's clock.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CmafSample {
    /// When it is decoded, in ticks of the track's clock. Never decreases.
    pub decode_time: u64,
    /// How long it lasts, in ticks: of sound exactly; of a picture what the one before it lasted, until
    /// [`CmafTimeline::settle`] tells.
    pub duration: u32,
    /// How much later it is presented than decoded, in ticks.
    pub composition_offset: i32,
    /// Whether decoding can begin here.
    pub sync: bool,
    /// Its bytes, as a sample has them; the packet's own memory.
    pub payload: Bytes,
}

impl CmafSample {
    /// When it ends, in ticks.
    pub fn end(&self) -> u64 {
        self.decode_time + u64::from(self.duration)
    }
}

/// Puts the packets of a track on its clock: sound by its sample count, pictures by their times.
#[derive(Clone, Debug)]
pub struct CmafTimeline {
    codec: CodecParameters,
    /// The moment of the packets' timeline at which the clock is zero.
    origin: MediaTime,
    clock: SampleClock,
    frame_length: u32,
    /// Where the last frame of sound ended; the next one begins no earlier.
    end: i64,
}

impl CmafTimeline {
    /// The clock of `track`, which is zero at `origin`: before the first packet of any track.
    pub fn new(track: &Track, origin: MediaTime) -> Self {
        let (timescale, frame_length) = match track.codec.sound() {
            Some(sound) => (sound.sample_rate, sound.samples_per_frame),
            None => (MOVIE_TIMESCALE, u32::try_from(FIRST_PICTURE.ticks()).unwrap_or_default()),
        };
        Self { codec: track.codec.clone(), origin, clock: SampleClock::new(timescale), frame_length, end: 0 }
    }

    /// Ticks per second: the sampling frequency of sound, 90000 of pictures.
    pub fn timescale(&self) -> u32 {
        self.clock.timescale
    }

    /// The codec whose packets these are.
    pub fn codec(&self) -> &CodecParameters {
        &self.codec
    }

    /// The moment of the packets' timeline at which the clock shows `ticks`.
    pub fn media_time(&self, ticks: u64) -> MediaTime {
        let scaled = i128::from(ticks) * i128::from(TICKS_PER_SECOND) / i128::from(self.clock.timescale.max(1));
        self.origin + MediaTime::from_ticks(i64::try_from(scaled).unwrap_or(i64::MAX))
    }

    /// How long a picture lasts that nobody knows more of, in ticks; a frame of sound, its usual length.
    pub fn frame_length(&self) -> u32 {
        self.frame_length
    }

    /// Makes the next packet's time count, not where the sample count of sound has come to.
    pub fn begin_anew(&mut self) {
        self.clock.forget_count();
    }

    /// Puts a packet on the clock.
    pub fn place(&mut self, packet: &Packet) -> CmafSample {
        if let Some(samples) = self.codec.samples_in(&packet.payload) {
            self.frame_length = samples;
        }
        let known_length = self.codec.sound().map(|_| i64::from(self.frame_length));
        self.clock.keep_behind(self.end);
        let decode_time = self.clock.place(packet.dts - self.origin, known_length);
        self.end = decode_time.saturating_add(known_length.unwrap_or(0));
        let offset = (packet.pts - packet.dts).in_timescale(self.clock.timescale);
        let stripped = without_parameter_sets(&self.codec, without_delimiter(&self.codec, &packet.payload));
        let mut payload = packet.payload.clone();
        payload.advance(payload.len() - stripped.len());
        CmafSample {
            decode_time: u64::try_from(decode_time).unwrap_or(0),
            duration: self.frame_length,
            composition_offset: i32::try_from(offset).unwrap_or(0),
            sync: packet.random_access,
            payload,
        }
    }

    /// Gives a picture the duration that follows from the one behind it. What is longer than `most` (ticks) or than
    /// a second is a hole: then it lasts as long as it may.
    pub fn settle(&mut self, sample: &mut CmafSample, next: &CmafSample, most: u32) {
        if self.codec.sound().is_some() {
            return;
        }
        let longest = most.min(u32::try_from(LONGEST_PICTURE.in_timescale(self.clock.timescale)).unwrap_or(most));
        let length = next.decode_time.saturating_sub(sample.decode_time);
        let length = u32::try_from(length).unwrap_or(u32::MAX);
        if length > 0 && length <= longest {
            self.frame_length = length;
        }
        sample.duration = length.min(longest);
    }
}
