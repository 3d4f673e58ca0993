use std::fmt;
use std::sync::Arc;

use bytes::Bytes;

use crate::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, Colour, FlacConfig, HevcDecoderConfig, Mp3Config,
    OpusConfig, Sampling, Vp9Config,
};

/// The number of a track within its session: even for pictures, odd for sound, rising by two.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TrackId(pub u8);

impl TrackId {
    /// The video track of a source that has only one.
    pub const VIDEO: Self = Self(0);
    /// The first audio track.
    pub const AUDIO: Self = Self(1);

    /// The track of `kind` at `place`, counted from 0; none beyond the 128th.
    pub fn at(kind: TrackKind, place: u8) -> Option<Self> {
        let first = if kind == TrackKind::Video { Self::VIDEO.0 } else { Self::AUDIO.0 };
        Some(Self(place.checked_mul(2)?.checked_add(first)?))
    }

    /// What a track with this number carries.
    pub fn kind(self) -> TrackKind {
        if self.0.is_multiple_of(2) { TrackKind::Video } else { TrackKind::Audio }
    }

    /// The place among the tracks of its kind, counted from 0.
    pub fn place(self) -> u8 {
        self.0 / 2
    }
}

/// Whether a track is seen or heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TrackKind {
    /// Pictures.
    Video,
    /// Sound.
    Audio,
}

/// A track's codec with what a decoder must know before the first packet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CodecParameters {
    /// H.264 (ISO/IEC 14496-10).
    H264(AvcDecoderConfig),
    /// HEVC (ISO/IEC 23008-2).
    Hevc(HevcDecoderConfig),
    /// AV1.
    Av1(Av1Config),
    /// VP9.
    Vp9(Vp9Config),
    /// AAC (ISO/IEC 14496-3).
    Aac(AudioSpecificConfig),
    /// Opus (RFC 6716).
    Opus(OpusConfig),
    /// FLAC (RFC 9639).
    Flac(FlacConfig),
    /// AC-3 and Enhanced AC-3 (ETSI TS 102 366).
    Ac3(Ac3Config),
    /// MP3 and MP2 (ISO/IEC 11172-3 and 13818-3, layers III and II).
    Mp3(Mp3Config),
}

/// What is known of a track's sound.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SoundFormat {
    /// Output sampling frequency in Hz.
    pub sample_rate: u32,
    /// Output channels; 0 if only the stream itself tells.
    pub channel_count: u8,
    /// Samples per channel in a usual frame.
    pub samples_per_frame: u32,
}

impl CodecParameters {
    /// Whether the codec is one for pictures or for sound.
    pub fn kind(&self) -> TrackKind {
        match self {
            Self::H264(_) | Self::Hevc(_) | Self::Av1(_) | Self::Vp9(_) => TrackKind::Video,
            Self::Aac(_) | Self::Opus(_) | Self::Flac(_) | Self::Ac3(_) | Self::Mp3(_) => TrackKind::Audio,
        }
    }

    /// The codec's name as people write it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::H264(_) => "H.264",
            Self::Hevc(_) => "HEVC",
            Self::Av1(_) => "AV1",
            Self::Vp9(_) => "VP9",
            Self::Aac(_) => "AAC",
            Self::Opus(_) => "Opus",
            Self::Flac(_) => "FLAC",
            Self::Ac3(config) if config.is_enhanced() => "E-AC-3",
            Self::Ac3(_) => "AC-3",
            Self::Mp3(config) if config.layer() == 2 => "MP2",
            Self::Mp3(_) => "MP3",
        }
    }

    /// The profile's name, where the codec has profiles.
    pub fn profile_name(&self) -> Option<&'static str> {
        match self {
            Self::H264(config) => Some(config.sequence().profile_name()),
            Self::Hevc(config) => Some(config.profile_name()),
            Self::Av1(config) => Some(config.profile_name()),
            _ => None,
        }
    }

    /// What a decoder is given before the first packet, as it was received. None for codecs
    /// whose frames tell all.
    pub fn decoder_config(&self) -> Option<&Bytes> {
        match self {
            Self::H264(config) => Some(config.raw()),
            Self::Hevc(config) => Some(config.raw()),
            Self::Av1(config) => Some(config.raw()),
            Self::Vp9(config) => Some(config.raw()),
            Self::Aac(config) => Some(config.raw()),
            Self::Opus(config) => Some(config.raw()),
            Self::Flac(config) => Some(config.raw()),
            Self::Ac3(_) | Self::Mp3(_) => None,
        }
    }

    /// Width and height in pixels, where the parameters tell.
    pub fn picture_size(&self) -> Option<(u32, u32)> {
        match self {
            Self::H264(config) => Some((config.sequence().width, config.sequence().height)),
            Self::Hevc(config) => config.sequence().map(|sequence| (sequence.width, sequence.height)),
            Self::Av1(config) => config.size(),
            _ => None,
        }
    }

    /// How pictures are sampled, where the parameters tell.
    pub fn sampling(&self) -> Option<Sampling> {
        let of = |chroma_format, (bit_depth, _): (u8, u8)| Sampling { chroma_format, bit_depth };
        match self {
            Self::H264(config) => Some(of(config.sequence().chroma_format, config.sequence().bit_depths)),
            Self::Hevc(config) => config.sequence().map(|sequence| of(sequence.chroma_format, sequence.bit_depths)),
            Self::Av1(config) => Some(config.sampling()),
            Self::Vp9(config) => Some(config.sampling()),
            _ => None,
        }
    }

    /// How colours are to be shown, where the parameters tell.
    pub fn colour(&self) -> Option<Colour> {
        match self {
            Self::H264(config) => config.sequence().colour,
            Self::Hevc(config) => config.sequence().and_then(|sequence| sequence.colour),
            Self::Av1(config) => config.colour(),
            Self::Vp9(config) => Some(config.colour()),
            _ => None,
        }
    }

    /// The level as people write it, where the codec has levels and the parameters tell.
    pub fn level(&self) -> Option<String> {
        let tenths = |tenths: u8| format!("{}.{}", tenths / 10, tenths % 10);
        match self {
            Self::H264(config) => Some(tenths(config.sequence().level)),
            Self::Hevc(config) => Some(tenths(config.level() / 3)),
            Self::Av1(config) => config.raw().get(1).map(|byte| byte & 0x1f).filter(|level| *level < 24).map(|level| {
                // Source: AV1 Bitstream & Decoding Process, A.3
                format!("{}.{}", 2 + level / 4, level % 4)
            }),
            _ => None,
        }
    }

    /// Width and height in pixels as a keyframe tells them, where the parameters do not.
    pub fn picture_size_in(&self, keyframe: &[u8]) -> Option<(u32, u32)> {
        match self {
            Self::Vp9(_) => Vp9Config::picture_size_in(keyframe),
            _ => self.picture_size(),
        }
    }

    /// Pictures per second, where the parameters tell.
    pub fn frame_rate(&self) -> Option<f64> {
        match self {
            Self::H264(config) => {
                let (numerator, denominator) = config.sequence().frame_rate?;
                Some(f64::from(numerator) / f64::from(denominator))
            }
            Self::Hevc(config) => config.frame_rate(),
            _ => None,
        }
    }

    /// What is known of the sound; none for pictures.
    pub fn sound(&self) -> Option<SoundFormat> {
        let (sample_rate, channel_count, samples_per_frame) = match self {
            Self::Aac(config) => (config.sample_rate(), config.channel_count(), config.samples_per_frame()),
            Self::Opus(config) => (config.sample_rate(), config.channel_count(), 960),
            Self::Flac(config) => (config.sample_rate(), config.channel_count(), config.block_size()),
            Self::Ac3(config) => (config.sample_rate(), config.channel_count(), config.samples_per_frame()),
            Self::Mp3(config) => (config.sample_rate(), config.channel_count(), config.samples_per_frame()),
            _ => return None,
        };
        Some(SoundFormat { sample_rate, channel_count, samples_per_frame })
    }

    /// True if a picture that is shown before the keyframe sent before it can be decoded from there on: then nothing
    /// of the group before is needed. Only HEVC says so of its pictures.
    pub fn is_decodable_leading(&self, payload: &[u8]) -> bool {
        match self {
            Self::Hevc(config) => config.is_decodable_leading(payload),
            _ => false,
        }
    }

    /// Samples per channel in one frame of sound, where frames differ in length; otherwise those
    /// of every frame. None for pictures.
    pub fn samples_in(&self, frame: &[u8]) -> Option<u32> {
        let usual = self.sound()?.samples_per_frame;
        Some(match self {
            Self::Opus(_) => OpusConfig::samples_in(frame).unwrap_or(usual),
            Self::Flac(_) => FlacConfig::samples_in(frame).unwrap_or(usual),
            _ => usual,
        })
    }
}

/// One elementary stream of a session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Track {
    /// The track's number; unique within the session.
    pub id: TrackId,
    /// Codec and decoder configuration.
    pub codec: CodecParameters,
    /// Colour metadata (HDR) as the publisher described it, as the AMF values of Enhanced RTMP.
    pub colour_info: Option<Bytes>,
    /// The language as the publisher gives it, such as `de` (RFC 5646).
    pub language: Option<Arc<str>>,
    /// The track's name as the publisher gives it.
    pub name: Option<Arc<str>>,
}

impl Track {
    /// A track of which no more is told.
    pub fn new(id: TrackId, codec: CodecParameters) -> Self {
        Self { id, codec, colour_info: None, language: None, name: None }
    }
}

/// The tracks of a session as they are at one moment.
///
/// A publisher may change parameters in mid-show; then a new set takes the place of the old one
/// and readers tell the two apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tracks(Vec<Track>);

impl Tracks {
    /// An empty set.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds a track, or replaces the one with the same number.
    pub fn set(&mut self, track: Track) {
        match self.0.iter_mut().find(|old| old.id == track.id) {
            Some(old) => *old = track,
            None => {
                self.0.push(track);
                self.0.sort_by_key(|track| track.id);
            }
        }
    }

    /// The tracks by rising number.
    pub fn iter(&self) -> impl Iterator<Item = &Track> {
        self.0.iter()
    }

    /// The track with number `id`.
    pub fn get(&self, id: TrackId) -> Option<&Track> {
        self.0.iter().find(|track| track.id == id)
    }

    /// How many tracks there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// True if no track is known yet.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// True if any track is of `kind`.
    pub fn has(&self, kind: TrackKind) -> bool {
        self.0.iter().any(|track| track.codec.kind() == kind)
    }

    /// The first track of `kind`.
    pub fn first(&self, kind: TrackKind) -> Option<&Track> {
        self.0.iter().find(|track| track.codec.kind() == kind)
    }
}

impl fmt::Display for Tracks {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, track) in self.0.iter().enumerate() {
            if place > 0 {
                out.write_str(" + ")?;
            }
            out.write_str(track.codec.name())?;
        }
        Ok(())
    }
}
