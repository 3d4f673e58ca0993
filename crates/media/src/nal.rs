use std::borrow::Cow;

/// The type of an H.264 NAL unit.
///
/// Source: ISO/IEC 14496-10, table 7-1
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NalUnitType {
    /// Coded slice of a picture that is not an IDR picture.
    NonIdrSlice,
    /// Coded slice of an IDR picture.
    IdrSlice,
    /// Supplemental enhancement information.
    Sei,
    /// Sequence parameter set.
    Sps,
    /// Picture parameter set.
    Pps,
    /// Access unit delimiter.
    AccessUnitDelimiter,
    /// Any other type.
    Other(u8),
}

impl NalUnitType {
    /// The type told by a NAL unit's first byte.
    pub fn from_header(header: u8) -> Self {
        match header & 0x1f {
            1 => Self::NonIdrSlice,
            5 => Self::IdrSlice,
            6 => Self::Sei,
            7 => Self::Sps,
            8 => Self::Pps,
            9 => Self::AccessUnitDelimiter,
            other => Self::Other(other),
        }
    }
}

/// Goes through the NAL units of an access unit in length-prefixed form.
///
/// Yields `None` after the last whole unit; [`is_malformed`](Self::is_malformed) then tells
/// whether bytes were left that form no unit.
///
/// Source: ISO/IEC 14496-15, 5.3.3.1
#[derive(Clone, Debug)]
pub struct NalUnits<'a> {
    rest: &'a [u8],
    length_size: usize,
    malformed: bool,
}

impl<'a> NalUnits<'a> {
    /// Iterates over `access_unit`, whose lengths take `length_size` bytes each (1, 2 or 4).
    pub fn new(access_unit: &'a [u8], length_size: u8) -> Self {
        Self { rest: access_unit, length_size: usize::from(length_size.clamp(1, 4)), malformed: false }
    }

    /// True once a length was met that reaches past the end.
    pub fn is_malformed(&self) -> bool {
        self.malformed
    }

    fn take(&mut self) -> Option<&'a [u8]> {
        let (prefix, after) = self.rest.split_at_checked(self.length_size)?;
        let length = prefix.iter().fold(0usize, |length, byte| length << 8 | usize::from(*byte));
        let (unit, rest) = after.split_at_checked(length)?;
        self.rest = rest;
        Some(unit)
    }
}

impl<'a> Iterator for NalUnits<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<&'a [u8]> {
        if self.rest.is_empty() || self.malformed {
            return None;
        }
        let unit = self.take();
        self.malformed = unit.is_none();
        unit
    }
}

/// Removes the emulation prevention bytes of a NAL unit: each `03` after two zero bytes.
///
/// Borrows when there is nothing to remove.
///
/// Source: ISO/IEC 14496-10, 7.3.1
pub fn unescape_rbsp(unit: &[u8]) -> Cow<'_, [u8]> {
    if !unit.windows(3).any(|window| window == [0, 0, 3]) {
        return Cow::Borrowed(unit);
    }
    let mut out = Vec::with_capacity(unit.len());
    let mut zeros = 0;
    for &byte in unit {
        if zeros >= 2 && byte == 3 {
            zeros = 0;
            continue;
        }
        zeros = if byte == 0 { zeros + 1 } else { 0 };
        out.push(byte);
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn splits_units() {
        let unit = [0, 0, 0, 2, 9, 0xf0, 0, 0, 0, 1, 0x65];
        let found: Vec<&[u8]> = NalUnits::new(&unit, 4).collect();
        assert_eq!(found, [&[9, 0xf0][..], &[0x65][..]]);
        assert_eq!(NalUnitType::from_header(0x65), NalUnitType::IdrSlice);
    }

    #[test]
    fn a_length_past_the_end_is_malformed() {
        let mut units = NalUnits::new(&[0, 0, 0, 9, 1], 4);
        assert_eq!(units.next(), None);
        assert!(units.is_malformed());
    }

    #[test]
    fn removes_emulation_prevention() {
        assert_eq!(&*unescape_rbsp(&[1, 0, 0, 3, 1, 0, 0, 3]), [1, 0, 0, 1, 0, 0]);
    }

    proptest! {
        #[test]
        fn never_panics(bytes in proptest::collection::vec(any::<u8>(), 0..200), size in 0u8..6) {
            let mut units = NalUnits::new(&bytes, size);
            let total: usize = units.by_ref().map(|unit| unit.len() + 1).sum();
            prop_assert!(total <= bytes.len());
            prop_assert!(unescape_rbsp(&bytes).len() <= bytes.len());
        }
    }
}
