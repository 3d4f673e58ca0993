use bytes::Bytes;

use super::extended::{Walk, packet_type};
use super::{FlvError, TagCodec, TagContent, TagPart, TagTime};

/// Sound format number that announces the extended header.
const EXTENDED: u8 = 9;

/// Takes an audio tag body apart and appends what it holds to `parts`; payloads share the
/// memory of `body`. A tag without data, which some encoders send before sound begins, has no
/// parts.
///
/// # Errors
/// [`FlvError`] if the header is cut short or has an undefined packet type. Parts before the
/// fault stay.
///
/// Source: FLV 10.1, E.4.2.1; E-RTMP 2, Enhanced Audio
pub fn parse_audio_tag(body: &Bytes, parts: &mut Vec<TagPart>) -> Result<TagTime, FlvError> {
    let Some(&first) = body.first() else { return Ok(TagTime::default()) };
    let mut walk = Walk::new("audio", body);
    walk.u8()?;
    if first >> 4 == EXTENDED {
        let (packet_type, time) = walk.modifiers(first & 0x0f)?;
        let multitrack = packet_type == packet_type::SOUND_MULTITRACK;
        walk.parts(packet_type, multitrack, parts, read_extended)?;
        return Ok(time);
    }
    let codec = TagCodec::from_sound_number(first >> 4);
    let content = match codec {
        TagCodec::Aac => match walk.u8()? {
            0 => TagContent::Config(walk.slice(None)?),
            1 => frame(walk.slice(None)?),
            found => return Err(FlvError::PacketType { kind: "audio", found }),
        },
        TagCodec::Mp3 => frame(walk.slice(None)?),
        _ => TagContent::Unread,
    };
    let is_empty = matches!(&content, TagContent::Frame { payload, .. } if payload.is_empty());
    if !is_empty {
        parts.push(TagPart { track: 0, codec, content });
    }
    Ok(TagTime::default())
}

fn read_extended(walk: &mut Walk<'_>, packet_type: u8, codec: TagCodec) -> Result<TagContent, FlvError> {
    if codec.is_unknown() {
        return Ok(TagContent::Unread);
    }
    Ok(match packet_type {
        packet_type::CONFIG => TagContent::Config(walk.slice(None)?),
        packet_type::FRAMES => frame(walk.slice(None)?),
        packet_type::END => TagContent::End,
        packet_type::CHANNEL_LAYOUT => TagContent::ChannelLayout(walk.slice(None)?),
        found => return Err(FlvError::PacketType { kind: "audio", found }),
    })
}

fn frame(payload: Bytes) -> TagContent {
    TagContent::Frame { keyframe: true, composition_time_ms: 0, payload }
}
