//! Sound decoded to be judged.

use std::fmt;

use bytes::Bytes;
use serde::{Deserialize, Serialize};
use symphonia_bundle_flac::FlacDecoder;
use symphonia_bundle_mp3::MpaDecoder;
use symphonia_codec_aac::AacDecoder;
use symphonia_core::codecs::audio::well_known::{CODEC_ID_AAC, CODEC_ID_FLAC, CODEC_ID_MP2, CODEC_ID_MP3};
use symphonia_core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia_core::packet::PacketRef;
use symphonia_core::units::{Duration, Timestamp};
use thiserror::Error;
use waverant_media::{AudioObjectType, CodecParameters};

/// Opus is decoded at this rate.
const OPUS_RATE: u32 = 48_000;

/// The longest Opus packet, in samples per channel (RFC 6716, 3.1).
const OPUS_LONGEST: usize = 5760;

/// A frame that decodes to more than this many samples of all channels together is damaged.
const MOST_SAMPLES: usize = 8 * 65_536;

/// Frames that come together decode to no more samples than this; what is above is taken for damaged.
const MOST_TOGETHER: usize = 8 * MOST_SAMPLES;

/// What came of a frame of sound.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum SoundPiece {
    /// It cannot be decoded.
    Damaged,
    /// It was decoded, but sounds of what came before it, which is not known.
    LedIn,
    /// It was decoded.
    Heard {
        /// In Hz.
        rate: u32,
        /// How many channels.
        channels: usize,
        /// Of all channels in turn, from -1 to 1.
        samples: Vec<f32>,
    },
}

/// Why sound is not listened to.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0} is not listened to here")]
pub(crate) struct NotDecoded(pub(crate) String);

/// Decodes the frames of one track.
pub(crate) struct SoundDecoder {
    kind: Kind,
    rate: u32,
    channels: usize,
    samples: Vec<f32>,
}

enum Kind {
    Pure(Box<dyn AudioDecoder>),
    Opus(opus::Decoder),
}

impl fmt::Debug for SoundDecoder {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("SoundDecoder")
            .field("rate", &self.rate)
            .field("channels", &self.channels)
            .finish_non_exhaustive()
    }
}

impl SoundDecoder {
    /// A decoder for sound of this kind.
    ///
    /// # Errors
    /// [`NotDecoded`] if there is none here.
    pub(crate) fn new(codec: &CodecParameters) -> Result<Self, NotDecoded> {
        let not = || NotDecoded(codec.name().to_owned());
        let sound = codec.sound().ok_or_else(not)?;
        let mut parameters = AudioCodecParameters::new();
        parameters.with_sample_rate(sound.sample_rate);
        let options = AudioDecoderOptions::default();
        let (kind, rate) = match codec {
            CodecParameters::Aac(config) => {
                let is_plain = config.object_type() == AudioObjectType::LowComplexity;
                is_plain
                    .then_some(())
                    .ok_or_else(|| NotDecoded(format!("AAC of the kind {:?}", config.object_type())))?;
                parameters.for_codec(CODEC_ID_AAC).with_extra_data(config.raw().to_vec().into());
                (AacDecoder::try_new(&parameters, &options).map(boxed), sound.sample_rate)
            }
            CodecParameters::Flac(config) => {
                // Without the header of its block.
                parameters.for_codec(CODEC_ID_FLAC).with_extra_data(config.stream_info().split_off(4).into());
                (FlacDecoder::try_new(&parameters, &options).map(boxed), sound.sample_rate)
            }
            CodecParameters::Mp3(config) => {
                parameters.for_codec(if config.layer() == 2 { CODEC_ID_MP2 } else { CODEC_ID_MP3 });
                (MpaDecoder::try_new(&parameters, &options).map(boxed), sound.sample_rate)
            }
            CodecParameters::Opus(_) if sound.channel_count <= 2 => {
                let channels = if sound.channel_count == 1 { opus::Channels::Mono } else { opus::Channels::Stereo };
                let decoder = opus::Decoder::new(OPUS_RATE, channels).map_err(|_| not())?;
                (Ok(Kind::Opus(decoder)), OPUS_RATE)
            }
            _ => return Err(not()),
        };
        let kind = kind.map_err(|error| NotDecoded(format!("{} of this kind ({error})", codec.name())))?;
        Ok(Self { kind, rate, channels: sound.channel_count.into(), samples: Vec::new() })
    }

    /// What comes next does not follow what came before.
    fn reset(&mut self) {
        match &mut self.kind {
            Kind::Pure(decoder) => decoder.reset(),
            // It fails only for a decoder that was not made.
            Kind::Opus(decoder) => drop(decoder.reset_state()),
        }
    }

    /// Decodes a frame: its rate in Hz, its channels, and the samples of all channels in turn. None for one that is
    /// damaged.
    fn decode(&mut self, frame: &[u8]) -> Option<(u32, usize, &[f32])> {
        self.samples.clear();
        match &mut self.kind {
            Kind::Pure(decoder) => {
                let packet = PacketRef::new(0, Timestamp::ZERO, Duration::ZERO, frame);
                let decoded = decoder.decode_ref(&packet).ok()?;
                if decoded.samples_interleaved() > MOST_SAMPLES {
                    return None;
                }
                self.channels = decoded.num_planes();
                decoded.copy_to_vec_interleaved(&mut self.samples);
            }
            Kind::Opus(decoder) => {
                self.samples.resize(OPUS_LONGEST * self.channels, 0.0);
                let length = decoder.decode_float(frame, &mut self.samples, false).ok()?;
                self.samples.truncate(length * self.channels);
            }
        }
        (self.channels > 0).then_some((self.rate, self.channels, &self.samples[..]))
    }

    /// Decodes frames in a row, from where nothing is known of what was before.
    pub(crate) fn decode_all<'a>(&mut self, frames: impl Iterator<Item = &'a Bytes>) -> Vec<SoundPiece> {
        let (mut is_cut, mut room) = (true, MOST_TOGETHER);
        let pieces = frames.map(|frame| {
            if is_cut {
                self.reset();
            }
            let decoded = self.decode(frame).filter(|(.., samples)| samples.len() <= room);
            let Some((rate, channels, samples)) = decoded else {
                is_cut = true;
                return SoundPiece::Damaged;
            };
            if std::mem::take(&mut is_cut) {
                return SoundPiece::LedIn;
            }
            room -= samples.len();
            SoundPiece::Heard { rate, channels, samples: samples.to_vec() }
        });
        pieces.collect()
    }
}

/// How many frames before a piece of sound are decoded with it, so that it sounds as in the stream: one overlaps with
/// the next; an Opus decoder needs 80 ms (RFC 7845, 4.6), and an MP3 frame may have its bits in several before it.
pub(crate) fn lead_in(codec: &CodecParameters) -> usize {
    match codec {
        CodecParameters::Opus(_) => 4,
        CodecParameters::Mp3(_) => 10,
        _ => 1,
    }
}

fn boxed(decoder: impl AudioDecoder + 'static) -> Kind {
    Kind::Pure(Box::new(decoder))
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use bytes::Bytes;
    use proptest::prelude::*;
    use waverant_media::{FlacConfig, OpusConfig, testing};

    use super::*;

    #[expect(clippy::cast_possible_truncation, reason = "half of full scale")]
    fn tone(at: usize) -> f32 {
        ((TAU * 997.0 * at as f64 / 48_000.0).sin() * 0.5) as f32
    }

    fn peak(samples: &[f32]) -> f32 {
        samples.iter().fold(0.0, |most, sample| sample.abs().max(most))
    }

    #[test]
    fn opus_is_decoded() {
        let config = OpusConfig::parse(Bytes::from_static(testing::OPUS_HEADER)).unwrap();
        let mut decoder = SoundDecoder::new(&CodecParameters::Opus(config)).unwrap();
        let mut encoder = opus::Encoder::new(48_000, opus::Channels::Stereo, opus::Application::Audio).unwrap();
        let mut loudest = 0.0;
        for frame in 0..50 {
            let samples: Vec<f32> = (frame * 960..(frame + 1) * 960).flat_map(|at| [tone(at), 0.0]).collect();
            let packet = encoder.encode_vec_float(&samples, 4000).unwrap();
            let (rate, channels, decoded) = decoder.decode(&packet).unwrap();
            assert_eq!((rate, channels, decoded.len()), (48_000, 2, 1920));
            loudest = peak(decoded);
        }
        assert!((loudest - 0.5).abs() < 0.05, "{loudest}");
    }

    #[test]
    fn flac_is_decoded() {
        let config = FlacConfig::parse(Bytes::from_static(testing::FLAC_HEADER)).unwrap();
        let mut decoder = SoundDecoder::new(&CodecParameters::Flac(config)).unwrap();
        #[expect(clippy::cast_possible_truncation, reason = "half of full scale")]
        let samples: Vec<[i16; 2]> = (0..4096).map(|at| [(tone(at) * 32_767.0) as i16, -5]).collect();
        let frame = testing::flac_frame(0, &samples);
        let (rate, channels, decoded) = decoder.decode(&frame).unwrap();
        assert_eq!((rate, channels, decoded.len()), (48_000, 2, 8192));
        assert!((peak(decoded) - 0.5).abs() < 0.001);
        assert_eq!(decoder.decode(&frame[..100]), None);
    }

    #[test]
    fn what_cannot_be_decoded_is_named() {
        let ac3 = SoundDecoder::new(&testing::ac3()).unwrap_err();
        assert_eq!(ac3.to_string(), "AC-3 is not listened to here");
        assert!(SoundDecoder::new(&testing::h264()).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn any_frames_are_decoded_or_not(frames in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..600), 1..8)) {
            for codec in [testing::aac(), testing::opus(), testing::flac(), testing::mp3()] {
                let mut decoder = SoundDecoder::new(&codec).unwrap();
                for frame in &frames {
                    let _ = decoder.decode(frame);
                }
            }
        }
    }
}
