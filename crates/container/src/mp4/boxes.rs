//! Boxes: written, with the size filled in when the box ends; and found in memory.

use bytes::Bytes;

use crate::parts::{MAX_DEPTH, Mp4Error};

/// Bytes of a file under construction.
#[derive(Debug, Default)]
pub(crate) struct BoxWriter {
    out: Vec<u8>,
}

impl BoxWriter {
    pub(crate) fn new() -> Self {
        Self::default()
    }

    pub(crate) fn into_bytes(self) -> Vec<u8> {
        self.out
    }

    pub(crate) fn len(&self) -> usize {
        self.out.len()
    }

    pub(crate) fn u16(&mut self, value: u16) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(crate) fn u32(&mut self, value: u32) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(crate) fn i32(&mut self, value: i32) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(crate) fn u64(&mut self, value: u64) -> &mut Self {
        self.bytes(&value.to_be_bytes())
    }

    pub(crate) fn bytes(&mut self, bytes: &[u8]) -> &mut Self {
        self.out.extend_from_slice(bytes);
        self
    }

    /// A text with the zero that ends it.
    pub(crate) fn text(&mut self, text: &str) -> &mut Self {
        let text = text.split('\0').next().unwrap_or_default();
        self.bytes(text.as_bytes()).bytes(&[0])
    }

    pub(crate) fn zeros(&mut self, count: usize) -> &mut Self {
        self.out.resize(self.out.len() + count, 0);
        self
    }

    /// Overwrites four bytes written before.
    pub(crate) fn set_u32(&mut self, at: usize, value: u32) {
        if let Some(place) = self.out.get_mut(at..at + 4) {
            place.copy_from_slice(&value.to_be_bytes());
        }
    }

    /// Writes a box with what `content` writes. Boxes written here hold headers only and stay
    /// far below the 4 GiB of a 32-bit size.
    pub(crate) fn boxed(&mut self, name: &[u8; 4], content: impl FnOnce(&mut Self)) -> &mut Self {
        let start = self.out.len();
        self.u32(0).bytes(name);
        content(self);
        let size = u32::try_from(self.out.len() - start).unwrap_or(u32::MAX);
        self.set_u32(start, size);
        self
    }

    /// Writes a box with a version and 24 bits of flags.
    pub(crate) fn full_box(
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

pub(super) fn find_box(content: &Bytes, mut at: usize, wanted: &[u8; 4]) -> Option<Bytes> {
    while let Some((name, found, end)) = next_box(content, at) {
        if &name == wanted {
            return Some(found);
        }
        at = end;
    }
    None
}

/// The box at `at`: name, content, end. None if it is not whole.
pub(super) fn next_box(file: &Bytes, at: usize) -> Option<([u8; 4], Bytes, usize)> {
    let header = file.get(at..at.checked_add(8)?)?;
    let size = u32::from_be_bytes(header.get(..4)?.try_into().ok()?) as usize;
    let name: [u8; 4] = header.get(4..)?.try_into().ok()?;
    let (start, end) = match size {
        0 => (at + 8, file.len()),
        1 => {
            let large = file.get(at + 8..at + 16)?;
            let size = u64::from_be_bytes(large.try_into().ok()?);
            (at + 16, at.checked_add(usize::try_from(size).ok()?)?)
        }
        size => (at + 8, at.checked_add(size)?),
    };
    (start <= end && end <= file.len()).then(|| (name, file.slice(start..end), end))
}

type Visit<'a> = dyn FnMut(&[u8; 4], &Bytes) -> Result<bool, Mp4Error> + 'a;

/// Calls `visit` for each box; goes into those for which it answers true.
pub(super) fn for_each_box(content: &Bytes, depth: u8, visit: &mut Visit<'_>) -> Result<(), Mp4Error> {
    if depth > MAX_DEPTH {
        return Err(Mp4Error::TooDeep);
    }
    let mut at = 0;
    while let Some((name, inner, end)) = next_box(content, at) {
        if visit(&name, &inner)? {
            for_each_box(&inner, depth + 1, visit)?;
        }
        at = end;
    }
    Ok(())
}
