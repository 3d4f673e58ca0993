use bytes::Bytes;

use super::extended::{Walk, packet_type};
use super::{FlvError, TagCodec, TagContent, TagPart, TagTime};

/// Set in the first byte when the codec is named by four letters.
const EXTENDED: u8 = 0x80;

/// Frame type of a keyframe.
const KEYFRAME: u8 = 1;

/// Frame type of a message from server to client, which carries no picture.
const COMMAND: u8 = 5;

/// Takes a video tag body apart and appends what it holds to `parts`; payloads share the memory
/// of `body`. A tag without a picture has no parts.
///
/// # Errors
/// [`FlvError`] if the header is cut short or has an undefined packet type. Parts before the
/// fault stay.
///
/// Source: FLV 10.1, E.4.3.1; E-RTMP 2, Enhanced Video
pub fn parse_video_tag(body: &Bytes, parts: &mut Vec<TagPart>) -> Result<TagTime, FlvError> {
    let Some(&first) = body.first() else { return Ok(TagTime::default()) };
    let mut walk = Walk::new("video", body);
    walk.u8()?;
    if first & EXTENDED != 0 {
        return parse_extended(first, &mut walk, parts);
    }
    let frame_type = first >> 4;
    if frame_type == COMMAND {
        return Ok(TagTime::default());
    }
    let codec = TagCodec::from_video_number(first & 0x0f);
    if codec.is_unknown() {
        parts.push(TagPart { track: 0, codec, content: TagContent::Unread });
        return Ok(TagTime::default());
    }
    let packet_type = walk.u8()?;
    let composition_time_ms = signed(walk.u24()?);
    let payload = walk.slice(None)?;
    let content = match packet_type {
        0 => TagContent::Config(payload),
        1 if payload.is_empty() => return Ok(TagTime::default()),
        1 => TagContent::Frame { keyframe: frame_type == KEYFRAME, composition_time_ms, payload },
        2 => TagContent::End,
        found => return Err(FlvError::PacketType { kind: "video", found }),
    };
    parts.push(TagPart { track: 0, codec, content });
    Ok(TagTime::default())
}

fn parse_extended(first: u8, walk: &mut Walk<'_>, parts: &mut Vec<TagPart>) -> Result<TagTime, FlvError> {
    let frame_type = first >> 4 & 7;
    let (packet_type, time) = walk.modifiers(first & 0x0f)?;
    if frame_type == COMMAND && packet_type != packet_type::METADATA {
        walk.u8()?;
        return Ok(time);
    }
    let multitrack = packet_type == packet_type::MULTITRACK;
    walk.parts(packet_type, multitrack, parts, |walk, packet_type, codec| {
        read_extended(walk, packet_type, codec, frame_type == KEYFRAME)
    })?;
    Ok(time)
}

fn read_extended(
    walk: &mut Walk<'_>,
    packet_type: u8,
    codec: TagCodec,
    keyframe: bool,
) -> Result<TagContent, FlvError> {
    if codec.is_unknown() {
        return Ok(TagContent::Unread);
    }
    let has_composition_time = packet_type == packet_type::FRAMES && codec.is_reordered();
    let composition_time_ms = if has_composition_time { signed(walk.u24()?) } else { 0 };
    Ok(match packet_type {
        packet_type::CONFIG => TagContent::Config(walk.slice(None)?),
        packet_type::FRAMES | packet_type::FRAMES_WITHOUT_COMPOSITION_TIME => {
            TagContent::Frame { keyframe, composition_time_ms, payload: walk.slice(None)? }
        }
        packet_type::END => TagContent::End,
        packet_type::METADATA => TagContent::ColourInfo(walk.slice(None)?),
        packet_type::MPEG2_TS_CONFIG => TagContent::Unread,
        found => return Err(FlvError::PacketType { kind: "video", found }),
    })
}

/// A signed number of 24 bits.
fn signed(value: u32) -> i32 {
    (value << 8).cast_signed() >> 8
}
