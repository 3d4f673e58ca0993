//! What a file lacks whose writer was killed.

use bytes::Bytes;
use waverant_media::MediaTime;

use super::ebml::eight_byte_size;
use super::head::write_cues;
use super::ids;
use super::reader::ClusterReader;
use super::writer::closing_patches;
use crate::cutting::Patch;
use crate::parts::{FileError, Repair};
use crate::source::Source;

/// Length of a cluster's identifier, behind which we write its length in eight bytes.
const CLUSTER_ID_LENGTH: u64 = 4;

/// Finds out how far the file is whole, and makes the index and the lengths that it lacks. None if
/// nothing is missing, or the file was not begun by us.
pub(crate) fn repair(source: &impl Source) -> Result<Option<Repair>, FileError> {
    let mut reader = ClusterReader::open(source)?;
    let mut duration = MediaTime::ZERO;
    while let Some(group) = reader.next_group(source)? {
        let ends = group.iter().map(|sample| sample.pts + sample.duration);
        duration = ends.max().map_or(duration, |end| duration.max(end));
    }
    let keep_bytes = reader.known.whole_end;
    let removed_bytes = source.len() - keep_bytes;
    let places = *reader.places();
    // Without the rooms that our writer leaves there is nowhere to put what is missing.
    let rooms = [places.seek_room, places.info, places.tracks, places.duration];
    let is_ours = places.segment_start > 0 && rooms.iter().all(|place| *place >= places.segment_start);
    if !is_ours || removed_bytes == 0 && reader.known.has_index {
        return Ok(None);
    }
    let mut entries = vec![(ids::INFO, places.info), (ids::TRACKS, places.tracks)];
    if places.chapter_room > places.segment_start {
        entries.push((ids::CHAPTERS, places.chapter_room));
    }
    let append = match reader.cues() {
        cues if reader.known.has_index || cues.is_empty() => Bytes::new(),
        cues => {
            entries.push((ids::CUES, keep_bytes));
            Bytes::from(write_cues(cues))
        }
    };
    let relative: Vec<(u32, u64)> = entries.iter().map(|(id, at)| (*id, at - places.segment_start)).collect();
    let length = keep_bytes + append.len() as u64;
    let mut patches = closing_patches(&places, &relative, length, duration);
    // The blocks of the last cluster that are whole are kept: it ends behind them.
    if let Some((at, start)) = reader.cut_cluster().filter(|(at, start)| start - at == CLUSTER_ID_LENGTH + 8)
        && keep_bytes > start
    {
        let size = eight_byte_size(keep_bytes - start);
        patches.push(Patch { offset: at + CLUSTER_ID_LENGTH, bytes: Bytes::copy_from_slice(&size) });
    }
    Ok(Some(Repair { keep_bytes, removed_bytes, append, patches, duration }))
}
