use crate::parts::Mp4Error;

/// Reads big-endian fields of a box within its bounds.
pub(super) struct Fields<'a> {
    name: &'static str,
    rest: &'a [u8],
}

impl<'a> Fields<'a> {
    pub(super) fn new(name: &'static str, content: &'a [u8], skip: usize) -> Self {
        Self { name, rest: content.get(skip..).unwrap_or(&[]) }
    }

    fn take<const N: usize>(&mut self) -> Result<[u8; N], Mp4Error> {
        let (head, rest) =
            self.rest.split_first_chunk::<N>().ok_or_else(|| Mp4Error::Truncated { name: self.name.into() })?;
        self.rest = rest;
        Ok(*head)
    }

    pub(super) fn skip(&mut self, count: usize) -> Result<(), Mp4Error> {
        self.rest = self.rest.get(count..).ok_or_else(|| Mp4Error::Truncated { name: self.name.into() })?;
        Ok(())
    }

    pub(super) fn u16(&mut self) -> Result<u16, Mp4Error> {
        self.take().map(u16::from_be_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, Mp4Error> {
        self.take().map(u32::from_be_bytes)
    }

    pub(super) fn i32(&mut self) -> Result<i32, Mp4Error> {
        self.take().map(i32::from_be_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, Mp4Error> {
        self.take().map(u64::from_be_bytes)
    }

    /// What was not read yet.
    pub(super) fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// The rows of a table: as many as the box says, and no more than it holds.
    pub(super) fn rows<T>(
        &mut self,
        count: u32,
        mut read: impl FnMut(&mut Self) -> Result<T, Mp4Error>,
    ) -> Result<Vec<T>, Mp4Error> {
        // Every row takes bytes, so a hostile count ends with the box.
        let mut rows = Vec::new();
        for _ in 0..count {
            rows.push(read(self)?);
        }
        Ok(rows)
    }
}
