use std::io;

use bytes::Bytes;

/// A file as its readers see it: bytes at places, wherever they come from.
pub trait Source {
    /// How many bytes there are.
    fn len(&self) -> u64;

    /// Fills `buffer` with the bytes at `offset`.
    ///
    /// # Errors
    /// [`io::ErrorKind::UnexpectedEof`] beyond the end, or what the medium says.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;

    /// True if there are no bytes.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Source for Bytes {
    fn len(&self) -> u64 {
        self.as_ref().len() as u64
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let start = usize::try_from(offset).unwrap_or(usize::MAX);
        let found = start.checked_add(buffer.len()).and_then(|end| self.get(start..end));
        buffer.copy_from_slice(found.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

impl<S: Source + ?Sized> Source for &S {
    fn len(&self) -> u64 {
        (**self).len()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        (**self).read_at(offset, buffer)
    }
}

/// The bytes from `offset` on, `length` of them. The caller has checked the length against a limit.
pub(crate) fn read_span(source: &impl Source, offset: u64, length: usize) -> io::Result<Bytes> {
    let mut content = vec![0; length];
    source.read_at(offset, &mut content)?;
    Ok(content.into())
}
