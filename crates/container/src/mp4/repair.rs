//! What a fragmented file lacks whose writer was killed.

use bytes::{BufMut, Bytes};

use super::box_reader::BoxReader;
use super::init::MOVIE_TIMESCALE;
use crate::cutting::Patch;
use crate::parts::{FileError, Repair};
use crate::source::Source;

/// Finds out how far the file is whole, and makes the index and the duration that it lacks. None
/// if nothing is missing.
pub(crate) fn repair(source: &impl Source) -> Result<Option<Repair>, FileError> {
    let mut reader = BoxReader::open(source)?;
    let mut duration = waverant_media::MediaTime::ZERO;
    while let Some(group) = reader.next_group(source)? {
        let ends = group.iter().map(|sample| sample.pts + sample.duration);
        duration = ends.max().map_or(duration, |end| duration.max(end));
    }
    let keep_bytes = reader.known.whole_end;
    let removed_bytes = source.len() - keep_bytes;
    if removed_bytes == 0 && reader.known.has_index {
        return Ok(None);
    }
    // An index that is cut off goes with the rest; a whole one stays.
    let append = if reader.known.has_index { Bytes::new() } else { reader.random_access().write() };
    let patches = reader.duration_at().map(|offset| {
        let mut bytes = Vec::with_capacity(8);
        bytes.put_u64(u64::try_from(duration.in_timescale(MOVIE_TIMESCALE)).unwrap_or(0));
        Patch { offset, bytes: bytes.into() }
    });
    Ok(Some(Repair { keep_bytes, removed_bytes, append, patches: patches.into_iter().collect(), duration }))
}
