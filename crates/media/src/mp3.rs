use crate::BitReader;
use crate::config_error::ConfigError;

/// Sampling frequencies of MPEG-1 by index; MPEG-2 has half, MPEG-2.5 a quarter of them.
///
/// Source: ISO/IEC 11172-3, 2.4.2.3
const SAMPLE_RATES: [u32; 3] = [44_100, 48_000, 32_000];

/// Bit rates in kbit/s by index, of MPEG-1 layers II and III, and of both in MPEG-2.
///
/// Source: ISO/IEC 11172-3, 2.4.2.3; ISO/IEC 13818-3, 2.4.2.3
const RATES_1_LAYER_2: [u32; 14] = [32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384];
const RATES_1_LAYER_3: [u32; 14] = [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320];
const RATES_2: [u32; 14] = [8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160];

/// The parameters of an MPEG audio track of layer III (MP3) or II (MP2), read from a frame header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mp3Config {
    sample_rate: u32,
    channel_count: u8,
    samples_per_frame: u32,
    layer: u8,
}

impl Mp3Config {
    /// Reads a frame header.
    ///
    /// # Errors
    /// [`ConfigError`] if it is none of layer III or II, or cut short.
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
        let layer = match reader.bits(2)? {
            1 => 3,
            2 => 2,
            found => return Err(ConfigError::field("layer", found, "1 (layer III) or 2 (layer II) was expected")),
        };
        reader.skip(1 + 4)?;
        let index = reader.bits(2)?;
        let rate = usize::try_from(index).ok().and_then(|index| SAMPLE_RATES.get(index));
        let rate = rate.ok_or(ConfigError::field("sampling frequency", index, "0 to 2 are defined"))?;
        reader.skip(2)?;
        let channel_count = if reader.bits(2)? == 3 { 1 } else { 2 };
        let samples_per_frame = if divisor == 1 || layer == 2 { 1152 } else { 576 };
        Ok(Self { sample_rate: rate / divisor, channel_count, samples_per_frame, layer })
    }

    /// The parameters where only the format of the sound is told, as in a file's head.
    pub fn from_format(sample_rate: u32, channel_count: u8) -> Self {
        let samples_per_frame = if sample_rate < 32_000 { 576 } else { 1152 };
        Self { sample_rate, channel_count, samples_per_frame, layer: 3 }
    }

    /// The same format in another layer.
    #[must_use]
    pub fn with_layer(self, layer: u8) -> Self {
        let samples_per_frame = if layer == 2 { 1152 } else { self.samples_per_frame };
        Self { layer, samples_per_frame, ..self }
    }

    /// Bytes of the frame that begins with `header`; None if its bit rate is free or reserved.
    pub fn frame_length(&self, header: &[u8]) -> Option<usize> {
        let byte = *header.get(2)?;
        let index = usize::from(byte >> 4).checked_sub(1)?;
        let is_first = self.sample_rate >= 32_000;
        let rates = match (is_first, self.layer) {
            (true, 2) => &RATES_1_LAYER_2,
            (true, _) => &RATES_1_LAYER_3,
            _ => &RATES_2,
        };
        let bytes = self.samples_per_frame / 8 * rates.get(index)? * 1000 / self.sample_rate + u32::from(byte >> 1 & 1);
        usize::try_from(bytes).ok()
    }

    /// 3 for MP3, 2 for MP2.
    pub fn layer(&self) -> u8 {
        self.layer
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
    #[case::mp3_128(&[0xff, 0xfb, 0x90, 0x00], 3, Some(417))]
    #[case::mp3_128_padded(&[0xff, 0xfb, 0x92, 0x00], 3, Some(418))]
    #[case::mp3_half_rate(&[0xff, 0xf3, 0x84, 0x40], 3, Some(192))]
    #[case::mp2_192(&[0xff, 0xfd, 0xa4, 0x00], 2, Some(576))]
    #[case::free(&[0xff, 0xfb, 0x00, 0x00], 3, None)]
    fn tells_lengths(#[case] frame: &[u8], #[case] layer: u8, #[case] length: Option<usize>) {
        let config = Mp3Config::parse(frame).unwrap();
        assert_eq!((config.layer(), config.frame_length(frame)), (layer, length));
    }

    #[rstest]
    #[case::layer_1(&[0xff, 0xff, 0x90, 0])]
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
