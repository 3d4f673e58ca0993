use anyhow::{Context, bail, ensure};
use bytes::{Buf, Bytes};
use waverant_rtmp::MediaKind;

use crate::Mark;
use crate::tag_marks::tag_marks;

/// Reads a whole FLV stream into marks.
///
/// Source: FLV specification 10.1, E.2 to E.4
///
/// # Errors
/// If something in it is missing, or not as the specification has it.
pub fn read_flv(bytes: &[u8]) -> anyhow::Result<Vec<Mark>> {
    let mut rest = Bytes::copy_from_slice(bytes);
    ensure!(rest.len() >= 13 && rest.starts_with(b"FLV\x01\x05\0\0\0\x09\0\0\0\0"), "it begins otherwise");
    rest.advance(13);
    let mut marks = Vec::new();
    while !rest.is_empty() {
        ensure!(rest.len() >= 11, "{} bytes where a tag was expected", rest.len());
        let kind = rest.get_u8();
        let (length, time) = (usize::try_from(rest.get_uint(3))?, u32::try_from(rest.get_uint(3))?);
        let timestamp = u32::from(rest.get_u8()) << 24 | time;
        ensure!(rest.get_uint(3) == 0, "the number of the stream is not 0");
        ensure!(rest.len() >= length + 4, "a tag of {length} bytes is cut short");
        let body = rest.split_to(length);
        let size = rest.get_u32();
        ensure!(usize::try_from(size)? == length + 11, "{size} follows a tag of {} bytes", length + 11);
        let kind = match kind {
            8 => MediaKind::Audio,
            9 => MediaKind::Video,
            18 => continue,
            kind => bail!("a tag of kind {kind}"),
        };
        let found = tag_marks(kind, timestamp, &body).map_err(anyhow::Error::msg).context("a tag")?;
        marks.extend(found);
    }
    Ok(marks)
}
