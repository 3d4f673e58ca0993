use thiserror::Error;

/// The reader was asked for more bits than were left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("the structure ends {missing} bits too early")]
pub struct OutOfBits {
    /// How many bits were asked for beyond the end.
    pub missing: usize,
}

/// Reads big-endian bit fields and Exp-Golomb codes.
#[derive(Clone, Debug)]
pub struct BitReader<'a> {
    bytes: &'a [u8],
    position: usize,
}

impl<'a> BitReader<'a> {
    /// A reader at the first bit of `bytes`.
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, position: 0 }
    }

    /// How many bits are left.
    pub fn remaining(&self) -> usize {
        self.bytes.len() * 8 - self.position
    }

    /// Reads one bit.
    ///
    /// # Errors
    /// [`OutOfBits`] at the end.
    pub fn bit(&mut self) -> Result<bool, OutOfBits> {
        let byte = self.bytes.get(self.position / 8).ok_or(OutOfBits { missing: 1 })?;
        let set = byte >> (7 - self.position % 8) & 1 == 1;
        self.position += 1;
        Ok(set)
    }

    /// Reads `count` bits, at most 32, the first one as the highest.
    ///
    /// # Errors
    /// [`OutOfBits`] if fewer are left; nothing is consumed then.
    pub fn bits(&mut self, count: usize) -> Result<u32, OutOfBits> {
        debug_assert!(count <= 32);
        if count > self.remaining() {
            return Err(OutOfBits { missing: count - self.remaining() });
        }
        let mut value = 0;
        for _ in 0..count {
            value = value << 1 | u32::from(self.bit()?);
        }
        Ok(value)
    }

    /// Passes over `count` bits.
    ///
    /// # Errors
    /// [`OutOfBits`] if fewer are left.
    pub fn skip(&mut self, count: usize) -> Result<(), OutOfBits> {
        if count > self.remaining() {
            return Err(OutOfBits { missing: count - self.remaining() });
        }
        self.position += count;
        Ok(())
    }

    /// Reads an unsigned Exp-Golomb code, `ue(v)`.
    ///
    /// # Errors
    /// [`OutOfBits`] at the end, or if the prefix is longer than 32 zero bits, which no legal
    /// code has.
    ///
    /// Source: ISO/IEC 14496-10, 9.1
    pub fn unsigned_golomb(&mut self) -> Result<u32, OutOfBits> {
        let mut zeros = 0;
        while !self.bit()? {
            zeros += 1;
            if zeros > 31 {
                return Err(OutOfBits { missing: 1 });
            }
        }
        let rest = self.bits(zeros)?;
        Ok((1u32 << zeros) - 1 + rest)
    }

    /// Reads a signed Exp-Golomb code, `se(v)`.
    ///
    /// # Errors
    /// As [`unsigned_golomb`](Self::unsigned_golomb).
    ///
    /// Source: ISO/IEC 14496-10, 9.1.1
    pub fn signed_golomb(&mut self) -> Result<i32, OutOfBits> {
        let code = i64::from(self.unsigned_golomb()?);
        let magnitude = (code + 1) / 2;
        let value = if code % 2 == 1 { magnitude } else { -magnitude };
        i32::try_from(value).map_err(|_| OutOfBits { missing: 1 })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::zero(&[0b1000_0000], 0, 0)]
    #[case::one(&[0b0100_0000], 1, 1)]
    #[case::two(&[0b0110_0000], 2, -1)]
    #[case::three(&[0b0010_0000], 3, 2)]
    #[case::seven(&[0b0001_0000], 7, 4)]
    fn golomb_codes(#[case] bytes: &[u8], #[case] unsigned: u32, #[case] signed: i32) {
        assert_eq!(BitReader::new(bytes).unsigned_golomb(), Ok(unsigned));
        assert_eq!(BitReader::new(bytes).signed_golomb(), Ok(signed));
    }

    #[test]
    fn a_code_of_only_zeros_is_an_error() {
        assert!(BitReader::new(&[0; 16]).unsigned_golomb().is_err());
    }

    #[test]
    fn fields_cross_byte_borders() {
        let mut reader = BitReader::new(&[0b1010_1011, 0b1100_0000]);
        assert_eq!(reader.bits(3), Ok(0b101));
        assert_eq!(reader.bits(7), Ok(0b0101111));
        assert_eq!(reader.remaining(), 6);
        assert_eq!(reader.bits(7), Err(OutOfBits { missing: 1 }));
        assert_eq!(reader.remaining(), 6);
    }
}
