//! Writing boxes: the size is filled in when the box ends.

/// Bytes of a file under construction.
#[derive(Debug, Default)]
pub(super) struct BoxWriter {
    out: Vec<u8>,
}

impl BoxWriter {
    pub(super) fn new() -> Self {
        Self::default()
    }

    pub(super) fn into_bytes(self) -> Vec<u8> {
        self.out
    }

    pub(super) fn len(&self) -> usize {
        self.out.len()
    }

    pub(super) fn u16(&mut self, value: u16) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(super) fn u32(&mut self, value: u32) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(super) fn i32(&mut self, value: i32) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(super) fn u64(&mut self, value: u64) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(super) fn bytes(&mut self, bytes: &[u8]) -> &mut Self {
        self.out.extend_from_slice(bytes);
        self
    }

    pub(super) fn zeros(&mut self, count: usize) -> &mut Self {
        self.out.resize(self.out.len() + count, 0);
        self
    }

    /// Overwrites four bytes written before.
    pub(super) fn set_u32(&mut self, at: usize, value: u32) {
        if let Some(place) = self.out.get_mut(at..at + 4) {
            place.copy_from_slice(&value.to_be_bytes());
        }
    }

    /// Writes a box with what `content` writes. Boxes written here hold headers only and stay
    /// far below the 4 GiB of a 32-bit size.
    pub(super) fn boxed(&mut self, name: &[u8; 4], content: impl FnOnce(&mut Self)) -> &mut Self {
        let start = self.out.len();
        self.u32(0).bytes(name);
        content(self);
        let size = u32::try_from(self.out.len() - start).unwrap_or(u32::MAX);
        self.set_u32(start, size);
        self
    }

    /// Writes a box with a version and 24 bits of flags.
    pub(super) fn full_box(
        &mut self,
        name: &[u8; 4],
        version: u8,
        flags: u32,
        content: impl FnOnce(&mut Self),
    ) -> &mut Self {
        self.boxed(name, |out| {
            out.u32(u32::from(version) << 24 | flags & 0x00ff_ffff);
            content(out);
        })
    }
}
