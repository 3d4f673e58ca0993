//! Bit fields put together, so that a test reads like the syntax table of a standard.

/// Fields that follow each other.
#[derive(Debug, Default)]
pub(crate) struct BitFields(Vec<bool>);

impl BitFields {
    /// An unsigned number of so many bits.
    pub(crate) fn u(mut self, count: u32, value: u32) -> Self {
        self.0.extend((0..count).rev().map(|bit| value >> bit & 1 == 1));
        self
    }

    /// An unsigned number in Exp-Golomb code.
    pub(crate) fn ue(self, value: u32) -> Self {
        let code = value + 1;
        let length = 32 - code.leading_zeros();
        self.u(length - 1, 0).u(length, code)
    }

    /// The bytes, with a stop bit at their end.
    pub(crate) fn bytes(mut self) -> Vec<u8> {
        self.0.push(true);
        let byte = |bits: &[bool]| bits.iter().enumerate().fold(0, |byte, (at, bit)| byte | u8::from(*bit) << (7 - at));
        self.0.chunks(8).map(byte).collect()
    }
}
