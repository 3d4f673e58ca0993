use std::fmt::Debug;
use std::io;
use std::sync::Arc;

use bytes::Bytes;
use thiserror::Error;
use waverant_container::Mp4File;
use waverant_media::{CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks};

/// The shortest slate: below this it would flicker.
const SHORTEST: MediaTime = MediaTime::from_millis(400);

/// The longest slate.
const LONGEST: MediaTime = MediaTime::from_millis(600_000);

/// What is sent while a session holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SlateChoice {
    /// Nothing.
    #[default]
    None,
    /// The built-in holding picture.
    BuiltIn,
    /// The uploaded clip; the built-in picture where that does not fit.
    Uploaded,
}

/// The slates that people uploaded.
pub trait SlateSource: Debug + Send + Sync {
    /// Another number after each upload or removal.
    fn version(&self) -> u64;

    /// The slate of a channel. Blocks.
    ///
    /// # Errors
    /// [`SlateError`] if there is none, or it cannot be read.
    fn uploaded(&self, channel_id: u64) -> Result<Slate, SlateError>;
}

/// Why a clip is no slate, or none for this show.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SlateError {
    /// The clip has no pictures.
    #[error("it has no pictures that can be read; H.264, HEVC, AV1 or VP9 were expected")]
    NoPictures,
    /// The clip does not begin with a keyframe.
    #[error("its first picture is no keyframe, so nobody could begin to watch there")]
    NoKeyframe,
    /// The clip is too short or too long.
    #[error("it lasts {length}; between {SHORTEST} and {LONGEST} were expected")]
    Length {
        /// How long it lasts.
        length: MediaTime,
    },
    /// The show has another codec.
    #[error("it is {slate}, and the show is {show}: encode it as {show}")]
    Codec {
        /// The clip's codec.
        slate: &'static str,
        /// The show's codec.
        show: &'static str,
    },
    /// The show has another size.
    #[error("it is {}x{}, and the show is {}x{}: encode it in the show's size", slate.0, slate.1, show.0, show.1)]
    Size {
        /// The clip's width and height.
        slate: (u32, u32),
        /// The show's.
        show: (u32, u32),
    },
    /// The show has sound that the clip does not match and of which no silence can be made.
    #[error(
        "it has no {codec} sound like that of the show, and silence can be made for AAC and Opus only: \
         put such a track into the clip"
    )]
    Sound {
        /// The codec of the show's sound.
        codec: &'static str,
    },
    /// The show has no pictures, or of a size that is not known: nothing can stand in for them.
    #[error("{0}")]
    Show(&'static str),
    /// None was uploaded.
    #[error("none was uploaded")]
    Missing,
    /// It cannot be read from the disk.
    #[error("it cannot be read: {0}")]
    Unreadable(String),
    /// It is no MP4 file.
    #[error("it cannot be read as MP4: {0}")]
    NotMp4(String),
    /// The file is not whole.
    #[error("the file is cut off; upload it again")]
    CutOff,
    /// The built-in picture cannot be made.
    #[error("{0}")]
    Picture(String),
}

impl From<io::Error> for SlateError {
    fn from(error: io::Error) -> Self {
        Self::Unreadable(error.to_string())
    }
}

/// What stands in while a session holds: a clip played over and over.
#[derive(Clone, Debug)]
pub struct Slate {
    tracks: Arc<Tracks>,
    /// By rising decode time, the first picture at 0.
    packets: Vec<Packet>,
    length: MediaTime,
}

impl Slate {
    /// A slate of a clip's packets, which last `length`.
    ///
    /// # Errors
    /// [`SlateError`] if it has no pictures, begins without a keyframe, or is too short or long.
    pub fn new(tracks: Tracks, mut packets: Vec<Packet>, length: MediaTime) -> Result<Self, SlateError> {
        let video = tracks.first(TrackKind::Video).ok_or(SlateError::NoPictures)?.id;
        packets.sort_by_key(|packet| packet.dts);
        let first = packets.iter().find(|packet| packet.track == video).ok_or(SlateError::NoPictures)?;
        if !first.is_keyframe() {
            return Err(SlateError::NoKeyframe);
        }
        if !(SHORTEST..=LONGEST).contains(&length) {
            return Err(SlateError::Length { length });
        }
        let start = first.dts;
        let shifted = packets.into_iter().filter(|packet| packet.dts >= start && packet.dts < start + length);
        let packets = shifted.map(|packet| Packet { dts: packet.dts - start, pts: packet.pts - start, ..packet });
        Ok(Self { tracks: Arc::new(tracks), packets: packets.collect(), length })
    }

    /// Reads an MP4 file as a slate.
    ///
    /// # Errors
    /// [`SlateError`] that says what was found.
    pub fn from_mp4(bytes: &Bytes) -> Result<Self, SlateError> {
        let file = Mp4File::parse(bytes).map_err(|error| SlateError::NotMp4(error.to_string()))?;
        if file.truncated {
            return Err(SlateError::CutOff);
        }
        let length = file.duration();
        let (mut tracks, mut packets) = (Tracks::new(), Vec::new());
        for track in &file.tracks {
            let Some(codec) = &track.codec else { continue };
            // Foreign files number their tracks as they like.
            let kind = codec.kind();
            let place = tracks.iter().filter(|known| known.codec.kind() == kind).count();
            let Some(id) = u8::try_from(place).ok().and_then(|place| TrackId::at(kind, place)) else { continue };
            tracks.set(Track::new(id, codec.clone()));
            packets.extend(track.samples.iter().map(|sample| Packet {
                track: id,
                kind,
                dts: sample.dts,
                pts: sample.pts,
                random_access: sample.sync,
                payload: sample.payload.clone(),
            }));
        }
        Self::new(tracks, packets, length)
    }

    /// The clip's tracks.
    pub fn tracks(&self) -> &Arc<Tracks> {
        &self.tracks
    }

    /// How long the clip lasts.
    pub fn length(&self) -> MediaTime {
        self.length
    }

    /// Makes a slate for a show with these tracks: the clip's first pictures, and for every track of
    /// sound the clip's where it is just like it, else silence.
    ///
    /// # Errors
    /// [`SlateError`] if codec or size of the pictures differ, or silence cannot be made.
    pub fn fitted(&self, show: &Tracks) -> Result<Self, SlateError> {
        let mut tracks = Tracks::new();
        let mut packets = Vec::new();
        if let Some(video) = show.first(TrackKind::Video) {
            let own = self.matching_video(video)?;
            tracks.set(Track { id: video.id, ..own.clone() });
            packets.extend(self.moved(own.id, video.id));
        }
        for sound in show.iter().filter(|track| track.codec.kind() == TrackKind::Audio) {
            tracks.set(sound.clone());
            let own = self.tracks.iter().find(|own| own.codec == sound.codec);
            match own {
                Some(own) => packets.extend(self.moved(own.id, sound.id)),
                None => packets.extend(self.silence(sound)?),
            }
        }
        packets.sort_by_key(|packet| packet.dts);
        Ok(Self { tracks: Arc::new(tracks), packets, length: self.length })
    }

    /// The packet `number` of the endless slate, with times from its begin.
    pub fn packet(&self, number: u64) -> Option<Packet> {
        let count = u64::try_from(self.packets.len()).ok().filter(|count| *count > 0)?;
        let packet = self.packets.get(usize::try_from(number % count).ok()?)?;
        let turn = i64::try_from(number / count).ok()?;
        let shift = MediaTime::from_ticks(self.length.ticks().saturating_mul(turn));
        Some(Packet { dts: packet.dts + shift, pts: packet.pts + shift, ..packet.clone() })
    }

    fn matching_video(&self, show: &Track) -> Result<&Track, SlateError> {
        let own = self.tracks.first(TrackKind::Video).ok_or(SlateError::NoPictures)?;
        if own.codec.name() != show.codec.name() {
            return Err(SlateError::Codec { slate: own.codec.name(), show: show.codec.name() });
        }
        if let Some((slate, show)) = own.codec.picture_size().zip(show.codec.picture_size())
            && slate != show
        {
            return Err(SlateError::Size { slate, show });
        }
        Ok(own)
    }

    /// The packets of track `from` as those of track `to`.
    fn moved(&self, from: TrackId, to: TrackId) -> impl Iterator<Item = Packet> {
        let of_track = self.packets.iter().filter(move |packet| packet.track == from);
        of_track.map(move |packet| Packet { track: to, ..packet.clone() })
    }

    fn silence(&self, sound: &Track) -> Result<Vec<Packet>, SlateError> {
        let missing = SlateError::Sound { codec: sound.codec.name() };
        let frame = sound.codec.silent_frame().ok_or(missing.clone())?;
        let (rate, samples) = frame_length(&sound.codec, &frame).ok_or(missing)?;
        let packet = |number: i64| {
            let dts = MediaTime::from_ticks(number * samples * waverant_media::TICKS_PER_SECOND / rate);
            Packet {
                track: sound.id,
                kind: TrackKind::Audio,
                dts,
                pts: dts,
                random_access: true,
                payload: frame.clone(),
            }
        };
        // The last frame may reach a little into the next turn; one less would be heard as a gap.
        Ok((0..).map(packet).take_while(|packet| packet.dts < self.length).collect())
    }
}

/// The sample rate, and how many samples a frame has.
fn frame_length(codec: &CodecParameters, frame: &Bytes) -> Option<(i64, i64)> {
    let rate = codec.sound()?.sample_rate;
    let samples = codec.samples_in(frame)?;
    Some((i64::from(rate), i64::from(samples))).filter(|(rate, samples)| *rate > 0 && *samples > 0)
}

#[cfg(test)]
mod tests {
    use waverant_media::testing::{AC3_FRAME_START, aac, h264, h264_and_aac, hevc, opus, tracks};

    use waverant_media::Ac3Config;

    use super::*;

    fn packet(track: TrackId, millis: i64, random_access: bool) -> Packet {
        let kind = if track == TrackId::VIDEO { TrackKind::Video } else { TrackKind::Audio };
        let dts = MediaTime::from_millis(millis);
        Packet { track, kind, dts, pts: dts, random_access, payload: Bytes::from_static(b"clip") }
    }

    fn clip() -> Vec<Packet> {
        let pictures = (0..25).map(|number| packet(TrackId::VIDEO, 100 + number * 40, number == 0));
        pictures.chain((0..50).map(|number| packet(TrackId::AUDIO, 100 + number * 20, true))).collect()
    }

    const SECOND: MediaTime = MediaTime::from_millis(1000);

    #[test]
    fn a_slate_turns_forever_from_zero() {
        let slate = Slate::new(h264_and_aac(), clip(), SECOND).unwrap();
        assert_eq!(slate.packet(0).unwrap().dts, MediaTime::ZERO);
        assert!(slate.packet(75).unwrap().is_keyframe());
        let times: Vec<i64> = (0..300).map(|number| slate.packet(number).unwrap().dts.millis()).collect();
        assert!(times.windows(2).all(|pair| pair[0] <= pair[1]));
        assert_eq!(times[75], 1000);
    }

    #[test]
    fn what_is_no_slate_is_told() {
        let refused = |tracks, packets, length| Slate::new(tracks, packets, length).unwrap_err();
        assert_eq!(refused(Tracks::new(), clip(), SECOND), SlateError::NoPictures);
        assert_eq!(refused(h264_and_aac(), clip().split_off(1), SECOND), SlateError::NoKeyframe);
        let length = MediaTime::from_millis(100);
        assert_eq!(refused(h264_and_aac(), clip(), length), SlateError::Length { length });
    }

    #[test]
    fn sound_is_the_clips_where_it_fits_and_silence_elsewhere() {
        let slate = Slate::new(h264_and_aac(), clip(), SECOND).unwrap();
        let second = TrackId(3);
        let show = tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac()), (second, opus())]);
        let fitted = slate.fitted(&show).unwrap();
        assert_eq!(fitted.tracks().to_string(), "H.264 + AAC + Opus");
        let of = |id| fitted.packets.iter().filter(|packet| packet.track == id).collect::<Vec<_>>();
        assert_eq!((of(TrackId::AUDIO).len(), of(second).len()), (50, 50));
        assert_eq!(of(TrackId::AUDIO)[0].payload, "clip");
        assert_eq!(Some(of(second)[0].payload.clone()), opus().silent_frame());
    }

    #[test]
    fn a_slate_that_does_not_fit_says_why() {
        let slate = Slate::new(h264_and_aac(), clip(), SECOND).unwrap();
        let refused = |show| slate.fitted(&show).unwrap_err().to_string();
        assert_eq!(refused(tracks([(TrackId::VIDEO, hevc())])), "it is H.264, and the show is HEVC: encode it as HEVC");
        let ac3 = CodecParameters::Ac3(Ac3Config::parse(AC3_FRAME_START).unwrap());
        assert!(refused(tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, ac3)])).contains("no AC-3 sound"));
        let other = Slate { tracks: Arc::new(tracks([(TrackId::VIDEO, hevc())])), ..slate.clone() };
        assert!(other.fitted(&tracks([(TrackId::VIDEO, hevc())])).is_ok());
    }
}
