//! Marks in a fragmented file: event messages between the fragments.
//!
//! Source: ISO/IEC 23009-1, 5.10.3.3

use bytes::Bytes;
use waverant_media::MediaTime;

use super::boxes::BoxWriter;
use super::fields::Fields;
use super::init::MOVIE_TIMESCALE;
use crate::parts::{FileMark, Mp4Error, shortened};

/// Names the kind of event: its message is the title of a moment.
const SCHEME: &str = "urn:waverant:mark";

pub(super) fn write_mark(out: &mut BoxWriter, number: u32, mark: &FileMark) {
    out.full_box(b"emsg", 1, 0, |out| {
        out.u32(MOVIE_TIMESCALE).u64(u64::try_from(mark.at.ticks()).unwrap_or(0));
        out.u32(0).u32(number).text(SCHEME).text("").bytes(mark.title.as_bytes());
    });
}

/// Reads the content of an `emsg` box; none if it is of another kind.
pub(super) fn read_mark(content: &Bytes) -> Result<Option<FileMark>, Mp4Error> {
    let mut fields = Fields::new("emsg", content, 0);
    if fields.u32()? >> 24 != 1 {
        return Ok(None);
    }
    let timescale = i128::from(fields.u32()?.max(1));
    let time = i128::from(fields.u64()?) * i128::from(MOVIE_TIMESCALE) / timescale;
    let at = MediaTime::from_ticks(i64::try_from(time).unwrap_or(i64::MAX));
    fields.skip(8)?;
    let rest = fields.rest();
    let Some(message) = rest.strip_prefix(SCHEME.as_bytes()).and_then(|rest| rest.strip_prefix(b"\0\0")) else {
        return Ok(None);
    };
    Ok(Some(FileMark { at, title: shortened(&String::from_utf8_lossy(message)) }))
}
