use crate::config_error::ConfigError;
use crate::{BitReader, Colour, unescape_rbsp};

/// The largest picture side we take; level 6.2 allows 16,888 luma samples.
const MAX_SIDE: u32 = 16_888;

/// Bits of `profile_tier_level` that describe one profile.
const PROFILE_BITS: usize = 88;

/// What an HEVC sequence parameter set tells about the picture.
///
/// Source: ITU-T H.265, 7.3.2.2.1
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HevcSequence {
    /// Width in luma samples after cropping.
    pub width: u32,
    /// Height in luma samples after cropping.
    pub height: u32,
    /// `chroma_format_idc`: 1 is 4:2:0.
    pub chroma_format: u8,
    /// Bits of a luma and of a chroma sample.
    pub bit_depths: (u8, u8),
    /// How its colours are to be shown, if the set tells.
    pub colour: Option<Colour>,
}

impl HevcSequence {
    /// Reads a sequence parameter set NAL unit, both header bytes included.
    ///
    /// # Errors
    /// [`ConfigError`] if it is cut short or holds an illegal value.
    pub fn parse(unit: &[u8]) -> Result<Self, ConfigError> {
        let rbsp = unescape_rbsp(unit);
        let mut reader = BitReader::new(&rbsp);
        reader.skip(16 + 4)?; // NAL unit header, sps_video_parameter_set_id
        let sub_layers = reader.bits(3)?; // sps_max_sub_layers_minus1
        reader.skip(1)?;
        skip_profile_tier_level(&mut reader, sub_layers)?;
        reader.unsigned_golomb()?; // sps_seq_parameter_set_id
        let chroma = reader.unsigned_golomb()?;
        let separate_planes = chroma == 3 && reader.bit()?;
        let (width, height) = (side(&mut reader, "width")?, side(&mut reader, "height")?);
        let (unit_x, unit_y) = match chroma {
            1 => (2, 2),
            2 => (2, 1),
            _ => (1, 1),
        };
        debug_assert!(!separate_planes || unit_x == 1);
        let (mut crop_x, mut crop_y) = (0u32, 0u32);
        if reader.bit()? {
            let mut pair = |unit: u32| -> Result<u32, ConfigError> {
                let sum = reader.unsigned_golomb()?.saturating_add(reader.unsigned_golomb()?);
                Ok(sum.saturating_mul(unit))
            };
            (crop_x, crop_y) = (pair(unit_x)?, pair(unit_y)?);
        }
        if crop_x >= width || crop_y >= height {
            return Err(ConfigError::field("conformance window", crop_x.max(crop_y), "less than the picture is legal"));
        }
        let mut depth = || -> Result<u8, ConfigError> {
            match reader.unsigned_golomb()? {
                value @ 0..=8 => Ok(u8::try_from(value + 8).unwrap_or(8)),
                found => Err(ConfigError::field("bit depth", found, "0 to 8 is legal")),
            }
        };
        let bit_depths = (depth()?, depth()?);
        let chroma_format = u8::try_from(chroma).unwrap_or(1);
        // What follows tells no more than the colours: a set that is damaged there is of use without.
        let colour = super::colour::read(&mut reader, sub_layers).unwrap_or(None);
        Ok(Self { width: width - crop_x, height: height - crop_y, chroma_format, bit_depths, colour })
    }
}

fn side(reader: &mut BitReader<'_>, field: &'static str) -> Result<u32, ConfigError> {
    match reader.unsigned_golomb()? {
        value @ 1..=MAX_SIDE => Ok(value),
        found => Err(ConfigError::field(field, found, "1 to 16888 is legal")),
    }
}

/// Source: ITU-T H.265, 7.3.3
fn skip_profile_tier_level(reader: &mut BitReader<'_>, sub_layers: u32) -> Result<(), ConfigError> {
    reader.skip(PROFILE_BITS + 8)?;
    let mut present = Vec::new();
    for _ in 0..sub_layers {
        present.push((reader.bit()?, reader.bit()?));
    }
    if sub_layers > 0 {
        reader.skip(2 * (8 - present.len()))?;
    }
    for (profile, level) in present {
        reader.skip(if profile { PROFILE_BITS } else { 0 } + if level { 8 } else { 0 })?;
    }
    Ok(())
}
