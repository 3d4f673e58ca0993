use super::SequenceParameters;
use crate::{BitReader, OutOfBits, unescape_rbsp};

/// Bytes at the start of a slice in which its head's first fields stand.
const HEAD_LENGTH: usize = 32;

/// Which lines of a frame a picture has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Field {
    /// The first, the third and so on.
    Top,
    /// The others.
    Bottom,
}

/// What the head of a slice tells about its picture.
///
/// Source: ISO/IEC 14496-10, 7.3.3
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SliceHead {
    /// `frame_num`: both fields of a frame have the same.
    pub frame_num: u32,
    /// The picture's lines; None if it has all.
    pub field: Option<Field>,
}

impl SliceHead {
    /// Reads the head of a slice NAL unit (types 1, 2 and 5), header byte included.
    ///
    /// # Errors
    /// [`OutOfBits`] if it is cut short.
    pub fn parse(unit: &[u8], sequence: &SequenceParameters) -> Result<Self, OutOfBits> {
        let rbsp = unescape_rbsp(&unit[..unit.len().min(HEAD_LENGTH)]);
        let mut reader = BitReader::new(&rbsp);
        reader.skip(8)?;
        reader.unsigned_golomb()?; // first_mb_in_slice
        reader.unsigned_golomb()?; // slice_type
        reader.unsigned_golomb()?; // pic_parameter_set_id
        if sequence.separate_planes {
            reader.skip(2)?;
        }
        let frame_num = reader.bits(sequence.frame_num_bits.into())?;
        let is_field = !sequence.progressive && reader.bit()?;
        let field = match is_field {
            false => None,
            true if reader.bit()? => Some(Field::Bottom),
            true => Some(Field::Top),
        };
        Ok(Self { frame_num, field })
    }

    /// True if this picture and `first`, the one before it, are the fields of one frame (7.4.1.2.4).
    pub fn completes(&self, first: &Self) -> bool {
        let are_both = self.field.zip(first.field).is_some_and(|(one, other)| one != other);
        are_both && self.frame_num == first.frame_num
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// Interlaced, with five bits of `frame_num`.
    fn interlaced() -> SequenceParameters {
        let crate::CodecParameters::H264(config) = crate::testing::h264() else { panic!("no H.264") };
        SequenceParameters { progressive: false, frame_num_bits: 5, ..config.sequence().clone() }
    }

    /// Macroblock 0 (1), slice type 7 (0001000), set 0 (1), frame 9 (01001), then the flags.
    #[rstest]
    #[case::frame(0b1010_0100, None)]
    #[case::top(0b1010_0110, Some(Field::Top))]
    #[case::bottom(0b1010_0111, Some(Field::Bottom))]
    fn fields_are_told(#[case] flags: u8, #[case] expected: Option<Field>) {
        let head = [0x65, 0b1000_1000, flags, 0xff];
        assert_eq!(SliceHead::parse(&head, &interlaced()), Ok(SliceHead { frame_num: 9, field: expected }));
        let progressive = SequenceParameters { progressive: true, ..interlaced() };
        assert_eq!(SliceHead::parse(&head, &progressive), Ok(SliceHead { frame_num: 9, field: None }));
        assert!(SliceHead::parse(&head[..2], &interlaced()).is_err());
    }

    #[test]
    fn a_frame_has_two_fields_of_one_number() {
        let of = |frame_num, field| SliceHead { frame_num, field };
        let top = of(3, Some(Field::Top));
        assert!(of(3, Some(Field::Bottom)).completes(&top));
        assert!(!of(4, Some(Field::Bottom)).completes(&top), "of the next frame");
        assert!(!top.completes(&top) && !of(3, None).completes(&top) && !top.completes(&of(3, None)));
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..60)) {
            let _ = SliceHead::parse(&bytes, &interlaced());
        }
    }
}
