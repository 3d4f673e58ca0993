use bytes::Bytes;

use crate::OutOfBits;
use crate::config_error::ConfigError;

/// How the identification header begins.
const MAGIC: &[u8] = b"OpusHead";

/// Opus always plays at this rate.
const SAMPLE_RATE: u32 = 48_000;

/// The longest packet: 120 ms.
///
/// Source: RFC 6716, 3.2.5
const MAX_SAMPLES: u32 = 5_760;

/// The configuration of an Opus track.
///
/// Source: RFC 7845, 5.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpusConfig {
    raw: Bytes,
    channel_count: u8,
    pre_skip: u16,
}

impl OpusConfig {
    /// Reads an identification header and keeps the bytes.
    ///
    /// # Errors
    /// [`ConfigError`] if it is cut short, begins otherwise, or has no channel.
    pub fn parse(raw: Bytes) -> Result<Self, ConfigError> {
        let Some(fields) = raw.strip_prefix(MAGIC) else {
            return Err(ConfigError::Start { expected: "`OpusHead`" });
        };
        let short = |_| ConfigError::Truncated(OutOfBits { missing: 8 });
        let fields: &[u8; 11] = fields.get(..11).unwrap_or_default().try_into().map_err(short)?;
        if fields[0] >> 4 != 0 {
            return Err(ConfigError::field("version", fields[0].into(), "0 to 15 can be read"));
        }
        let (channel_count, family) = (fields[1], fields[10]);
        if channel_count == 0 || family == 0 && channel_count > 2 {
            return Err(ConfigError::field("channel count", channel_count.into(), "1 or 2 is legal without a mapping"));
        }
        // Stream count, coupled count and a place for each channel.
        if family != 0 && raw.len() < MAGIC.len() + 13 + usize::from(channel_count) {
            return Err(ConfigError::Truncated(OutOfBits { missing: 8 }));
        }
        let pre_skip = u16::from_le_bytes([fields[2], fields[3]]);
        Ok(Self { channel_count, pre_skip, raw })
    }

    /// The header as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// Channels.
    pub fn channel_count(&self) -> u8 {
        self.channel_count
    }

    /// Samples at 48 kHz that a decoder throws away at the start.
    pub fn pre_skip(&self) -> u16 {
        self.pre_skip
    }

    /// Output sampling frequency in Hz, whatever the input's was.
    pub fn sample_rate(&self) -> u32 {
        SAMPLE_RATE
    }

    /// The same configuration as the `dOps` box holds it: version 0 and big-endian numbers.
    ///
    /// Source: Encapsulation of Opus in ISO Base Media File Format, 4.3.2
    pub fn mp4_box(&self) -> Vec<u8> {
        let mut out = self.raw[MAGIC.len()..].to_vec();
        out[0] = 0;
        out[2..4].reverse();
        out[4..8].reverse();
        out[8..10].reverse();
        out
    }

    /// Reads the body of a `dOps` box.
    ///
    /// # Errors
    /// As [`parse`](Self::parse).
    pub fn from_mp4_box(body: &[u8]) -> Result<Self, ConfigError> {
        let mut header = [MAGIC, body].concat();
        if let Some(fields) = header.get_mut(MAGIC.len()..MAGIC.len() + 10) {
            fields[0] = 1;
            fields[2..4].reverse();
            fields[4..8].reverse();
            fields[8..10].reverse();
        }
        Self::parse(header.into())
    }

    /// Samples at 48 kHz in a packet; none if the packet is no Opus.
    ///
    /// Source: RFC 6716, 3.1 and 3.2
    pub fn samples_in(packet: &[u8]) -> Option<u32> {
        let toc = *packet.first()?;
        let frame = match toc >> 3 {
            config @ 0..=11 => [480, 960, 1920, 2880][usize::from(config & 3)],
            config @ 12..=15 => [480, 960][usize::from(config & 1)],
            config => [120, 240, 480, 960][usize::from(config & 3)],
        };
        let count = match toc & 3 {
            0 => 1,
            1 | 2 => 2,
            _ => u32::from(packet.get(1)? & 0x3f),
        };
        Some(frame * count).filter(|samples| (1..=MAX_SAMPLES).contains(samples))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use crate::testing::OPUS_HEADER;

    #[test]
    fn reads_a_header() {
        let config = OpusConfig::parse(Bytes::from_static(OPUS_HEADER)).unwrap();
        assert_eq!((config.channel_count(), config.pre_skip(), config.sample_rate()), (2, 312, 48_000));
        assert_eq!(config.mp4_box(), [0, 2, 1, 0x38, 0, 0, 0xbb, 0x80, 0, 0, 0]);
        assert_eq!(OpusConfig::from_mp4_box(&config.mp4_box()), Ok(config));
        for length in 0..OPUS_HEADER.len() {
            assert!(OpusConfig::parse(Bytes::from_static(&OPUS_HEADER[..length])).is_err(), "{length}");
        }
    }

    #[test]
    fn surround_needs_its_mapping() {
        let mut header = OPUS_HEADER.to_vec();
        header[9] = 6;
        assert!(OpusConfig::parse(header.clone().into()).is_err());
        header[18] = 1;
        header.extend([4, 2, 0, 4, 1, 2, 3, 5]);
        assert_eq!(OpusConfig::parse(header.into()).unwrap().channel_count(), 6);
    }

    #[rstest]
    #[case::silk_60_ms(&[3 << 3], Some(2880))]
    #[case::hybrid_20_ms(&[13 << 3], Some(960))]
    #[case::celt_2_5_ms(&[16 << 3], Some(120))]
    #[case::two_of_20_ms(&[31 << 3 | 1, 0], Some(1920))]
    #[case::six_of_20_ms(&[31 << 3 | 3, 6], Some(5760))]
    #[case::seven_are_too_long(&[31 << 3 | 3, 7], None)]
    #[case::no_frames(&[31 << 3 | 3, 0], None)]
    #[case::empty(&[], None)]
    fn tells_how_long_a_packet_lasts(#[case] packet: &[u8], #[case] samples: Option<u32>) {
        assert_eq!(OpusConfig::samples_in(packet), samples);
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 0..40), valid_start: bool) {
            if valid_start {
                bytes.splice(0..0, MAGIC.iter().copied());
            }
            if let Ok(config) = OpusConfig::parse(bytes.clone().into()) {
                prop_assert!(config.mp4_box().len() >= 11);
            }
            let _ = OpusConfig::samples_in(&bytes);
        }
    }
}
