use std::path::Path;

use anyhow::Context;
use waverant_container::Mp4File;
use waverant_media::TrackKind;

use crate::{Mark, MarkKind};

/// Reads a take and remembers its payloads, pictures and sound each in decode order. Times are
/// the presentation's, in milliseconds.
///
/// # Errors
/// If the file cannot be read or is no MP4.
pub fn read_take(path: &Path) -> anyhow::Result<(Vec<Mark>, f64)> {
    let bytes = std::fs::read(path).with_context(|| format!("take {}", path.display()))?;
    let file = Mp4File::parse(&bytes.into()).with_context(|| format!("take {}", path.display()))?;
    let mut marks = Vec::new();
    for track in &file.tracks {
        let Some(codec) = &track.codec else { continue };
        for sample in &track.samples {
            let kind = match (codec.kind(), sample.sync) {
                (TrackKind::Audio, _) => MarkKind::Sound,
                (TrackKind::Video, true) => MarkKind::Keyframe,
                (TrackKind::Video, false) => MarkKind::Picture,
            };
            let time = u32::try_from(sample.pts.millis()).unwrap_or(0);
            let composition_ms = (sample.pts - sample.dts).millis();
            let mark = Mark::new(kind, track.track_id().place(), time, &sample.payload);
            marks.push(mark.with_composition(composition_ms));
        }
    }
    Ok((marks, file.duration().to_duration().as_secs_f64()))
}
