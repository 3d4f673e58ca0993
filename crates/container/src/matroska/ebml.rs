//! Elements of EBML: identifiers, lengths, and the kinds of content.
//!
//! Source: RFC 8794, 4 to 7

/// A length that says "until the end of what holds it", in eight bytes.
pub(super) const UNKNOWN_SIZE: [u8; 8] = [0x01, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff];

/// The header of an element.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct ElementHead {
    pub(super) id: u32,
    /// None if unknown.
    pub(super) size: Option<u64>,
    /// Bytes of the header.
    pub(super) length: usize,
}

/// What reading a header came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum HeadRead {
    Found(ElementHead),
    /// More bytes are needed.
    Incomplete,
    /// This is no header.
    Illegal,
}

/// The most bytes of a header.
pub(super) const MAX_HEAD: usize = 12;

pub(super) fn read_head(bytes: &[u8]) -> HeadRead {
    let Some(first) = bytes.first() else { return HeadRead::Incomplete };
    let id_length = first.leading_zeros() as usize + 1;
    if id_length > 4 {
        return HeadRead::Illegal;
    }
    let Some(id) = bytes.get(..id_length) else { return HeadRead::Incomplete };
    let id = id.iter().fold(0, |id, byte| id << 8 | u32::from(*byte));
    match read_vint(bytes.get(id_length..).unwrap_or_default()) {
        None if bytes.get(id_length) == Some(&0) => HeadRead::Illegal,
        None => HeadRead::Incomplete,
        Some((value, length)) => {
            let is_unknown = value == (1 << (7 * length)) - 1;
            HeadRead::Found(ElementHead { id, size: (!is_unknown).then_some(value), length: id_length + length })
        }
    }
}

/// A number whose first bits tell how long it is, without those bits; and how long it is.
pub(super) fn read_vint(bytes: &[u8]) -> Option<(u64, usize)> {
    let first = *bytes.first()?;
    let length = first.leading_zeros() as usize + 1;
    if length > 8 {
        return None;
    }
    let all = bytes.get(..length)?;
    let value = all.iter().fold(0, |value, byte| value << 8 | u64::from(*byte));
    Some((value & ((1 << (7 * length)) - 1), length))
}

/// Goes through the elements of a content that is whole.
pub(super) fn children(mut content: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    std::iter::from_fn(move || {
        let HeadRead::Found(head) = read_head(content) else { return None };
        let size = usize::try_from(head.size?).ok()?;
        let found = content.get(head.length..head.length.checked_add(size)?)?;
        content = &content[head.length + size..];
        Some((head.id, found))
    })
}

/// An unsigned number of up to eight bytes.
pub(super) fn read_uint(content: &[u8]) -> u64 {
    content.iter().take(8).fold(0, |value, byte| value << 8 | u64::from(*byte))
}

/// A number of four or eight bytes; zero if it is of none.
pub(super) fn read_float(content: &[u8]) -> f64 {
    match content.len() {
        4 => content.try_into().map_or(0.0, |bytes| f64::from(f32::from_be_bytes(bytes))),
        8 => content.try_into().map_or(0.0, f64::from_be_bytes),
        _ => 0.0,
    }
}

/// A text up to the zero that may end it.
pub(super) fn read_text(content: &[u8]) -> String {
    let text = content.split(|byte| *byte == 0).next().unwrap_or_default();
    String::from_utf8_lossy(text).into_owned()
}

/// Elements under construction.
#[derive(Debug, Default)]
pub(super) struct Elements {
    out: Vec<u8>,
}

impl Elements {
    pub(super) fn len(&self) -> usize {
        self.out.len()
    }

    pub(super) fn into_bytes(self) -> Vec<u8> {
        self.out
    }

    pub(super) fn raw(&mut self, bytes: &[u8]) -> &mut Self {
        self.out.extend_from_slice(bytes);
        self
    }

    pub(super) fn id(&mut self, id: u32) -> &mut Self {
        let bytes = id.to_be_bytes();
        let start = (id.leading_zeros() / 8) as usize;
        self.raw(&bytes[start..])
    }

    /// A length, in as few bytes as it takes.
    pub(super) fn size(&mut self, size: u64) -> &mut Self {
        // All ones would mean "unknown".
        let length = (1..8).find(|length| size < (1 << (7 * length)) - 1).unwrap_or(8);
        let marked = size | 1 << (7 * length);
        self.raw(&marked.to_be_bytes()[8 - length..])
    }

    pub(super) fn binary(&mut self, id: u32, content: &[u8]) -> &mut Self {
        self.id(id).size(content.len() as u64).raw(content)
    }

    pub(super) fn uint(&mut self, id: u32, value: u64) -> &mut Self {
        let start = (value.leading_zeros() / 8).min(7) as usize;
        self.binary(id, &value.to_be_bytes()[start..])
    }

    pub(super) fn float(&mut self, id: u32, value: f64) -> &mut Self {
        self.binary(id, &value.to_be_bytes())
    }

    pub(super) fn text(&mut self, id: u32, text: &str) -> &mut Self {
        self.binary(id, text.as_bytes())
    }

    pub(super) fn master(&mut self, id: u32, content: impl FnOnce(&mut Self)) -> &mut Self {
        let mut inner = Self::default();
        content(&mut inner);
        self.binary(id, &inner.out)
    }

    /// Fills `length` bytes, two at least.
    pub(super) fn void(&mut self, length: usize) -> &mut Self {
        // One byte of length is enough for short ones; eight leave no doubt.
        let head = if length < 100 { 2 } else { 9 };
        self.id(super::ids::VOID);
        match length {
            ..100 => self.size(length.saturating_sub(head) as u64),
            _ => self.raw(&eight_byte_size((length - head) as u64)),
        };
        self.out.resize(self.out.len() + length.saturating_sub(head), 0);
        self
    }
}

/// A length in eight bytes, to be written over another.
pub(super) fn eight_byte_size(size: u64) -> [u8; 8] {
    (size | 1 << 56).to_be_bytes()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    // Source: RFC 8794, 4.4 (tables of lengths)
    #[rstest]
    #[case::one_byte(&[0x82], Some((2, 1)))]
    #[case::two_bytes(&[0x40, 0x02], Some((2, 2)))]
    #[case::four_bytes(&[0x10, 0, 0, 2], Some((2, 4)))]
    #[case::cut_short(&[0x40], None)]
    #[case::longer_than_eight(&[0, 1, 2], None)]
    fn reads_numbers(#[case] bytes: &[u8], #[case] expected: Option<(u64, usize)>) {
        assert_eq!(read_vint(bytes), expected);
    }

    #[rstest]
    #[case::unknown(&[0x1f, 0x43, 0xb6, 0x75, 0xff], HeadRead::Found(ElementHead { id: 0x1f43_b675, size: None, length: 5 }))]
    #[case::known(&[0xa3, 0x81], HeadRead::Found(ElementHead { id: 0xa3, size: Some(1), length: 2 }))]
    #[case::short(&[0x1f, 0x43], HeadRead::Incomplete)]
    #[case::no_id(&[0x08, 0x81], HeadRead::Illegal)]
    #[case::no_size(&[0xa3, 0x00], HeadRead::Illegal)]
    fn reads_heads(#[case] bytes: &[u8], #[case] expected: HeadRead) {
        assert_eq!(read_head(bytes), expected);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(id in 0x81u32..0xff, value in any::<u64>(), gap in 2usize..300) {
            let mut out = Elements::default();
            out.uint(id, value).void(gap).float(id, 1.5);
            let bytes = out.into_bytes();
            let found: Vec<(u32, &[u8])> = children(&bytes).collect();
            prop_assert_eq!(found.len(), 3);
            prop_assert_eq!((found[0].0, read_uint(found[0].1)), (id, value));
            prop_assert_eq!(read_float(found[2].1), 1.5);
        }
    }
}
