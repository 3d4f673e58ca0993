//! What a sequence header OBU tells.

use crate::{BitReader, Colour, OutOfBits};

/// The profile whose pictures may have twelve bits, and the one that always has colours.
const PROFESSIONAL: u8 = 2;
const HIGH: u8 = 1;

/// Colours of a still picture as computers have them: sRGB without a matrix. They have the full range.
const SRGB: (u8, u8, u8) = (1, 13, 0);

/// The colours that a sequence header tells; none if it tells none.
///
/// Source: AV1 Bitstream & Decoding Process, 5.5.1 and 5.5.2
pub(super) fn read_colour(header: &[u8], profile: u8) -> Result<Option<Colour>, OutOfBits> {
    let reader = &mut BitReader::new(header);
    let (is_reduced, _) = read_to_size(reader)?;
    if !is_reduced && reader.bit()? {
        reader.skip(4 + 3)?; // lengths of frame ids
    }
    reader.skip(3)?; // superblocks, intra tools
    if !is_reduced {
        skip_tools(reader)?;
    }
    reader.skip(3)?; // super resolution, filters
    let is_deep = reader.bit()?;
    if profile == PROFESSIONAL && is_deep {
        reader.skip(1)?; // twelve_bit
    }
    if profile != HIGH {
        reader.skip(1)?; // mono_chrome
    }
    if !reader.bit()? {
        return Ok(None);
    }
    let colour = Colour::read_points(reader, false)?;
    let is_srgb = (colour.primaries, colour.transfer, colour.matrix) == SRGB;
    Ok(Some(Colour { is_full_range: is_srgb || reader.bit()?, ..colour }))
}

fn skip_tools(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    reader.skip(4)?;
    let has_order_hint = reader.bit()?;
    if has_order_hint {
        reader.skip(2)?;
    }
    // Whether screen content tools are used: chosen by each frame, else as a bit says.
    let may_use_screen_tools = reader.bit()? || reader.bit()?;
    if may_use_screen_tools && !reader.bit()? {
        reader.skip(1)?; // seq_force_integer_mv
    }
    if has_order_hint {
        reader.skip(3)?;
    }
    Ok(())
}

/// Width and height in pixels.
///
/// Source: AV1 Bitstream & Decoding Process, 5.5.1
pub(super) fn read_size(header: &[u8]) -> Result<(u32, u32), OutOfBits> {
    Ok(read_to_size(&mut BitReader::new(header))?.1)
}

/// Reads as far as the size; whether the header is reduced, and the size.
fn read_to_size(reader: &mut BitReader<'_>) -> Result<(bool, (u32, u32)), OutOfBits> {
    reader.skip(3 + 1)?; // seq_profile, still_picture
    let is_reduced = reader.bit()?;
    if is_reduced {
        reader.skip(5)?; // reduced_still_picture_header: only the level follows
    } else {
        skip_operating_points(reader)?;
    }
    let (width_bits, height_bits) = (reader.bits(4)? + 1, reader.bits(4)? + 1);
    let width = reader.bits(usize::try_from(width_bits).unwrap_or(16))? + 1;
    let height = reader.bits(usize::try_from(height_bits).unwrap_or(16))? + 1;
    Ok((is_reduced, (width, height)))
}

fn skip_operating_points(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    let mut delay_length = None;
    if reader.bit()? {
        reader.skip(64)?; // num_units_in_display_tick, time_scale
        if reader.bit()? {
            skip_uvlc(reader)?;
        }
        if reader.bit()? {
            delay_length = Some(usize::try_from(reader.bits(5)?).unwrap_or(0) + 1);
            reader.skip(32 + 5 + 5)?;
        }
    }
    let has_display_delay = reader.bit()?;
    for _ in 0..=reader.bits(5)? {
        reader.skip(12)?; // operating_point_idc
        if reader.bits(5)? > 7 {
            reader.skip(1)?; // seq_tier
        }
        if let Some(length) = delay_length
            && reader.bit()?
        {
            reader.skip(2 * length + 1)?;
        }
        if has_display_delay && reader.bit()? {
            reader.skip(4)?;
        }
    }
    Ok(())
}

/// Source: AV1 Bitstream & Decoding Process, 4.10.3
fn skip_uvlc(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    let mut zeros = 0;
    while !reader.bit()? {
        zeros += 1;
    }
    if zeros < 32 { reader.skip(zeros) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bit_fields::BitFields;

    /// A sequence header whose last fields are these.
    fn header(tail: &[(u32, u32)]) -> Vec<u8> {
        let mut fields = vec![(3, 0), (1, 0), (1, 0), (1, 0), (1, 0), (5, 0), (12, 0), (5, 5)];
        fields.extend([(4, 10), (4, 9), (11, 1279), (10, 719)]);
        // No frame ids, tools, an order hint, screen tools chosen by frames, motion vectors chosen by them.
        fields.extend([(1, 0), (3, 7), (4, 15), (1, 1), (2, 3), (1, 1), (1, 1), (3, 6), (3, 3)]);
        fields.extend(tail);
        fields.iter().fold(BitFields::default(), |bits, (count, value)| bits.u(*count, *value)).u(16, 0).bytes()
    }

    #[test]
    fn colours_stand_behind_the_tools() {
        let found = read_colour(&header(&[(1, 1), (1, 0), (1, 1), (8, 9), (8, 18), (8, 9), (1, 0)]), 0).unwrap();
        assert_eq!(found.unwrap().to_string(), "BT.2020 HLG");
        assert_eq!(read_colour(&header(&[(1, 1), (1, 0), (1, 0)]), 0), Ok(None));
        let screen = read_colour(&header(&[(1, 0), (1, 1), (8, 1), (8, 13), (8, 0)]), 1).unwrap();
        assert!(screen.unwrap().is_full_range);
    }
}
