use waverant_media::{CodecParameters, NalUnitType, NalUnits};

/// NAL unit types of HEVC that the head of a file stands for: VPS, SPS, PPS and the delimiter.
///
/// Source: ITU-T H.265, table 7-1
const HEVC_SETS: std::ops::RangeInclusive<u8> = 32..=35;

/// The access unit without the delimiter and the parameter sets that it begins with: the sample entries `avc1` and
/// `hvc1` say that these are in the head of the file alone. Whoever changes them sends a new head.
///
/// Source: ISO/IEC 14496-15, 5.4.2.1 and 8.4.1.1
pub(super) fn without_parameter_sets<'a>(codec: &CodecParameters, payload: &'a [u8]) -> &'a [u8] {
    let (length_size, is_set): (u8, fn(u8) -> bool) = match codec {
        CodecParameters::H264(config) => (config.length_size(), |header| {
            use NalUnitType::{AccessUnitDelimiter, Pps, Sps};
            matches!(NalUnitType::from_header(header), Sps | Pps | AccessUnitDelimiter)
        }),
        CodecParameters::Hevc(config) => (config.length_size(), |header| HEVC_SETS.contains(&(header >> 1 & 0x3f))),
        _ => return payload,
    };
    let mut used = 0;
    for unit in NalUnits::new(payload, length_size) {
        if !unit.first().is_some_and(|header| is_set(*header)) {
            break;
        }
        used += usize::from(length_size) + unit.len();
    }
    // A picture of nothing else stays as it is: nobody can say what it was meant for.
    payload.get(used..).filter(|rest| !rest.is_empty()).unwrap_or(payload)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use waverant_media::testing;

    use super::*;

    #[rstest]
    #[case::delimiter_sets_and_picture(&[0, 0, 0, 1, 9, 0, 0, 0, 2, 0x67, 1, 0, 0, 0, 1, 0x68, 0, 0, 0, 1, 0x65], 16)]
    #[case::a_picture(&[0, 0, 0, 2, 0x41, 1], 0)]
    #[case::a_message_before_the_sets(&[0, 0, 0, 1, 6, 0, 0, 0, 1, 0x67], 0)]
    #[case::sets_alone(&[0, 0, 0, 1, 0x67], 0)]
    #[case::damaged(&[0, 0, 0, 9, 0x67], 0)]
    #[case::nothing(&[], 0)]
    fn what_the_head_says_is_left_out(#[case] payload: &[u8], #[case] skipped: usize) {
        assert_eq!(without_parameter_sets(&testing::h264(), payload), &payload[skipped..]);
    }

    #[test]
    fn the_sets_of_hevc_are_left_out() {
        let payload = [0, 0, 0, 2, 0x40, 1, 0, 0, 0, 2, 0x42, 1, 0, 0, 0, 2, 0x44, 1, 0, 0, 0, 2, 0x26, 1];
        assert_eq!(without_parameter_sets(&testing::hevc(), &payload), &payload[18..]);
    }
}
