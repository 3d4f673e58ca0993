use bytes::Bytes;

use crate::BitReader;
use crate::config_error::ConfigError;

/// Version and flags that stand before the record in its ISO form; some encoders send them.
const FULL_BOX_START: [u8; 4] = [1, 0, 0, 0];

/// The shortest record.
const RECORD_LENGTH: usize = 8;

/// The configuration of a VP9 track. It tells no picture size.
///
/// Source: VP Codec ISO Media File Format Binding, VP Codec Configuration Box
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vp9Config {
    raw: Bytes,
    record: Bytes,
    profile: u8,
    bit_depth: u8,
}

impl Vp9Config {
    /// Reads a VPCodecConfigurationRecord, with or without the version and flags of its box,
    /// and keeps the bytes.
    ///
    /// # Errors
    /// [`ConfigError`] if it is cut short or the profile is none.
    pub fn parse(raw: Bytes) -> Result<Self, ConfigError> {
        let boxed = raw.starts_with(&FULL_BOX_START) && raw.len() >= FULL_BOX_START.len() + RECORD_LENGTH;
        let record = if boxed { raw.slice(FULL_BOX_START.len()..) } else { raw.clone() };
        let mut reader = BitReader::new(&record);
        let profile = reader.bits(8)?;
        if profile > 3 {
            return Err(ConfigError::field("profile", profile, "0 to 3 are defined"));
        }
        reader.skip(8)?;
        let bit_depth = u8::try_from(reader.bits(4)?).unwrap_or(8);
        reader.skip(4 + 24 + 16)?;
        Ok(Self { profile: u8::try_from(profile).unwrap_or(0), bit_depth, record, raw })
    }

    /// The configuration as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// The record without version and flags.
    pub fn record(&self) -> &Bytes {
        &self.record
    }

    /// 0 to 3.
    pub fn profile(&self) -> u8 {
        self.profile
    }

    /// Bits of a sample.
    pub fn bit_depth(&self) -> u8 {
        self.bit_depth
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::bare(&[2, 31, 0xa2, 9, 16, 9, 0, 0])]
    #[case::boxed(&[1, 0, 0, 0, 2, 31, 0xa2, 9, 16, 9, 0, 0])]
    fn reads_both_forms(#[case] bytes: &'static [u8]) {
        let config = Vp9Config::parse(Bytes::from_static(bytes)).unwrap();
        assert_eq!((config.profile(), config.bit_depth(), config.record().len()), (2, 10, 8));
        assert_eq!(config.raw(), bytes);
    }

    #[test]
    fn refuses_what_is_none() {
        assert!(Vp9Config::parse(Bytes::from_static(&[0, 31, 0x82])).is_err());
        let wrong = Vp9Config::parse(Bytes::from_static(&[9, 31, 0x82, 1, 1, 1, 0, 0])).unwrap_err();
        assert_eq!(wrong.to_string(), "profile is 9, 0 to 3 are defined");
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..20)) {
            let _ = Vp9Config::parse(bytes.into());
        }
    }
}
