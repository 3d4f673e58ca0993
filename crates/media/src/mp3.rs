use crate::BitReader;
use crate::config_error::ConfigError;

/// Sampling frequencies of MPEG-1 by index; MPEG-2 has half, MPEG-2.5 a quarter of them.
///
/// Source: ISO/IEC 11172-3, 2.4.2.3
const SAMPLE_RATES: [u32; 3] = [44_100, 48_000, 32_000];

/// The parameters of an MP3 track, read from a frame header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mp3Config {
    sample_rate: u32,
    channel_count: u8,
    samples_per_frame: u32,
}

impl Mp3Config {
    /// Reads a frame header.
    ///
    /// # Errors
    /// [`ConfigError`] if it is none of layer III, or cut short.
    pub fn parse(frame: &[u8]) -> Result<Self, ConfigError> {
        let mut reader = BitReader::new(frame);
        if reader.bits(11)? != 0x7ff {
            return Err(ConfigError::Start { expected: "eleven set bits" });
        }
        let divisor = match reader.bits(2)? {
            0 => 4,
            2 => 2,
            3 => 1,
            found => return Err(ConfigError::field("version", found, "0, 2 and 3 are defined")),
        };
        let layer = reader.bits(2)?;
        if layer != 1 {
            return Err(ConfigError::field("layer", layer, "1 (layer III) was expected"));
        }
        reader.skip(1 + 4)?;
        let index = reader.bits(2)?;
        let rate = usize::try_from(index).ok().and_then(|index| SAMPLE_RATES.get(index));
        let rate = rate.ok_or(ConfigError::field("sampling frequency", index, "0 to 2 are defined"))?;
        reader.skip(2)?;
        let channel_count = if reader.bits(2)? == 3 { 1 } else { 2 };
        let samples_per_frame = if divisor == 1 { 1152 } else { 576 };
        Ok(Self { sample_rate: rate / divisor, channel_count, samples_per_frame })
    }

    /// The parameters where only the format of the sound is told, as in a file's head.
    pub fn from_format(sample_rate: u32, channel_count: u8) -> Self {
        Self { sample_rate, channel_count, samples_per_frame: if sample_rate < 32_000 { 576 } else { 1152 } }
    }

    /// In Hz.
    pub fn sample_rate(&self) -> u32 {
        self.sample_rate
    }

    /// Channels.
    pub fn channel_count(&self) -> u8 {
        self.channel_count
    }

    /// Samples per channel in a frame.
    pub fn samples_per_frame(&self) -> u32 {
        self.samples_per_frame
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::stereo_44100(&[0xff, 0xfb, 0x90, 0x00], (44_100, 2, 1152))]
    #[case::mono_48000(&[0xff, 0xfb, 0x94, 0xc0], (48_000, 1, 1152))]
    #[case::half_rate(&[0xff, 0xf3, 0x84, 0x40], (24_000, 2, 576))]
    fn reads_headers(#[case] frame: &[u8], #[case] expected: (u32, u8, u32)) {
        let config = Mp3Config::parse(frame).unwrap();
        assert_eq!((config.sample_rate(), config.channel_count(), config.samples_per_frame()), expected);
    }

    #[rstest]
    #[case::layer_2(&[0xff, 0xfd, 0x90, 0])]
    #[case::reserved_version(&[0xff, 0xeb, 0x90, 0])]
    #[case::reserved_rate(&[0xff, 0xfb, 0x9c, 0])]
    #[case::no_sync(&[0x0f, 0xfb, 0x90, 0])]
    #[case::cut(&[0xff, 0xfb])]
    fn refuses(#[case] frame: &[u8]) {
        assert!(Mp3Config::parse(frame).is_err());
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..8)) {
            let _ = Mp3Config::parse(&bytes);
        }
    }
}
