use bytes::Bytes;
use thiserror::Error;

use crate::{BitReader, OutOfBits};

/// Sampling frequencies by index.
///
/// Source: ISO/IEC 14496-3, table 1.18
const SAMPLE_RATES: [u32; 13] =
    [96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000, 7_350];

/// Why an AudioSpecificConfig could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum AacConfigError {
    /// The configuration is shorter than its own fields.
    #[error("the AudioSpecificConfig is cut short: {0}")]
    Truncated(#[from] OutOfBits),
    /// The sampling frequency index has no meaning.
    #[error("sampling frequency index {0} is reserved; 0 to 12, or 15 with a written frequency, are defined")]
    ReservedFrequency(u32),
    /// The sampling frequency is zero.
    #[error("the sampling frequency is 0 Hz")]
    ZeroFrequency,
}

/// The kind of MPEG-4 audio.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum AudioObjectType {
    /// AAC Main.
    Main,
    /// AAC Low Complexity.
    LowComplexity,
    /// Spectral band replication (HE-AAC).
    SpectralBandReplication,
    /// Parametric stereo (HE-AAC v2).
    ParametricStereo,
    /// Any other type, by its number.
    Other(u8),
}

impl AudioObjectType {
    fn from_number(number: u8) -> Self {
        match number {
            1 => Self::Main,
            2 => Self::LowComplexity,
            5 => Self::SpectralBandReplication,
            29 => Self::ParametricStereo,
            other => Self::Other(other),
        }
    }
}

/// What an AAC decoder must know: object type, sampling frequency, channels.
///
/// Source: ISO/IEC 14496-3, 1.6.2.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AudioSpecificConfig {
    raw: Bytes,
    object_type: AudioObjectType,
    sample_rate: u32,
    channel_configuration: u32,
    channel_count: u8,
    samples_per_frame: u32,
}

impl AudioSpecificConfig {
    /// Reads a configuration and keeps its bytes.
    ///
    /// # Errors
    /// [`AacConfigError`] if it is cut short or uses a reserved value.
    pub fn parse(raw: Bytes) -> Result<Self, AacConfigError> {
        let mut reader = BitReader::new(&raw);
        let object_type = read_object_type(&mut reader)?;
        let mut sample_rate = read_sample_rate(&mut reader)?;
        let channel_configuration = reader.bits(4)?;
        let extended =
            matches!(object_type, AudioObjectType::SpectralBandReplication | AudioObjectType::ParametricStereo);
        if extended {
            // The frame carries half-rate AAC; 1024 of its samples become 2048 on output.
            sample_rate = read_sample_rate(&mut reader)?;
            read_object_type(&mut reader)?;
        }
        let short_frames = reader.bit().unwrap_or(false);
        let core_samples = if short_frames { 960 } else { 1024 };
        let channel_count = channels(channel_configuration, object_type);
        let samples_per_frame = if extended { core_samples * 2 } else { core_samples };
        Ok(Self { object_type, sample_rate, channel_configuration, channel_count, samples_per_frame, raw })
    }

    /// The configuration as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// The kind of AAC.
    pub fn object_type(&self) -> AudioObjectType {
        self.object_type
    }

    /// Output sampling frequency in Hz.
    pub fn sample_rate(&self) -> u32 {
        self.sample_rate
    }

    /// The number of the arrangement of channels; 0 if only the stream itself tells.
    pub fn channel_configuration(&self) -> u32 {
        self.channel_configuration
    }

    /// Output channels; 0 if only the stream itself tells.
    pub fn channel_count(&self) -> u8 {
        self.channel_count
    }

    /// Output samples per channel in one frame.
    pub fn samples_per_frame(&self) -> u32 {
        self.samples_per_frame
    }
}

fn read_object_type(reader: &mut BitReader<'_>) -> Result<AudioObjectType, OutOfBits> {
    let mut number = reader.bits(5)?;
    if number == 31 {
        number = 32 + reader.bits(6)?;
    }
    Ok(AudioObjectType::from_number(u8::try_from(number).unwrap_or(u8::MAX)))
}

fn read_sample_rate(reader: &mut BitReader<'_>) -> Result<u32, AacConfigError> {
    let index = reader.bits(4)?;
    let rate = match usize::try_from(index).ok().and_then(|index| SAMPLE_RATES.get(index)) {
        Some(rate) => *rate,
        None if index == 15 => reader.bits(24)?,
        None => return Err(AacConfigError::ReservedFrequency(index)),
    };
    if rate == 0 {
        return Err(AacConfigError::ZeroFrequency);
    }
    Ok(rate)
}

/// Source: ISO/IEC 14496-3, table 1.19
fn channels(configuration: u32, object_type: AudioObjectType) -> u8 {
    match configuration {
        1 if object_type == AudioObjectType::ParametricStereo => 2,
        1..=6 => u8::try_from(configuration).unwrap_or(0),
        7 | 12 | 14 => 8,
        11 => 7,
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::lc_44100_stereo(&[0x12, 0x10], AudioObjectType::LowComplexity, 44_100, 2, 1024)]
    #[case::lc_48000_stereo(&[0x11, 0x90], AudioObjectType::LowComplexity, 48_000, 2, 1024)]
    #[case::lc_48000_mono(&[0x11, 0x88], AudioObjectType::LowComplexity, 48_000, 1, 1024)]
    #[case::lc_960_samples(&[0x11, 0x94], AudioObjectType::LowComplexity, 48_000, 2, 960)]
    #[case::he_24000_to_48000(&[0x2b, 0x11, 0x88, 0x00], AudioObjectType::SpectralBandReplication, 48_000, 2, 2048)]
    #[case::written_frequency(&[0x17, 0x80, 0x5d, 0xc0, 0x10], AudioObjectType::LowComplexity, 48_000, 2, 1024)]
    fn reads_configurations(
        #[case] bytes: &'static [u8],
        #[case] object_type: AudioObjectType,
        #[case] rate: u32,
        #[case] channels: u8,
        #[case] samples: u32,
    ) {
        let config = AudioSpecificConfig::parse(Bytes::from_static(bytes)).unwrap();
        assert_eq!(config.object_type(), object_type);
        assert_eq!(config.sample_rate(), rate);
        assert_eq!(config.channel_count(), channels);
        assert_eq!(config.samples_per_frame(), samples);
        assert_eq!(config.raw(), bytes);
    }

    #[rstest]
    #[case::empty(&[])]
    #[case::one_byte(&[0x12])]
    #[case::reserved_frequency(&[0x16, 0x90])]
    #[case::zero_frequency(&[0x17, 0x80, 0x00, 0x00, 0x10])]
    fn refuses(#[case] bytes: &'static [u8]) {
        assert!(AudioSpecificConfig::parse(Bytes::from_static(bytes)).is_err());
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            if let Ok(config) = AudioSpecificConfig::parse(Bytes::from(bytes)) {
                prop_assert!(config.sample_rate() > 0);
                prop_assert!(config.channel_count() <= 8);
            }
        }
    }
}
