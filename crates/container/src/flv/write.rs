use std::ops::Deref;

use waverant_media::TrackKind;

use super::TagCodec;
use super::extended::packet_type;

/// First byte, multitrack type, letters, track, composition time.
const MAX_LENGTH: usize = 1 + 1 + 4 + 1 + 3;

/// Sound format and flags that AAC and MP3 have in common: 44 kHz, 16 bits, stereo. For AAC they
/// are fixed; MP3 decoders read the frame.
const SOUND_FLAGS: u8 = 0x0f;

/// How a tag header names codec and track.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TagForm {
    /// By a number; there is one track.
    First,
    /// By four letters; there is one track.
    Letters,
    /// By four letters, for the track with this number.
    Track(u8),
}

/// The bytes that go before a payload.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TagHeader {
    bytes: [u8; MAX_LENGTH],
    length: usize,
}

impl TagHeader {
    fn new() -> Self {
        Self { bytes: [0; MAX_LENGTH], length: 0 }
    }

    fn put(&mut self, bytes: &[u8]) {
        if let Some(room) = self.bytes.get_mut(self.length..self.length + bytes.len()) {
            room.copy_from_slice(bytes);
            self.length += bytes.len();
        }
    }
}

impl Deref for TagHeader {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.bytes[..self.length]
    }
}

/// The header before a decoder configuration.
pub fn config_header(kind: TrackKind, codec: TagCodec, form: TagForm) -> TagHeader {
    match (form, kind) {
        (TagForm::First, TrackKind::Video) => first_form_video(true, 0, 0),
        (TagForm::First, TrackKind::Audio) => first_form_audio(codec, 0),
        _ => extended(kind, codec, form, true, packet_type::CONFIG),
    }
}

/// The header before a picture or a frame of sound. A composition time beyond the 24 bits of
/// its field is written as the nearest end; it is left out where the codec has none.
pub fn frame_header(
    kind: TrackKind,
    codec: TagCodec,
    form: TagForm,
    keyframe: bool,
    composition_time_ms: i64,
) -> TagHeader {
    match (form, kind) {
        (TagForm::First, TrackKind::Video) => first_form_video(keyframe, 1, composition_time_ms),
        (TagForm::First, TrackKind::Audio) => first_form_audio(codec, 1),
        (_, TrackKind::Audio) => extended(kind, codec, form, keyframe, packet_type::FRAMES),
        _ if codec.is_reordered() && composition_time_ms != 0 => {
            let mut header = extended(kind, codec, form, keyframe, packet_type::FRAMES);
            header.put(&composition_time(composition_time_ms));
            header
        }
        // Codecs without a composition time know only the plain frame.
        _ if codec.is_reordered() => {
            extended(kind, codec, form, keyframe, packet_type::FRAMES_WITHOUT_COMPOSITION_TIME)
        }
        _ => extended(kind, codec, form, keyframe, packet_type::FRAMES),
    }
}

/// The whole tag that says that no more of a codec follows. None for codecs that have no such
/// tag in this form.
pub fn end_header(kind: TrackKind, codec: TagCodec, form: TagForm) -> Option<TagHeader> {
    match (form, kind) {
        (TagForm::First, TrackKind::Video) => Some(first_form_video(true, 2, 0)),
        (TagForm::First, TrackKind::Audio) => None,
        _ => Some(extended(kind, codec, form, true, packet_type::END)),
    }
}

/// The header before colour metadata.
pub fn colour_info_header(codec: TagCodec, form: TagForm) -> TagHeader {
    let form = if form == TagForm::First { TagForm::Letters } else { form };
    extended(TrackKind::Video, codec, form, true, packet_type::METADATA)
}

/// Source: FLV 10.1, E.4.3.1
fn first_form_video(keyframe: bool, packet_type: u8, composition_time_ms: i64) -> TagHeader {
    let mut header = TagHeader::new();
    header.put(&[if keyframe { 0x17 } else { 0x27 }, packet_type]);
    header.put(&composition_time(composition_time_ms));
    header
}

/// Source: FLV 10.1, E.4.2.1
fn first_form_audio(codec: TagCodec, packet_type: u8) -> TagHeader {
    let mut header = TagHeader::new();
    if codec == TagCodec::Mp3 {
        header.put(&[2 << 4 | SOUND_FLAGS]);
    } else {
        header.put(&[10 << 4 | SOUND_FLAGS, packet_type]);
    }
    header
}

/// Source: E-RTMP 2, Enhanced Audio and Enhanced Video
fn extended(kind: TrackKind, codec: TagCodec, form: TagForm, keyframe: bool, packet_type: u8) -> TagHeader {
    let frame_type = if keyframe { 1 } else { 2 };
    let (start, multitrack) = match kind {
        TrackKind::Video => (0x80 | frame_type << 4, packet_type::MULTITRACK),
        TrackKind::Audio => (9 << 4, packet_type::SOUND_MULTITRACK),
    };
    let letters = codec.letters().unwrap_or_default();
    let mut header = TagHeader::new();
    match form {
        TagForm::Track(track) => {
            // The high half of the second byte is 0: one track.
            header.put(&[start | multitrack, packet_type]);
            header.put(&letters);
            header.put(&[track]);
        }
        TagForm::First | TagForm::Letters => {
            header.put(&[start | packet_type]);
            header.put(&letters);
        }
    }
    header
}

fn composition_time(millis: i64) -> [u8; 3] {
    let time = i32::try_from(millis.clamp(-0x80_0000, 0x7f_ffff)).unwrap_or(0);
    let [_, high, middle, low] = time.to_be_bytes();
    [high, middle, low]
}
