use bytes::Bytes;
use waverant_container::{TagContent, TagPart, parse_audio_tag, parse_video_tag};
use waverant_rtmp::MediaKind;

use crate::{Mark, MarkKind};

/// What a media message holds, to be remembered; the error says what could not be read.
pub(crate) fn tag_marks(kind: MediaKind, timestamp_ms: u32, body: &Bytes) -> Result<Vec<Mark>, String> {
    let mut parts = Vec::new();
    let parsed = match kind {
        MediaKind::Audio => parse_audio_tag(body, &mut parts),
        MediaKind::Video => parse_video_tag(body, &mut parts),
    };
    parsed.map_err(|error| error.to_string())?;
    let mut marks = Vec::new();
    for TagPart { track, codec, content } in parts {
        let composition_ms = match &content {
            TagContent::Frame { composition_time_ms, .. } => i64::from(*composition_time_ms),
            _ => 0,
        };
        let (mark, payload) = match (kind, content) {
            (MediaKind::Video, TagContent::Config(raw)) => (MarkKind::VideoHeader, raw),
            (MediaKind::Audio, TagContent::Config(raw)) => (MarkKind::AudioHeader, raw),
            (MediaKind::Video, TagContent::Frame { keyframe: true, payload, .. }) => (MarkKind::Keyframe, payload),
            (MediaKind::Video, TagContent::Frame { payload, .. }) => (MarkKind::Picture, payload),
            (MediaKind::Audio, TagContent::Frame { payload, .. }) => (MarkKind::Sound, payload),
            (_, TagContent::Unread) => return Err(format!("{codec} is not known here")),
            _ => continue,
        };
        marks.push(Mark::new(mark, track, timestamp_ms, &payload).with_composition(composition_ms));
    }
    Ok(marks)
}
