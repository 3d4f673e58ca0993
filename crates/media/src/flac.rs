use bytes::Bytes;

use crate::BitReader;
use crate::config_error::ConfigError;

/// How a native stream begins.
const MAGIC: &[u8] = b"fLaC";

/// Header and body of the STREAMINFO block.
const BLOCK_LENGTH: usize = 4 + 34;

/// The configuration of a FLAC track.
///
/// Source: RFC 9639, 8.2
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FlacConfig {
    raw: Bytes,
    sample_rate: u32,
    channel_count: u8,
    block_size: u32,
}

impl FlacConfig {
    /// Reads the marker and the STREAMINFO block that begin a stream, and keeps the bytes.
    ///
    /// # Errors
    /// [`ConfigError`] if they are cut short, begin otherwise, or name no sampling frequency.
    pub fn parse(raw: Bytes) -> Result<Self, ConfigError> {
        let Some(block) = raw.strip_prefix(MAGIC) else {
            return Err(ConfigError::Start { expected: "`fLaC`" });
        };
        let mut reader = BitReader::new(block);
        reader.skip(1)?;
        let kind = reader.bits(7)?;
        let length = reader.bits(24)?;
        if kind != 0 || length != 34 {
            return Err(ConfigError::field("first metadata block", kind, "0 (STREAMINFO) of 34 bytes was expected"));
        }
        reader.skip(16)?;
        let block_size = reader.bits(16)?;
        reader.skip(24 + 24)?;
        let sample_rate = reader.bits(20)?;
        if sample_rate == 0 || block_size == 0 {
            return Err(ConfigError::field("sampling frequency or block size", 0, "more than 0 was expected"));
        }
        let channel_count = u8::try_from(reader.bits(3)? + 1).unwrap_or(1);
        reader.skip(5 + 36 + 128)?;
        Ok(Self { sample_rate, channel_count, block_size, raw })
    }

    /// The header as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// The STREAMINFO block with its own header, as the `dfLa` box holds it. It is marked as
    /// the last block, since others are left out.
    pub fn stream_info(&self) -> Vec<u8> {
        let start = MAGIC.len();
        let mut block = self.raw.get(start..start + BLOCK_LENGTH).unwrap_or_default().to_vec();
        if let Some(first) = block.first_mut() {
            *first |= 0x80;
        }
        block
    }

    /// In Hz.
    pub fn sample_rate(&self) -> u32 {
        self.sample_rate
    }

    /// Channels.
    pub fn channel_count(&self) -> u8 {
        self.channel_count
    }

    /// Samples per channel in the largest frame.
    pub fn block_size(&self) -> u32 {
        self.block_size
    }

    /// Samples per channel in a frame; none if it is no FLAC frame.
    ///
    /// Source: RFC 9639, 9.1
    pub fn samples_in(frame: &[u8]) -> Option<u32> {
        let (&[first, second, code, _], rest) = frame.split_first_chunk::<4>()?;
        if first != 0xff || second & 0xfe != 0xf8 {
            return None;
        }
        // The coded number, as long as its first byte says, stands before a written block size.
        let number_length = match rest.first()?.leading_ones() {
            0 => 1,
            ones @ 2..=7 => usize::try_from(ones).ok()?,
            _ => return None,
        };
        let written = |count: usize| -> Option<u32> {
            let bytes = rest.get(number_length..number_length + count)?;
            Some(bytes.iter().fold(0u32, |value, byte| value << 8 | u32::from(*byte)) + 1)
        };
        match code >> 4 {
            1 => Some(192),
            shift @ 2..=5 => Some(144 << shift),
            6 => written(1),
            7 => written(2),
            shift @ 8..=15 => Some(1 << shift),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use crate::testing::FLAC_HEADER;

    #[test]
    fn reads_a_header() {
        let config = FlacConfig::parse(Bytes::from_static(FLAC_HEADER)).unwrap();
        assert_eq!((config.sample_rate(), config.channel_count(), config.block_size()), (48_000, 2, 4096));
        assert_eq!((config.stream_info().len(), config.stream_info()[0]), (38, 0x80));
        for length in 0..FLAC_HEADER.len() {
            assert!(FlacConfig::parse(Bytes::from_static(&FLAC_HEADER[..length])).is_err(), "{length}");
        }
    }

    #[rstest]
    #[case::of_4096(&[0xff, 0xf8, 0xc9, 0x18, 0], Some(4096))]
    #[case::of_1152(&[0xff, 0xf8, 0x39, 0x18, 0], Some(1152))]
    #[case::written_in_a_byte(&[0xff, 0xf8, 0x69, 0x18, 0, 99], Some(100))]
    #[case::written_in_two_behind_a_long_number(&[0xff, 0xf9, 0x79, 0x18, 0xc2, 0x80, 1, 0], Some(257))]
    #[case::reserved(&[0xff, 0xf8, 0x09, 0x18, 0], None)]
    #[case::no_frame(&[1, 2, 3, 4, 5], None)]
    fn tells_how_long_a_frame_lasts(#[case] frame: &[u8], #[case] samples: Option<u32>) {
        assert_eq!(FlacConfig::samples_in(frame), samples);
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 0..60), valid_start: bool) {
            if valid_start {
                bytes.splice(0..0, *b"fLaC\0\0\0\x22");
            }
            let _ = FlacConfig::parse(bytes.clone().into());
            let _ = FlacConfig::samples_in(&bytes);
        }
    }
}
