use bytes::Bytes;

use crate::config_error::ConfigError;
use crate::{BitReader, Colour, Sampling};

/// Version and flags that stand before the record in its ISO form; some encoders send them.
const FULL_BOX_START: [u8; 4] = [1, 0, 0, 0];

/// How every frame begins, in two bits, and how a keyframe goes on.
const FRAME_MARKER: u32 = 2;
const SYNC_CODE: u32 = 0x49_8342;

/// Colours that are not subsampled.
const COLOUR_SPACE_RGB: u32 = 7;

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
    chroma_format: u8,
    colour: Colour,
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
        // 0 and 1 are both 4:2:0, with chroma at two places.
        let chroma_format = u8::try_from(reader.bits(3)?.max(1)).unwrap_or(1).min(3);
        let is_full_range = reader.bit()?;
        let colour = Colour::read_points(&mut reader, is_full_range)?;
        reader.skip(16)?;
        let profile = u8::try_from(profile).unwrap_or(0);
        Ok(Self { profile, bit_depth, chroma_format, colour, record, raw })
    }

    /// The configuration as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// The record without version and flags.
    pub fn record(&self) -> &Bytes {
        &self.record
    }

    /// How pictures are sampled.
    pub fn sampling(&self) -> Sampling {
        Sampling { chroma_format: self.chroma_format, bit_depth: self.bit_depth }
    }

    /// How colours are to be shown.
    pub fn colour(&self) -> Colour {
        self.colour
    }

    /// 0 to 3.
    pub fn profile(&self) -> u8 {
        self.profile
    }

    /// Width and height in pixels of a keyframe; none of another frame.
    ///
    /// Source: VP9 Bitstream & Decoding Process Specification, 6.2
    pub fn picture_size_in(frame: &[u8]) -> Option<(u32, u32)> {
        let mut reader = BitReader::new(frame);
        if reader.bits(2).ok()? != FRAME_MARKER {
            return None;
        }
        let profile = reader.bits(1).ok()? | reader.bits(1).ok()? << 1;
        if profile == 3 {
            reader.skip(1).ok()?;
        }
        let (shows_existing, is_not_key) = (reader.bits(1).ok()?, reader.bits(1).ok()?);
        reader.skip(2).ok()?;
        if shows_existing == 1 || is_not_key == 1 || reader.bits(24).ok()? != SYNC_CODE {
            return None;
        }
        if profile >= 2 {
            reader.skip(1).ok()?;
        }
        let is_rgb = reader.bits(3).ok()? == COLOUR_SPACE_RGB;
        let told_sampling = profile & 1 == 1;
        reader.skip(usize::from(!is_rgb) + if told_sampling { if is_rgb { 1 } else { 3 } } else { 0 }).ok()?;
        Some((reader.bits(16).ok()? + 1, reader.bits(16).ok()? + 1))
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

    #[rstest]
    // Profile 0: two bits of marker, key, shown; the sync code; 3 bits of colour space, one of range.
    #[case::profile_0(&[0x82, 0x49, 0x83, 0x42, 0x20, 0x4f, 0xf0, 0x2c, 0xf0], Some((1280, 720)))]
    #[case::no_keyframe(&[0x86, 0x49, 0x83, 0x42, 0x20, 0x4f, 0xf0, 0x2c, 0xf0], None)]
    #[case::cut_short(&[0x82, 0x49, 0x83], None)]
    fn a_keyframe_tells_its_size(#[case] frame: &[u8], #[case] expected: Option<(u32, u32)>) {
        assert_eq!(Vp9Config::picture_size_in(frame), expected);
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
