//! The way from the bit depths of a sequence parameter set to the colours of its VUI.
//!
//! Source: ITU-T H.265, 7.3.2.2.1, 7.3.4, 7.3.7 and E.2.1

use crate::config_error::ConfigError;
use crate::{BitReader, Colour};

/// The most sets of reference pictures, and pictures in one.
const MAX_SETS: u32 = 64;
const MAX_PICTURES: u32 = 16;

/// Value of `aspect_ratio_idc` that announces a written ratio.
const EXTENDED_SAR: u32 = 255;

/// Reads on behind the bit depths. None if the set tells no colours.
pub(super) fn read(reader: &mut BitReader<'_>, sub_layers: u32) -> Result<Option<Colour>, ConfigError> {
    let order_bits = limited(reader, "log2_max_pic_order_cnt_lsb_minus4", 12)? + 4;
    let has_each_layer = reader.bit()?;
    for _ in 0..=if has_each_layer { sub_layers } else { 0 } {
        skip_golombs(reader, 3)?; // buffering, reorder, latency
    }
    skip_golombs(reader, 6)?; // sizes of blocks
    if reader.bit()? && reader.bit()? {
        skip_scaling_lists(reader)?;
    }
    reader.skip(2)?; // amp, sample adaptive offset
    if reader.bit()? {
        reader.skip(8)?;
        skip_golombs(reader, 2)?;
        reader.skip(1)?;
    }
    skip_short_term_sets(reader)?;
    if reader.bit()? {
        for _ in 0..limited(reader, "num_long_term_ref_pics_sps", 32)? {
            reader.skip(usize::try_from(order_bits + 1).unwrap_or(17))?;
        }
    }
    reader.skip(2)?; // temporal motion vectors, strong smoothing
    if !reader.bit()? {
        return Ok(None);
    }
    if reader.bit()? && reader.bits(8)? == EXTENDED_SAR {
        reader.skip(32)?;
    }
    if reader.bit()? {
        reader.skip(1)?; // overscan_appropriate_flag
    }
    if reader.bit()? { Ok(Colour::read_signal_type(reader)?) } else { Ok(None) }
}

fn limited(reader: &mut BitReader<'_>, field: &'static str, limit: u32) -> Result<u32, ConfigError> {
    match reader.unsigned_golomb()? {
        value if value <= limit => Ok(value),
        found => Err(ConfigError::field(field, found, "more than is legal")),
    }
}

fn skip_golombs(reader: &mut BitReader<'_>, count: usize) -> Result<(), ConfigError> {
    for _ in 0..count {
        reader.unsigned_golomb()?;
    }
    Ok(())
}

/// Source: ITU-T H.265, 7.3.4
fn skip_scaling_lists(reader: &mut BitReader<'_>) -> Result<(), ConfigError> {
    for size in 0..4u32 {
        for _ in (0..6).step_by(if size == 3 { 3 } else { 1 }) {
            if !reader.bit()? {
                reader.unsigned_golomb()?; // scaling_list_pred_matrix_id_delta
                continue;
            }
            if size > 1 {
                reader.signed_golomb()?; // scaling_list_dc_coef_minus8
            }
            for _ in 0..64.min(1 << (4 + (size << 1))) {
                reader.signed_golomb()?;
            }
        }
    }
    Ok(())
}

/// Source: ITU-T H.265, 7.3.7 and 7.4.8
fn skip_short_term_sets(reader: &mut BitReader<'_>) -> Result<(), ConfigError> {
    let mut pictures_before = 0;
    for set in 0..limited(reader, "num_short_term_ref_pic_sets", MAX_SETS)? {
        let is_predicted = set > 0 && reader.bit()?;
        if is_predicted {
            reader.skip(1)?; // delta_rps_sign
            reader.unsigned_golomb()?; // abs_delta_rps_minus1
            let mut pictures = 0;
            for _ in 0..=pictures_before {
                let is_used = reader.bit()?;
                if is_used || reader.bit()? {
                    pictures += 1;
                }
            }
            pictures_before = pictures;
        } else {
            let before = limited(reader, "num_negative_pics", MAX_PICTURES)?;
            let after = limited(reader, "num_positive_pics", MAX_PICTURES)?;
            for _ in 0..before + after {
                reader.unsigned_golomb()?; // delta_poc_minus1
                reader.skip(1)?; // used_by_curr_pic
            }
            pictures_before = before + after;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bit_fields::BitFields;

    /// Two sets of reference pictures, the second predicted from the first; a VUI with a written aspect ratio.
    fn behind_the_depths() -> BitFields {
        let bits = BitFields::default().ue(4).u(1, 1).ue(4).ue(2).ue(0); // order bits, one layer
        let bits = bits.ue(0).ue(3).ue(0).ue(3).ue(2).ue(2).u(1, 0).u(2, 1).u(1, 0); // blocks, no lists, no PCM
        let bits = bits.ue(2).ue(1).ue(1).ue(0).u(1, 1).ue(0).u(1, 1); // the first set: one before, one after
        let bits = bits.u(1, 1).u(1, 0).ue(0).u(1, 1).u(1, 0).u(1, 1).u(1, 1); // the second: used, added, used
        let bits = bits.u(1, 1).ue(1).u(8, 3).u(1, 1); // one long-term picture
        bits.u(2, 3).u(1, 1).u(1, 1).u(8, 255).u(32, 0x0004_0003).u(1, 0)
    }

    #[test]
    fn colours_stand_behind_all_of_it() {
        let bits = behind_the_depths().u(1, 1).u(3, 5).u(1, 0).u(1, 1).u(8, 9).u(8, 16).u(8, 9).u(16, 0);
        let found = read(&mut BitReader::new(&bits.bytes()), 0).unwrap().unwrap();
        assert_eq!(found.to_string(), "BT.2020 PQ");
        let without = behind_the_depths().u(1, 0).u(16, 0);
        assert_eq!(read(&mut BitReader::new(&without.bytes()), 0).unwrap(), None);
    }

    #[test]
    fn lists_of_scaling_are_passed_over() {
        let bits = BitFields::default().ue(4).u(1, 1).ue(4).ue(2).ue(0).ue(0).ue(3).ue(0).ue(3).ue(2).ue(2).u(2, 3);
        // The first list is written with sixteen values, the others are as others.
        let bits = (0..16).fold(bits.u(1, 1), |bits, _| bits.ue(0));
        let bits = (0..19).fold(bits, |bits, _| bits.u(1, 0).ue(0));
        let bits = bits.u(2, 0).u(1, 0).ue(0).u(1, 0).u(2, 0).u(1, 1).u(1, 0).u(1, 0).u(1, 1);
        let bits = bits.u(3, 5).u(1, 1).u(1, 1).u(8, 1).u(8, 1).u(8, 1).u(16, 0);
        let found = read(&mut BitReader::new(&bits.bytes()), 0).unwrap().unwrap();
        assert_eq!(found.to_string(), "BT.709, full range");
    }
}
