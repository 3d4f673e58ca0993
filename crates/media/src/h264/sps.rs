use thiserror::Error;

use crate::{BitReader, Colour, NalUnitType, OutOfBits, unescape_rbsp};

/// Profiles whose sequence parameter set names the chroma format.
///
/// Source: ISO/IEC 14496-10, 7.3.2.1.1
const HIGH_PROFILES: [u8; 13] = [100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135];

/// The largest picture side we take; level 6.2 allows 16,384 luma samples.
const MAX_SIDE: u32 = 16_384;

/// Value of `aspect_ratio_idc` that announces a written ratio.
const EXTENDED_SAR: u32 = 255;

/// Why a sequence parameter set could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SpsError {
    /// It is cut short.
    #[error(transparent)]
    Truncated(#[from] OutOfBits),
    /// The NAL unit is of another type.
    #[error("NAL unit type {0} where 7 was expected")]
    NotAnSps(u8),
    /// A field has a value that the standard does not allow.
    #[error("{field} is {value}, at most {limit} is allowed")]
    OutOfRange {
        /// The field as the standard names it.
        field: &'static str,
        /// What was found.
        value: u32,
        /// The largest legal value.
        limit: u32,
    },
    /// Cropping leaves no picture.
    #[error("cropping leaves nothing of the picture")]
    Cropping,
}

/// What a sequence parameter set tells about the picture.
///
/// Source: ISO/IEC 14496-10, 7.3.2.1.1 and E.1.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SequenceParameters {
    /// `profile_idc`.
    pub profile: u8,
    /// The byte of constraint flags.
    pub constraints: u8,
    /// `level_idc`: ten times the level.
    pub level: u8,
    /// `chroma_format_idc`: 1 is 4:2:0.
    pub chroma_format: u8,
    /// BitFields of a luma and of a chroma sample.
    pub bit_depths: (u8, u8),
    /// Width in luma samples after cropping.
    pub width: u32,
    /// Height in luma samples after cropping.
    pub height: u32,
    /// True if every picture is a whole frame.
    pub progressive: bool,
    /// BitFields of `frame_num` in a slice: 4 to 16.
    pub frame_num_bits: u8,
    /// `separate_colour_plane_flag`: the three planes are coded as pictures of their own.
    pub separate_planes: bool,
    /// Frames per second as numerator and denominator, if the set tells.
    pub frame_rate: Option<(u32, u32)>,
    /// How its colours are to be shown, if the set tells.
    pub colour: Option<Colour>,
}

impl SequenceParameters {
    /// Reads a sequence parameter set NAL unit, header byte included.
    ///
    /// # Errors
    /// [`SpsError`] if it is cut short or holds an illegal value.
    pub fn parse(unit: &[u8]) -> Result<Self, SpsError> {
        let header = *unit.first().ok_or(OutOfBits { missing: 8 })?;
        if NalUnitType::from_header(header) != NalUnitType::Sps {
            return Err(SpsError::NotAnSps(header & 0x1f));
        }
        let rbsp = unescape_rbsp(unit);
        let mut reader = BitReader::new(&rbsp);
        reader.skip(8)?;
        let [profile, constraints, level] = [byte(&mut reader)?, byte(&mut reader)?, byte(&mut reader)?];
        reader.unsigned_golomb()?; // seq_parameter_set_id
        let chroma = if HIGH_PROFILES.contains(&profile) { read_high_profile(&mut reader)? } else { Chroma::YUV420 };
        let frame_num_bits = read_frame_num_bits(&mut reader)?;
        reader.unsigned_golomb()?; // max_num_ref_frames
        reader.skip(1)?; // gaps_in_frame_num_value_allowed_flag
        let (width, height, progressive) = read_size(&mut reader, chroma)?;
        let has_vui = reader.bit()?;
        // A set that ends inside the VUI still tells the size; only rate and colours are lost.
        let (mut frame_rate, mut colour) = (None, None);
        if has_vui && let Ok(found) = read_colour(&mut reader) {
            colour = found;
            frame_rate = read_frame_rate(&mut reader).unwrap_or(None);
        }
        let Chroma { format: chroma_format, bit_depths, separate_planes, .. } = chroma;
        Ok(Self {
            profile,
            constraints,
            level,
            chroma_format,
            bit_depths,
            width,
            height,
            progressive,
            frame_num_bits,
            separate_planes,
            frame_rate,
            colour,
        })
    }

    /// The profile's name as people write it.
    pub fn profile_name(&self) -> &'static str {
        match self.profile {
            66 if self.constraints & 0x40 != 0 => "Constrained Baseline",
            66 => "Baseline",
            77 => "Main",
            88 => "Extended",
            100 => "High",
            110 => "High 10",
            122 => "High 4:2:2",
            244 => "High 4:4:4 Predictive",
            _ => "unknown",
        }
    }
}

#[derive(Clone, Copy)]
struct Chroma {
    format: u8,
    bit_depths: (u8, u8),
    separate_planes: bool,
    horizontal_unit: u32,
    vertical_unit: u32,
}

impl Chroma {
    const YUV420: Self =
        Self { format: 1, bit_depths: (8, 8), separate_planes: false, horizontal_unit: 2, vertical_unit: 2 };

    /// Source: ISO/IEC 14496-10, table 6-1
    fn from_idc(idc: u32, separate_planes: bool, bit_depths: (u8, u8)) -> Self {
        let (horizontal_unit, vertical_unit) = match (idc, separate_planes) {
            (1, _) => (2, 2),
            (2, _) => (2, 1),
            _ => (1, 1),
        };
        let format = u8::try_from(idc).unwrap_or(1);
        Self { format, bit_depths, separate_planes, horizontal_unit, vertical_unit }
    }
}

fn byte(reader: &mut BitReader<'_>) -> Result<u8, OutOfBits> {
    Ok(u8::try_from(reader.bits(8)?).unwrap_or(u8::MAX))
}

fn limited(field: &'static str, value: u32, limit: u32) -> Result<u32, SpsError> {
    if value > limit { Err(SpsError::OutOfRange { field, value, limit }) } else { Ok(value) }
}

fn read_high_profile(reader: &mut BitReader<'_>) -> Result<Chroma, SpsError> {
    let idc = limited("chroma_format_idc", reader.unsigned_golomb()?, 3)?;
    let separate_planes = idc == 3 && reader.bit()?;
    let depth = |value: u32| u8::try_from(value + 8).unwrap_or(8);
    let luma = depth(limited("bit_depth_luma_minus8", reader.unsigned_golomb()?, 6)?);
    let chroma = depth(limited("bit_depth_chroma_minus8", reader.unsigned_golomb()?, 6)?);
    reader.skip(1)?; // qpprime_y_zero_transform_bypass_flag
    if reader.bit()? {
        let lists = if idc == 3 { 12 } else { 8 };
        for list in 0..lists {
            if reader.bit()? {
                skip_scaling_list(reader, if list < 6 { 16 } else { 64 })?;
            }
        }
    }
    Ok(Chroma::from_idc(idc, separate_planes, (luma, chroma)))
}

/// Source: ISO/IEC 14496-10, 7.3.2.1.1.1
fn skip_scaling_list(reader: &mut BitReader<'_>, size: usize) -> Result<(), SpsError> {
    let (mut last, mut next) = (8i32, 8i32);
    for _ in 0..size {
        if next != 0 {
            next = last.wrapping_add(reader.signed_golomb()?).rem_euclid(256);
        }
        last = if next == 0 { last } else { next };
    }
    Ok(())
}

/// Reads the length of `frame_num`, and passes over how pictures are ordered.
fn read_frame_num_bits(reader: &mut BitReader<'_>) -> Result<u8, SpsError> {
    let more_than_four = limited("log2_max_frame_num_minus4", reader.unsigned_golomb()?, 12)?;
    match limited("pic_order_cnt_type", reader.unsigned_golomb()?, 2)? {
        0 => {
            limited("log2_max_pic_order_cnt_lsb_minus4", reader.unsigned_golomb()?, 12)?;
        }
        1 => {
            reader.skip(1)?; // delta_pic_order_always_zero_flag
            reader.signed_golomb()?; // offset_for_non_ref_pic
            reader.signed_golomb()?; // offset_for_top_to_bottom_field
            let cycle = limited("num_ref_frames_in_pic_order_cnt_cycle", reader.unsigned_golomb()?, 255)?;
            for _ in 0..cycle {
                reader.signed_golomb()?;
            }
        }
        _ => {}
    }
    Ok(u8::try_from(more_than_four + 4).unwrap_or(4))
}

fn read_size(reader: &mut BitReader<'_>, chroma: Chroma) -> Result<(u32, u32, bool), SpsError> {
    let columns = limited("pic_width_in_mbs_minus1", reader.unsigned_golomb()?, MAX_SIDE / 16 - 1)? + 1;
    let rows = limited("pic_height_in_map_units_minus1", reader.unsigned_golomb()?, MAX_SIDE / 16 - 1)? + 1;
    let progressive = reader.bit()?;
    if !progressive {
        reader.skip(1)?; // mb_adaptive_frame_field_flag
    }
    reader.skip(1)?; // direct_8x8_inference_flag
    let fields = if progressive { 1 } else { 2 };
    let (width, height) = (columns * 16, rows * 16 * fields);
    if !reader.bit()? {
        return Ok((width, height, progressive));
    }
    let mut crop = || reader.unsigned_golomb().map(u64::from);
    let horizontal = (crop()? + crop()?) * u64::from(chroma.horizontal_unit);
    let vertical = (crop()? + crop()?) * u64::from(chroma.vertical_unit * fields);
    let cropped = |side: u32, crop: u64| {
        u64::from(side).checked_sub(crop).and_then(|left| u32::try_from(left).ok()).filter(|left| *left > 0)
    };
    match (cropped(width, horizontal), cropped(height, vertical)) {
        (Some(width), Some(height)) => Ok((width, height, progressive)),
        _ => Err(SpsError::Cropping),
    }
}

/// Reads the VUI as far as the colours.
///
/// Source: ISO/IEC 14496-10, E.1.1
fn read_colour(reader: &mut BitReader<'_>) -> Result<Option<Colour>, OutOfBits> {
    if reader.bit()? && reader.bits(8)? == EXTENDED_SAR {
        reader.skip(32)?;
    }
    if reader.bit()? {
        reader.skip(1)?; // overscan_appropriate_flag
    }
    if reader.bit()? { Colour::read_signal_type(reader) } else { Ok(None) }
}

/// Reads the VUI from behind the colours to the timing. A frame has two ticks.
///
/// Source: ISO/IEC 14496-10, E.1.1 and E.2.1
fn read_frame_rate(reader: &mut BitReader<'_>) -> Result<Option<(u32, u32)>, OutOfBits> {
    if reader.bit()? {
        reader.unsigned_golomb()?;
        reader.unsigned_golomb()?;
    }
    if !reader.bit()? {
        return Ok(None);
    }
    let units_in_tick = reader.bits(32)?;
    let time_scale = reader.bits(32)?;
    let denominator = units_in_tick.checked_mul(2).filter(|denominator| *denominator > 0);
    Ok(denominator.filter(|_| time_scale > 0).map(|denominator| reduced(time_scale, denominator)))
}

fn reduced(numerator: u32, denominator: u32) -> (u32, u32) {
    let (mut a, mut b) = (numerator, denominator);
    while b != 0 {
        (a, b) = (b, a % b);
    }
    (numerator / a, denominator / a)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bit_fields::BitFields;
    use proptest::prelude::*;

    fn full_hd_main() -> BitFields {
        BitFields::default().u(8, 0x67).u(8, 77).u(8, 0).u(8, 40).ue(0).ue(0).ue(2).ue(4).u(1, 0).ue(119).ue(67)
    }

    #[test]
    fn crops_1088_lines_to_1080() {
        let bits = full_hd_main().u(1, 1).u(1, 1).u(1, 1).ue(0).ue(0).ue(0).ue(4).u(1, 0);
        let found = SequenceParameters::parse(&bits.bytes()).unwrap();
        assert_eq!((found.width, found.height), (1920, 1080));
        assert_eq!(found.profile_name(), "Main");
        assert_eq!(found.frame_rate, None);
        assert!(found.progressive);
        assert_eq!((found.frame_num_bits, found.separate_planes), (4, false));
    }

    #[test]
    fn reads_the_frame_rate_behind_all_optional_fields() {
        let bits = full_hd_main().u(1, 1).u(1, 1).u(1, 0).u(1, 1); // no cropping, VUI
        let bits = bits.u(1, 1).u(8, 255).u(32, 0x0001_0001).u(1, 1).u(1, 0); // aspect ratio, overscan
        let bits = bits.u(1, 1).u(4, 10).u(1, 1).u(24, 0x01_0101).u(1, 1).ue(0).ue(0); // colour, chroma place
        let bits = bits.u(1, 1).u(32, 1001).u(32, 60_000).u(1, 1);
        let found = SequenceParameters::parse(&bits.bytes()).unwrap();
        assert_eq!(found.frame_rate, Some((30_000, 1001)));
        assert_eq!(found.colour.map(|colour| colour.to_string()).as_deref(), Some("BT.709"));
    }

    #[test]
    fn interlaced_doubles_the_map_units() {
        let bits = BitFields::default().u(8, 0x67).u(8, 77).u(8, 0).u(8, 30).ue(0).ue(0).ue(2).ue(4).u(1, 0);
        let bits = bits.ue(44).ue(17).u(1, 0).u(1, 1).u(1, 1).u(1, 0).u(1, 0);
        let found = SequenceParameters::parse(&bits.bytes()).unwrap();
        assert_eq!((found.width, found.height, found.progressive), (720, 576, false));
    }

    #[test]
    fn high_profile_with_scaling_lists() {
        let bits = BitFields::default().u(8, 0x67).u(8, 100).u(8, 0).u(8, 31).ue(0).ue(1).ue(0).ue(0).u(1, 0).u(1, 1);
        // One list of 16 that ends at once (delta -8 makes the next scale 0), seven absent.
        let bits = bits.u(1, 1).ue(16).u(7, 0);
        let bits = bits.ue(0).ue(2).ue(4).u(1, 0).ue(79).ue(44).u(1, 1).u(1, 1).u(1, 0).u(1, 0);
        let found = SequenceParameters::parse(&bits.bytes()).unwrap();
        assert_eq!((found.width, found.height, found.profile_name()), (1280, 720, "High"));
    }

    #[test]
    fn a_picture_of_a_million_blocks_is_refused() {
        let bits =
            BitFields::default().u(8, 0x67).u(8, 77).u(8, 0).u(8, 40).ue(0).ue(0).ue(2).ue(4).u(1, 0).ue(1_000_000);
        let error = SequenceParameters::parse(&bits.bytes()).unwrap_err();
        assert_eq!(error, SpsError::OutOfRange { field: "pic_width_in_mbs_minus1", value: 1_000_000, limit: 1023 });
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 1..80)) {
            bytes[0] = 0x67;
            let _ = SequenceParameters::parse(&bytes);
        }
    }
}
