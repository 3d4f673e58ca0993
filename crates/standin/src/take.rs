use std::path::Path;

use anyhow::Context;
use bytes::Bytes;
use waverant_container::{FileReader, Source};
use waverant_media::{MediaTime, TrackKind};

use crate::{Mark, MarkKind};

/// Reads a take of either container and remembers its payloads, pictures and sound each in decode
/// order. Times are the presentation's, in milliseconds.
///
/// # Errors
/// If the file cannot be read.
pub fn read_take(path: &Path) -> anyhow::Result<(Vec<Mark>, f64)> {
    let context = || format!("take {}", path.display());
    read_marks(Bytes::from(std::fs::read(path).with_context(context)?)).with_context(context)
}

/// The same of a file in memory.
pub(crate) fn read_marks(file: Bytes) -> anyhow::Result<(Vec<Mark>, f64)> {
    let mut reader = FileReader::open(file)?;
    let (mut marks, mut end) = (Vec::new(), MediaTime::ZERO);
    while let Some(group) = reader.next_group()? {
        for sample in group {
            let track = &reader.tracks()[sample.track].track;
            let mut payload = vec![0; sample.size as usize];
            reader.source().read_at(sample.offset, &mut payload)?;
            let kind = match (track.codec.kind(), sample.sync) {
                (TrackKind::Audio, _) => MarkKind::Sound,
                (TrackKind::Video, true) => MarkKind::Keyframe,
                (TrackKind::Video, false) => MarkKind::Picture,
            };
            let time = u32::try_from(sample.pts.millis()).unwrap_or(0);
            let composition_ms = (sample.pts - sample.dts).millis();
            let mark = Mark::new(kind, track.id.place(), time, &payload);
            marks.push(mark.with_composition(composition_ms));
            end = end.max(sample.pts + sample.duration);
        }
    }
    // A file may hold its tracks one behind the other; the comparison goes track by track.
    marks.sort_by_key(|mark| (mark.kind == MarkKind::Sound, mark.track));
    Ok((marks, end.to_duration().as_secs_f64()))
}
