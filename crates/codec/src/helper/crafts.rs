//! What a helper is asked to do, and how it is done, in whichever process.

use bytes::Bytes;
use serde::{Deserialize, Serialize};
use waverant_media::{
    AudioSpecificConfig, AvcDecoderConfig, CodecParameters, FlacConfig, Mp3Config, OpusConfig, Packet,
};

use crate::avc::Encoded;
use crate::sound::{SoundDecoder, SoundPiece};
use crate::{EncodeError, StillError, glance, holding, still, test_picture};

/// One piece of work. Each stands alone.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Task {
    /// How bright a keyframe is.
    Glance { config: Bytes, keyframe: Bytes },
    /// A keyframe no wider than this.
    Still { config: Bytes, keyframe: Bytes, width: usize },
    /// A keyframe as JPEG, in each of these widths; the widest first.
    Jpegs { config: Bytes, keyframe: Bytes, widths: Vec<usize> },
    /// Frames of sound in a row, behind some that only lead in.
    Sound { codec: SoundCodec, lead_in: Vec<Bytes>, frames: Vec<Bytes> },
    /// The holding picture.
    Holding { width: u32, height: u32, frame_rate: f64 },
    /// The pictures of the test picture.
    Test { width: u32, height: u32, frame_rate: f64, keyframe_seconds: f64 },
}

/// Sound, as it is told to a helper.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) enum SoundCodec {
    Aac(Bytes),
    Opus(Bytes),
    Flac(Bytes),
    Mp3 { sample_rate: u32, channel_count: u8, layer: u8 },
}

/// What came of a task.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Outcome {
    Glance(Result<Vec<u8>, StillError>),
    Still(Result<(usize, usize, Bytes), StillError>),
    Jpegs(Result<Vec<Bytes>, StillError>),
    Sound(Result<Vec<SoundPiece>, String>),
    Pictures(Result<Pictures, EncodeError>),
    /// The work broke off by a fault of ours.
    Panicked(String),
}

/// Encoded pictures.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Pictures {
    config: Bytes,
    /// Each with whether decoding may begin there; their times follow from their numbers.
    pictures: Vec<(bool, Bytes)>,
}

impl SoundCodec {
    /// None for sound that nobody decodes here.
    pub(super) fn of(codec: &CodecParameters) -> Option<Self> {
        Some(match codec {
            CodecParameters::Aac(config) => Self::Aac(config.raw().clone()),
            CodecParameters::Opus(config) => Self::Opus(config.raw().clone()),
            CodecParameters::Flac(config) => Self::Flac(config.raw().clone()),
            CodecParameters::Mp3(config) => Self::Mp3 {
                sample_rate: config.sample_rate(),
                channel_count: config.channel_count(),
                layer: config.layer(),
            },
            _ => return None,
        })
    }

    fn parameters(self) -> Result<CodecParameters, String> {
        let told = |error: &dyn std::fmt::Display| error.to_string();
        Ok(match self {
            Self::Aac(raw) => CodecParameters::Aac(AudioSpecificConfig::parse(raw).map_err(|error| told(&error))?),
            Self::Opus(raw) => CodecParameters::Opus(OpusConfig::parse(raw).map_err(|error| told(&error))?),
            Self::Flac(raw) => CodecParameters::Flac(FlacConfig::parse(raw).map_err(|error| told(&error))?),
            Self::Mp3 { sample_rate, channel_count, layer } => {
                CodecParameters::Mp3(Mp3Config::from_format(sample_rate, channel_count).with_layer(layer))
            }
        })
    }
}

impl Pictures {
    fn new((avc, packets): Encoded) -> Self {
        let pictures = packets.into_iter().map(|packet| (packet.random_access, packet.payload));
        Self { config: avc.raw().clone(), pictures: pictures.collect() }
    }

    pub(super) fn into_encoded(self, format: &crate::PictureFormat) -> Result<Encoded, EncodeError> {
        let avc = AvcDecoderConfig::parse(self.config).map_err(|error| EncodeError::Encoder(error.to_string()))?;
        let packets = (0..).zip(self.pictures).map(|(number, (random_access, payload))| Packet {
            random_access,
            payload,
            ..format.packet(number)
        });
        Ok((avc, packets.collect()))
    }
}

/// Does a task.
pub(super) fn perform(task: Task) -> Outcome {
    match task {
        Task::Glance { config, keyframe } => {
            Outcome::Glance(with_picture(config, |codec| glance::glance(codec, &keyframe).map(|seen| seen.points)))
        }
        Task::Still { config, keyframe, width } => Outcome::Still(with_picture(config, |codec| {
            let still = still::decode_keyframe(codec, &keyframe)?.within(width);
            let (width, height) = still.size();
            Ok((width, height, still.into_pixels().into()))
        })),
        Task::Jpegs { config, keyframe, widths } => Outcome::Jpegs(with_picture(config, |codec| {
            let mut still = still::decode_keyframe(codec, &keyframe)?;
            // Each is scaled down from the next wider: that costs least.
            let jpegs = widths.iter().map(|width| {
                still = still.within(*width);
                still.to_jpeg().map(Bytes::from)
            });
            jpegs.collect()
        })),
        Task::Sound { codec, lead_in, frames } => Outcome::Sound(hear(codec, &lead_in, &frames)),
        Task::Holding { width, height, frame_rate } => {
            Outcome::Pictures(holding::encoded(width, height, frame_rate).map(Pictures::new))
        }
        Task::Test { width, height, frame_rate, keyframe_seconds } => {
            Outcome::Pictures(test_picture::encoded(width, height, frame_rate, keyframe_seconds).map(Pictures::new))
        }
    }
}

fn with_picture<T>(
    config: Bytes,
    work: impl FnOnce(&CodecParameters) -> Result<T, StillError>,
) -> Result<T, StillError> {
    let config = AvcDecoderConfig::parse(config).map_err(|error| StillError::Decoder(error.to_string()))?;
    work(&CodecParameters::H264(config))
}

fn hear(codec: SoundCodec, lead_in: &[Bytes], frames: &[Bytes]) -> Result<Vec<SoundPiece>, String> {
    let mut decoder = SoundDecoder::new(&codec.parameters()?).map_err(|not| not.to_string())?;
    let mut pieces = decoder.decode_all(lead_in.iter().chain(frames));
    pieces.drain(..lead_in.len());
    Ok(pieces)
}
