use bytes::Bytes;

use super::HevcSequence;
use crate::config_error::ConfigError;
use crate::{BitReader, NalUnits, OutOfBits, unescape_rbsp};

/// NAL unit type of a sequence parameter set.
///
/// Source: ITU-T H.265, table 7-1
const SPS: u8 = 33;
const VPS: u8 = 32;
const PPS: u8 = 34;

/// NAL unit types of slices end before this one, and those of decodable leading pictures.
const FIRST_OTHER: u8 = 32;
const DECODABLE_LEADING: [u8; 2] = [6, 7];

/// Bytes of an SPS before `profile_tier_level`, and of its general part.
const BEFORE_PROFILE: usize = 3;
const PROFILE_LENGTH: usize = 12;

/// The parameter sets of an HEVC track, and how its NAL unit lengths are written.
///
/// Source: ISO/IEC 14496-15, 8.3.3.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HevcDecoderConfig {
    raw: Bytes,
    profile: u8,
    level: u8,
    length_size: u8,
    /// Frames in 256 seconds.
    frame_rate: Option<u16>,
    sequence: Option<HevcSequence>,
}

impl HevcDecoderConfig {
    /// Reads an HEVCDecoderConfigurationRecord and keeps the bytes. Parameter sets may be
    /// missing: then they come in the stream, and the record tells no size.
    ///
    /// # Errors
    /// [`ConfigError`] if the record is cut short or its parameter set is damaged.
    pub fn parse(raw: Bytes) -> Result<Self, ConfigError> {
        let mut reader = BitReader::new(&raw);
        let version = reader.bits(8)?;
        if version != 1 {
            return Err(ConfigError::field("configurationVersion", version, "1 is defined"));
        }
        reader.skip(3)?;
        let profile = byte(&mut reader, 5)?;
        reader.skip(32 + 48)?;
        let level = byte(&mut reader, 8)?;
        reader.skip(4 + 12 + 6 + 2 + 6 + 2 + 5 + 3 + 5 + 3)?;
        let rate = reader.bits(16)?;
        reader.skip(2 + 3 + 1)?;
        let length_size = byte(&mut reader, 2)? + 1;
        if length_size == 3 {
            return Err(ConfigError::field("lengthSizeMinusOne", 2, "0, 1 and 3 are defined"));
        }
        let arrays = reader.bits(8)?;
        let sequence = first_sps(&raw, arrays)?.map(HevcSequence::parse).transpose()?;
        let frame_rate = u16::try_from(rate).ok().filter(|rate| *rate > 0);
        Ok(Self { profile, level, length_size, frame_rate, sequence, raw })
    }

    /// True if the first slice of a picture is of one that leads and can be decoded (RADL).
    pub(crate) fn is_decodable_leading(&self, payload: &[u8]) -> bool {
        let kinds = NalUnits::new(payload, self.length_size).filter_map(|unit| Some(unit.first()? >> 1 & 0x3f));
        kinds.into_iter().find(|kind| *kind < FIRST_OTHER).is_some_and(|kind| DECODABLE_LEADING.contains(&kind))
    }

    /// Makes a record, with lengths of four bytes, of parameter sets as a stream carries them.
    ///
    /// # Errors
    /// [`ConfigError`] if there is no SPS, or the first one is damaged.
    pub fn from_parameter_sets(videos: &[&[u8]], sequences: &[&[u8]], pictures: &[&[u8]]) -> Result<Self, ConfigError> {
        let first = sequences.first().ok_or(ConfigError::Start { expected: "a sequence parameter set" })?;
        let sequence = HevcSequence::parse(first)?;
        let rbsp = unescape_rbsp(first);
        let truncated = ConfigError::Truncated(OutOfBits { missing: 8 });
        let profile = rbsp.get(BEFORE_PROFILE..BEFORE_PROFILE + PROFILE_LENGTH).ok_or(truncated)?;
        let layers = rbsp[2] >> 1 & 7;
        let nested = rbsp[2] & 1;
        let (luma, chroma) = sequence.bit_depths;
        let mut raw = vec![1];
        raw.extend(profile);
        raw.extend([0xf0, 0, 0xfc, 0xfc | sequence.chroma_format, 0xf8 | (luma - 8), 0xf8 | (chroma - 8), 0, 0]);
        raw.push((layers + 1) << 3 | nested << 2 | 3);
        let arrays = [(VPS, videos), (SPS, sequences), (PPS, pictures)];
        raw.push(u8::try_from(arrays.iter().filter(|(_, sets)| !sets.is_empty()).count()).unwrap_or(3));
        for (kind, sets) in arrays.into_iter().filter(|(_, sets)| !sets.is_empty()) {
            raw.push(kind);
            raw.extend(u16::try_from(sets.len()).unwrap_or(u16::MAX).to_be_bytes());
            for set in sets {
                let length = u16::try_from(set.len()).unwrap_or(u16::MAX);
                raw.extend(length.to_be_bytes());
                raw.extend(&set[..usize::from(length)]);
            }
        }
        Self::parse(raw.into())
    }

    /// The parameter sets as NAL units, in the order in which the record has them.
    pub fn parameter_sets(&self) -> Vec<&[u8]> {
        let mut sets = Vec::new();
        // The record was read through when it was parsed.
        let arrays = self.raw.get(22).copied().unwrap_or_default();
        let _ = each_set(&self.raw, arrays.into(), |_, set| sets.push(set));
        sets
    }

    /// The record as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// `general_level_idc`: thirty times the level.
    pub fn level(&self) -> u8 {
        self.level
    }

    /// Bytes in each NAL unit length: 1, 2 or 4.
    pub fn length_size(&self) -> u8 {
        self.length_size
    }

    /// What the sequence parameter set says, if the record holds one.
    pub fn sequence(&self) -> Option<HevcSequence> {
        self.sequence
    }

    /// Average frames per second, if the record tells.
    pub fn frame_rate(&self) -> Option<f64> {
        self.frame_rate.map(|rate| f64::from(rate) / 256.0)
    }

    /// The profile's name as people write it.
    pub fn profile_name(&self) -> &'static str {
        match self.profile {
            1 => "Main",
            2 => "Main 10",
            3 => "Main Still Picture",
            4 => "Range Extensions",
            _ => "unknown",
        }
    }
}

fn byte(reader: &mut BitReader<'_>, count: usize) -> Result<u8, OutOfBits> {
    reader.bits(count).map(|value| u8::try_from(value).unwrap_or(u8::MAX))
}

/// The first SPS in the arrays of NAL units behind the fixed fields.
fn first_sps(raw: &[u8], arrays: u32) -> Result<Option<&[u8]>, ConfigError> {
    let mut found = None;
    each_set(raw, arrays, |kind, unit| {
        if kind == SPS {
            found.get_or_insert(unit);
        }
    })?;
    Ok(found)
}

fn each_set<'a>(raw: &'a [u8], arrays: u32, mut take: impl FnMut(u8, &'a [u8])) -> Result<(), ConfigError> {
    let truncated = ConfigError::Truncated(OutOfBits { missing: 8 });
    let mut rest = raw.get(23..).ok_or(truncated)?;
    for _ in 0..arrays {
        let (&[head, high, low], after) = rest.split_first_chunk::<3>().ok_or(truncated)?;
        rest = after;
        for _ in 0..u16::from_be_bytes([high, low]) {
            let (length, after) = rest.split_first_chunk::<2>().ok_or(truncated)?;
            let (unit, after) = after.split_at_checked(u16::from_be_bytes(*length).into()).ok_or(truncated)?;
            take(head & 0x3f, unit);
            rest = after;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::testing::HEVC_RECORD;

    #[test]
    fn reads_a_record() {
        let config = HevcDecoderConfig::parse(Bytes::from_static(HEVC_RECORD)).unwrap();
        assert_eq!(
            config.sequence(),
            Some(HevcSequence { width: 1920, height: 1080, chroma_format: 1, bit_depths: (8, 8), colour: None })
        );
        assert_eq!((config.profile_name(), config.level(), config.length_size()), ("Main", 120, 4));
        assert_eq!(config.raw(), HEVC_RECORD);
    }

    #[test]
    fn a_record_is_made_of_parameter_sets() {
        let config = HevcDecoderConfig::parse(Bytes::from_static(HEVC_RECORD)).unwrap();
        let sets = config.parameter_sets();
        assert_eq!(sets.iter().map(|set| set[0] >> 1).collect::<Vec<_>>(), [VPS, SPS, PPS]);
        let made = HevcDecoderConfig::from_parameter_sets(&sets[..1], &sets[1..2], &sets[2..]).unwrap();
        assert_eq!((made.sequence(), made.level()), (config.sequence(), config.level()));
        assert_eq!(made.parameter_sets(), sets);
        assert!(HevcDecoderConfig::from_parameter_sets(&sets[..1], &[], &sets[2..]).is_err());
    }

    #[test]
    fn a_record_may_be_without_parameter_sets_but_not_cut() {
        let mut bare = HEVC_RECORD[..23].to_vec();
        bare[22] = 0;
        assert_eq!(HevcDecoderConfig::parse(bare.into()).unwrap().sequence(), None);
        for length in 0..HEVC_RECORD.len() {
            let cut = HevcDecoderConfig::parse(Bytes::from_static(&HEVC_RECORD[..length]));
            assert!(matches!(cut, Err(ConfigError::Truncated(_))), "{length}: {cut:?}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 0..120), valid_start: bool) {
            if valid_start && let Some(first) = bytes.first_mut() {
                *first = 1;
            }
            let _ = HevcDecoderConfig::parse(bytes.clone().into());
            let _ = HevcSequence::parse(&bytes);
        }
    }
}
