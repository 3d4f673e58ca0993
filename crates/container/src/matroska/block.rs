//! Blocks: whose frames they are, when, and how several share one.
//!
//! Source: RFC 9559, 10

use super::ebml::read_vint;

const FLAG_KEYFRAME: u8 = 0x80;
const LACING: u8 = 0x06;

/// The start of a block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct BlockHead {
    pub(super) track: u64,
    /// From the cluster's timestamp.
    pub(super) offset: i16,
    /// Of a simple block only.
    pub(super) is_keyframe: bool,
    lacing: u8,
    /// Bytes of the head.
    pub(super) length: usize,
}

/// The most bytes of a head.
pub(super) const MAX_BLOCK_HEAD: usize = 11;

impl BlockHead {
    pub(super) fn read(bytes: &[u8]) -> Option<Self> {
        let (track, length) = read_vint(bytes)?;
        let [a, b, flags] = *bytes.get(length..length + 3)? else { return None };
        Some(Self {
            track,
            offset: i16::from_be_bytes([a, b]),
            is_keyframe: flags & FLAG_KEYFRAME != 0,
            lacing: flags & LACING,
            length: length + 3,
        })
    }

    pub(super) fn is_laced(&self) -> bool {
        self.lacing != 0
    }

    /// Places and lengths of the frames in a block that is whole. None if it is damaged.
    pub(super) fn frames(&self, block: &[u8]) -> Option<Vec<(usize, usize)>> {
        if !self.is_laced() {
            return Some(vec![(self.length, block.len().checked_sub(self.length)?)]);
        }
        let count = usize::from(*block.get(self.length)?) + 1;
        let mut at = self.length + 1;
        let mut sizes = match self.lacing {
            0x02 => xiph_sizes(block, &mut at, count - 1)?,
            0x06 => ebml_sizes(block, &mut at, count - 1)?,
            _ => {
                let each = block.len().checked_sub(at)? / count;
                vec![each; count - 1]
            }
        };
        let told: usize = sizes.iter().try_fold(0usize, |sum, size| sum.checked_add(*size))?;
        sizes.push(block.len().checked_sub(at)?.checked_sub(told)?);
        let mut frames = Vec::with_capacity(count);
        for size in sizes {
            frames.push((at, size));
            at += size;
        }
        Some(frames)
    }
}

/// Each size as a sum of bytes, of which 255 says that another follows.
fn xiph_sizes(block: &[u8], at: &mut usize, count: usize) -> Option<Vec<usize>> {
    let mut sizes = Vec::with_capacity(count);
    for _ in 0..count {
        let mut size = 0;
        loop {
            let byte = *block.get(*at)?;
            *at += 1;
            size += usize::from(byte);
            if byte != 255 {
                break;
            }
        }
        sizes.push(size);
    }
    Some(sizes)
}

/// The first size, and then differences.
fn ebml_sizes(block: &[u8], at: &mut usize, count: usize) -> Option<Vec<usize>> {
    let mut sizes: Vec<usize> = Vec::with_capacity(count);
    for place in 0..count {
        let (value, length) = read_vint(block.get(*at..)?)?;
        *at += length;
        let size = match sizes.last() {
            None => i64::try_from(value).ok()?,
            Some(last) => {
                let middle = (1i64 << (7 * length - 1)) - 1;
                i64::try_from(*last).ok()? + i64::try_from(value).ok()? - middle
            }
        };
        debug_assert!(place < count);
        sizes.push(usize::try_from(size).ok()?);
    }
    Some(sizes)
}

/// Writes the head of a simple block without lacing.
pub(super) fn write_block_head(track: u64, offset: i16, is_keyframe: bool, out: &mut super::ebml::Elements) {
    let [a, b] = offset.to_be_bytes();
    out.size(track).raw(&[a, b, if is_keyframe { FLAG_KEYFRAME } else { 0 }]);
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn a_block_without_lacing_is_one_frame() {
        let block = [0x81, 0xff, 0xfe, 0x80, 1, 2, 3];
        let head = BlockHead::read(&block).unwrap();
        assert_eq!((head.track, head.offset, head.is_keyframe), (1, -2, true));
        assert_eq!(head.frames(&block), Some(vec![(4, 3)]));
    }

    // Source: RFC 9559, 10.3: frames of 800, 500 and 1000 bytes
    #[rstest]
    #[case::xiph(0x02, &[2, 0xff, 0xff, 0xff, 0x23, 0xff, 0xf5], &[800, 500, 1000])]
    #[case::ebml(0x06, &[2, 0x43, 0x20, 0x5e, 0xd3], &[800, 500, 1000])]
    #[case::fixed(0x04, &[2], &[800, 800, 800])]
    fn laces_are_taken_apart(#[case] flags: u8, #[case] lace: &[u8], #[case] sizes: &[usize]) {
        let mut block = vec![0x81, 0, 0, flags];
        block.extend(lace);
        let start = block.len();
        block.resize(start + sizes.iter().sum::<usize>(), 7);
        let frames = BlockHead::read(&block).unwrap().frames(&block).unwrap();
        assert_eq!(frames.iter().map(|(_, size)| *size).collect::<Vec<_>>(), sizes);
        assert_eq!(frames[0].0, start);
    }

    #[rstest]
    #[case::sizes_beyond_the_block(&[0x81, 0, 0, 0x02, 1, 200, 1])]
    #[case::no_count(&[0x81, 0, 0, 0x04])]
    #[case::negative_size(&[0x81, 0, 0, 0x06, 2, 0x81, 0x80, 0])]
    fn damaged_laces_are_none(#[case] block: &[u8]) {
        assert_eq!(BlockHead::read(block).unwrap().frames(block), None);
    }
}
