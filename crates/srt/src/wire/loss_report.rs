use super::word_at;
use crate::number::SeqNumber;

/// Marks the first number of a range (appendix A).
const RANGE: u32 = 1 << 31;

/// Reads a loss list (§3.2.5, appendix A): single numbers, and ranges of a first and a last.
/// A damaged end is left out, and so are ranges that run backwards.
pub(crate) fn parse_losses(body: &[u8]) -> impl Iterator<Item = (SeqNumber, SeqNumber)> {
    let mut words = body.chunks_exact(4).filter_map(|raw| word_at(raw, 0));
    std::iter::from_fn(move || {
        loop {
            let first = words.next()?;
            let last = if first & RANGE == 0 { first } else { words.next()? };
            let (first, last) = (SeqNumber::new(first), SeqNumber::new(last));
            if last.since(first) >= 0 {
                return Some((first, last));
            }
        }
    })
}

/// Writes ranges until `max_length` bytes are used; the rest is reported another time.
pub(crate) fn write_losses(
    losses: impl IntoIterator<Item = (SeqNumber, SeqNumber)>,
    max_length: usize,
    out: &mut Vec<u8>,
) {
    let end = out.len() + max_length;
    for (first, last) in losses {
        let is_range = first != last;
        if out.len() + if is_range { 8 } else { 4 } > end {
            break;
        }
        if is_range {
            out.extend_from_slice(&(first.get() | RANGE).to_be_bytes());
        }
        out.extend_from_slice(&last.get().to_be_bytes());
    }
}

/// The first and the last packet that a drop request gives up (§3.2.9).
pub(crate) fn parse_drop_request(body: &[u8]) -> Option<(SeqNumber, SeqNumber)> {
    let (first, last) = (SeqNumber::new(word_at(body, 0)?), SeqNumber::new(word_at(body, 4)?));
    (last.since(first) >= 0).then_some((first, last))
}
