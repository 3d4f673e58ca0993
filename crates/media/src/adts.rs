use bytes::Bytes;

use crate::{AacConfigError, AudioSpecificConfig};

/// The header of an AAC frame in an audio data transport stream.
///
/// Source: ISO/IEC 14496-3, 1.A.2
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AdtsHeader {
    /// Audio object type.
    object_type: u8,
    frequency_index: u8,
    channel_configuration: u8,
    /// Bytes of this header: 7, or 9 with a check sum.
    pub length: usize,
    /// Bytes of header and frame.
    pub frame_length: usize,
    /// Raw data blocks in the frame; all known encoders put one.
    pub block_count: u8,
}

/// The length of a header without a check sum.
const SHORT: usize = 7;

impl AdtsHeader {
    /// Bytes from which on a header can be read.
    pub const NEEDED: usize = SHORT;

    /// Reads a header; None if there is none.
    pub fn parse(raw: &[u8]) -> Option<Self> {
        let raw: &[u8; SHORT] = raw.first_chunk()?;
        if raw[0] != 0xff || raw[1] & 0xf6 != 0xf0 {
            return None;
        }
        let length = if raw[1] & 1 == 1 { SHORT } else { SHORT + 2 };
        let frame_length = usize::from(raw[3] & 3) << 11 | usize::from(raw[4]) << 3 | usize::from(raw[5] >> 5);
        let frequency_index = raw[2] >> 2 & 0xf;
        if frame_length <= length || frequency_index > 12 {
            return None;
        }
        Some(Self {
            object_type: (raw[2] >> 6) + 1,
            frequency_index,
            channel_configuration: (raw[2] & 1) << 2 | raw[3] >> 6,
            length,
            frame_length,
            block_count: (raw[6] & 3) + 1,
        })
    }

    /// The header of a frame of `config`, with `length` bytes behind it. None if the format of
    /// the sound cannot be said in one.
    pub fn of(config: &AudioSpecificConfig, length: usize) -> Option<Self> {
        let &[first, second, ..] = &config.raw()[..] else { return None };
        let (object_type, frequency_index) = (first >> 3, (first & 7) << 1 | second >> 7);
        let channel_configuration = second >> 3 & 0xf;
        let frame_length = length + SHORT;
        let is_sayable = (1..=4).contains(&object_type) && frequency_index <= 12 && channel_configuration <= 7;
        (is_sayable && frame_length < 1 << 13).then_some(Self {
            object_type,
            frequency_index,
            channel_configuration,
            length: SHORT,
            frame_length,
            block_count: 1,
        })
    }

    /// The bytes of a header without a check sum.
    pub fn to_bytes(&self) -> [u8; SHORT] {
        let length = u16::try_from(self.frame_length).unwrap_or(u16::MAX);
        let [_, low] = length.to_be_bytes();
        let high = u8::try_from(length >> 3 & 0xff).unwrap_or_default();
        let top = u8::try_from(length >> 11 & 3).unwrap_or_default();
        [
            0xff,
            0xf1,
            (self.object_type - 1) << 6 | self.frequency_index << 2 | self.channel_configuration >> 2,
            (self.channel_configuration & 3) << 6 | top,
            high,
            (low & 7) << 5 | 0x1f,
            0xfc,
        ]
    }

    /// The configuration that these fields mean.
    ///
    /// # Errors
    /// [`AacConfigError`] if the frequency has no meaning.
    pub fn config(&self) -> Result<AudioSpecificConfig, AacConfigError> {
        let first = self.object_type << 3 | self.frequency_index >> 1;
        let second = (self.frequency_index & 1) << 7 | self.channel_configuration << 3;
        AudioSpecificConfig::parse(Bytes::copy_from_slice(&[first, second]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::AAC_CONFIG;

    #[test]
    fn a_header_goes_there_and_back() {
        let config = AudioSpecificConfig::parse(Bytes::from_static(AAC_CONFIG)).unwrap();
        let header = AdtsHeader::of(&config, 371).unwrap();
        // AAC-LC, 48 kHz, stereo, 378 bytes.
        assert_eq!(header.to_bytes(), [0xff, 0xf1, 0x4c, 0x80, 0x2f, 0x5f, 0xfc]);
        assert_eq!(AdtsHeader::parse(&header.to_bytes()), Some(header));
        assert_eq!(header.config().unwrap(), config);
        assert_eq!(AdtsHeader::of(&config, 8192), None);
    }

    #[test]
    fn what_is_none_is_not_taken() {
        let header = [0xff, 0xf1, 0x4c, 0x80, 0x2f, 0x5f, 0xfc];
        assert_eq!(AdtsHeader::parse(&header[..6]), None);
        for (place, byte) in [(0, 0xfe), (1, 0xe1), (1, 0xf3), (2, 0x74)] {
            let mut wrong = header;
            wrong[place] = byte;
            assert_eq!(AdtsHeader::parse(&wrong), None, "byte {place} is {byte:#x}");
        }
        assert_eq!(AdtsHeader::parse(&[0xff, 0xf1, 0x4c, 0x80, 0, 0x1f, 0xfc]), None, "shorter than its header");
    }
}
