use bytes::Bytes;
use thiserror::Error;

use super::{SequenceParameters, SpsError};

/// Why an AVCDecoderConfigurationRecord could not be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum AvcConfigError {
    /// The record is shorter than its own fields.
    #[error("the AVCDecoderConfigurationRecord is cut short at byte {at}")]
    Truncated {
        /// Where more bytes were needed.
        at: usize,
    },
    /// The version is not 1.
    #[error("AVCDecoderConfigurationRecord version {0}; version 1 is defined")]
    Version(u8),
    /// NAL unit lengths of three bytes.
    #[error("NAL unit lengths of 3 bytes; 1, 2 and 4 are defined")]
    LengthSize,
    /// The record holds no sequence parameter set.
    #[error("no sequence parameter set")]
    NoSps,
    /// The sequence parameter set is damaged.
    #[error("sequence parameter set: {0}")]
    Sps(#[from] SpsError),
}

/// The parameter sets of an H.264 track, and how its NAL unit lengths are written.
///
/// Source: ISO/IEC 14496-15, 5.3.3.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AvcDecoderConfig {
    raw: Bytes,
    length_size: u8,
    sequence: SequenceParameters,
}

impl AvcDecoderConfig {
    /// Reads a record and its first sequence parameter set, and keeps the bytes.
    ///
    /// # Errors
    /// [`AvcConfigError`] if the record is cut short, has no SPS, or the SPS is damaged.
    pub fn parse(raw: Bytes) -> Result<Self, AvcConfigError> {
        let byte = |at: usize| raw.get(at).copied().ok_or(AvcConfigError::Truncated { at });
        let version = byte(0)?;
        if version != 1 {
            return Err(AvcConfigError::Version(version));
        }
        let length_size = (byte(4)? & 3) + 1;
        if length_size == 3 {
            return Err(AvcConfigError::LengthSize);
        }
        let sps_count = byte(5)? & 0x1f;
        let (sequences, at) = read_sets(&raw, 6, sps_count)?;
        let pps_count = byte(at)?;
        read_sets(&raw, at + 1, pps_count)?;
        let sequence = SequenceParameters::parse(sequences.first().ok_or(AvcConfigError::NoSps)?)?;
        Ok(Self { length_size, sequence, raw })
    }

    /// Makes a record, with lengths of four bytes, of parameter sets as a stream carries them.
    ///
    /// # Errors
    /// [`AvcConfigError`] if there is no SPS, or the first one is damaged.
    pub fn from_parameter_sets(sequences: &[&[u8]], pictures: &[&[u8]]) -> Result<Self, AvcConfigError> {
        let first = sequences.first().ok_or(AvcConfigError::NoSps)?;
        let sequence = SequenceParameters::parse(first)?;
        let count = |sets: &[&[u8]]| u8::try_from(sets.len().min(31)).unwrap_or_default();
        let mut raw = vec![1, sequence.profile, sequence.constraints, sequence.level, 0xff, 0xe0 | count(sequences)];
        write_sets(sequences, &mut raw);
        raw.push(count(pictures));
        write_sets(pictures, &mut raw);
        if !matches!(sequence.profile, 66 | 77 | 88) {
            let (luma, chroma) = sequence.bit_depths;
            raw.extend([0xfc | sequence.chroma_format, 0xf8 | (luma - 8), 0xf8 | (chroma - 8), 0]);
        }
        Ok(Self { raw: raw.into(), length_size: 4, sequence })
    }

    /// The record as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// Bytes in each NAL unit length: 1, 2 or 4.
    pub fn length_size(&self) -> u8 {
        self.length_size
    }

    /// The parameter sets as NAL units, those of sequences first.
    pub fn parameter_sets(&self) -> Vec<&[u8]> {
        let count = |at: usize, mask: u8| self.raw.get(at).map_or(0, |count| count & mask);
        // The record was read through when it was parsed.
        let Ok((mut sets, at)) = read_sets(&self.raw, 6, count(5, 0x1f)) else { return Vec::new() };
        if let Ok((pictures, _)) = read_sets(&self.raw, at + 1, count(at, 0xff)) {
            sets.extend(pictures);
        }
        sets
    }

    /// What the first sequence parameter set says.
    pub fn sequence(&self) -> &SequenceParameters {
        &self.sequence
    }
}

fn write_sets(sets: &[&[u8]], raw: &mut Vec<u8>) {
    for set in sets.iter().take(31) {
        let length = u16::try_from(set.len()).unwrap_or(u16::MAX);
        raw.extend(length.to_be_bytes());
        raw.extend(&set[..usize::from(length)]);
    }
}

/// Reads `count` parameter sets from `at`; returns them and where they end.
fn read_sets(raw: &[u8], mut at: usize, count: u8) -> Result<(Vec<&[u8]>, usize), AvcConfigError> {
    let mut sets = Vec::new();
    for _ in 0..count {
        let truncated = AvcConfigError::Truncated { at };
        let Some(&[high, low]) = raw.get(at..at + 2) else { return Err(truncated) };
        let end = at + 2 + usize::from(u16::from_be_bytes([high, low]));
        let set = raw.get(at + 2..end).ok_or(truncated)?;
        sets.push(set);
        at = end;
    }
    Ok((sets, at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// High profile, level 3.1, 1280x720 at 30 frames per second; written by hand from the
    /// syntax tables of ISO/IEC 14496-10.
    const RECORD: &[u8] = &[
        1, 0x42, 0xc0, 0x1f, 0xff, 0xe1, 0, 10, 0x67, 0x42, 0xc0, 0x1f, 0xda, 0x01, 0x40, 0x16, 0xe8, 0x40, 1, 0, 4,
        0x68, 0xce, 0x3c, 0x80,
    ];

    #[test]
    fn reads_a_record() {
        let config = AvcDecoderConfig::parse(Bytes::from_static(RECORD)).unwrap();
        assert_eq!(config.length_size(), 4);
        assert_eq!((config.sequence().width, config.sequence().height), (1280, 720));
        assert_eq!(config.parameter_sets(), [&RECORD[8..18], &RECORD[21..]]);
    }

    #[test]
    fn a_record_is_made_of_parameter_sets() {
        let made = AvcDecoderConfig::from_parameter_sets(&[&RECORD[8..18]], &[&RECORD[21..]]).unwrap();
        assert_eq!(made.raw(), RECORD);
        assert_eq!(AvcDecoderConfig::from_parameter_sets(&[], &[&RECORD[21..]]), Err(AvcConfigError::NoSps));
        // High profile: chroma format and bit depths stand behind the sets.
        let high = [0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xba, 0x10];
        let made = AvcDecoderConfig::from_parameter_sets(&[&high], &[&RECORD[21..]]).unwrap();
        assert_eq!(made.raw()[made.raw().len() - 4..], [0xfd, 0xf8, 0xf8, 0]);
        assert_eq!(AvcDecoderConfig::parse(made.raw().clone()), Ok(made));
    }

    #[test]
    fn every_cut_is_refused() {
        for length in 0..RECORD.len() {
            let cut = Bytes::from_static(RECORD).slice(..length);
            assert!(AvcDecoderConfig::parse(cut).is_err(), "a record of {length} bytes was taken");
        }
    }

    #[test]
    fn no_sps_is_named() {
        let record = Bytes::from_static(&[1, 66, 0, 31, 0xff, 0xe0, 0]);
        assert_eq!(AvcDecoderConfig::parse(record), Err(AvcConfigError::NoSps));
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..120)) {
            let _ = AvcDecoderConfig::parse(Bytes::from(bytes));
        }

        #[test]
        fn one_flipped_bit_never_panics(at in 0..RECORD.len(), bit in 0u8..8) {
            let mut bytes = RECORD.to_vec();
            bytes[at] ^= 1 << bit;
            let _ = AvcDecoderConfig::parse(Bytes::from(bytes));
        }
    }
}
