use std::fmt;

use waverant_media::CodecParameters;

/// A codec as tags name it: by a number, or by four letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum TagCodec {
    /// H.264: number 7, or `avc1`.
    Avc,
    /// HEVC: `hvc1`, and number 12 of encoders older than that.
    Hevc,
    /// AV1: `av01`.
    Av1,
    /// VP9: `vp09`.
    Vp9,
    /// AAC: number 10, or `mp4a`.
    Aac,
    /// Opus: `Opus`.
    Opus,
    /// FLAC: `fLaC`.
    Flac,
    /// AC-3: `ac-3`.
    Ac3,
    /// Enhanced AC-3: `ec-3`.
    Eac3,
    /// MP3: numbers 2 and 14, or `.mp3`.
    Mp3,
    /// A codec number of pictures that is not carried.
    VideoNumber(u8),
    /// A sound format number that is not carried.
    SoundNumber(u8),
    /// Four letters that are not carried.
    Letters([u8; 4]),
}

impl TagCodec {
    /// All that have letters, those of pictures first.
    pub const WITH_LETTERS: [Self; 10] = [
        Self::Avc,
        Self::Hevc,
        Self::Av1,
        Self::Vp9,
        Self::Aac,
        Self::Opus,
        Self::Flac,
        Self::Ac3,
        Self::Eac3,
        Self::Mp3,
    ];

    /// The codec of a track.
    pub fn of(parameters: &CodecParameters) -> Option<Self> {
        Some(match parameters {
            CodecParameters::H264(_) => Self::Avc,
            CodecParameters::Hevc(_) => Self::Hevc,
            CodecParameters::Av1(_) => Self::Av1,
            CodecParameters::Vp9(_) => Self::Vp9,
            CodecParameters::Aac(_) => Self::Aac,
            CodecParameters::Opus(_) => Self::Opus,
            CodecParameters::Flac(_) => Self::Flac,
            CodecParameters::Ac3(config) if config.is_enhanced() => Self::Eac3,
            CodecParameters::Ac3(_) => Self::Ac3,
            // Tags have no number or letters for layer II.
            CodecParameters::Mp3(config) if config.layer() != 3 => return None,
            CodecParameters::Mp3(_) => Self::Mp3,
            _ => return None,
        })
    }

    /// Source: FLV 10.1, E.4.3.1
    pub(super) fn from_video_number(number: u8) -> Self {
        match number {
            7 => Self::Avc,
            12 => Self::Hevc,
            other => Self::VideoNumber(other),
        }
    }

    /// Source: FLV 10.1, E.4.2.1
    pub(super) fn from_sound_number(number: u8) -> Self {
        match number {
            10 => Self::Aac,
            2 | 14 => Self::Mp3,
            other => Self::SoundNumber(other),
        }
    }

    /// Source: E-RTMP 2, Enhanced Audio and Enhanced Video, FOURCC
    pub(super) fn from_letters(letters: [u8; 4]) -> Self {
        Self::WITH_LETTERS.into_iter().find(|codec| codec.letters() == Some(letters)).unwrap_or(Self::Letters(letters))
    }

    /// The four letters, if the codec has some.
    pub fn letters(self) -> Option<[u8; 4]> {
        Some(*match self {
            Self::Avc => b"avc1",
            Self::Hevc => b"hvc1",
            Self::Av1 => b"av01",
            Self::Vp9 => b"vp09",
            Self::Aac => b"mp4a",
            Self::Opus => b"Opus",
            Self::Flac => b"fLaC",
            Self::Ac3 => b"ac-3",
            Self::Eac3 => b"ec-3",
            Self::Mp3 => b".mp3",
            Self::Letters(letters) => return Some(letters),
            Self::VideoNumber(_) | Self::SoundNumber(_) => return None,
        })
    }

    /// True for the codecs that every RTMP peer knows: they go without letters.
    pub fn has_first_form(self) -> bool {
        matches!(self, Self::Avc | Self::Aac | Self::Mp3)
    }

    /// True if frames carry a composition time.
    pub(super) fn is_reordered(self) -> bool {
        matches!(self, Self::Avc | Self::Hevc)
    }

    /// True if the codec is not carried.
    pub fn is_unknown(self) -> bool {
        matches!(self, Self::VideoNumber(_) | Self::SoundNumber(_) | Self::Letters(_))
    }
}

impl fmt::Display for TagCodec {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::VideoNumber(number) => write!(out, "video codec {number}"),
            Self::SoundNumber(number) => write!(out, "sound format {number}"),
            codec => write!(out, "codec `{}`", codec.letters().unwrap_or_default().escape_ascii()),
        }
    }
}
