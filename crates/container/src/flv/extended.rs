//! What the extended headers of sound and pictures share: modifiers, letters, tracks.

use bytes::Bytes;

use super::{FlvError, TagCodec, TagContent, TagPart, TagTime};

/// Packet types with the same meaning for sound and pictures.
///
/// Source: E-RTMP 2, Enhanced Audio and Enhanced Video
pub(super) mod packet_type {
    pub(in crate::flv) const CONFIG: u8 = 0;
    pub(in crate::flv) const FRAMES: u8 = 1;
    pub(in crate::flv) const END: u8 = 2;
    /// Sound.
    pub(in crate::flv) const CHANNEL_LAYOUT: u8 = 4;
    pub(in crate::flv) const SOUND_MULTITRACK: u8 = 5;
    /// Pictures.
    pub(in crate::flv) const FRAMES_WITHOUT_COMPOSITION_TIME: u8 = 3;
    pub(in crate::flv) const METADATA: u8 = 4;
    pub(in crate::flv) const MPEG2_TS_CONFIG: u8 = 5;
    pub(in crate::flv) const MULTITRACK: u8 = 6;
    pub(in crate::flv) const MODIFIER: u8 = 7;
}

/// Multitrack types.
const ONE_TRACK: u8 = 0;

const MANY_TRACKS_MANY_CODECS: u8 = 2;

/// The one modifier that is defined.
const TIMESTAMP_OFFSET_NANO: u8 = 0;

/// Nanoseconds of a modifier stay below a millisecond.
const MAX_NANOS: u32 = 999_999;

/// A place in a tag body that can only move within it.
pub(super) struct Walk<'a> {
    kind: &'static str,
    body: &'a Bytes,
    at: usize,
}

impl<'a> Walk<'a> {
    pub(super) fn new(kind: &'static str, body: &'a Bytes) -> Self {
        Self { kind, body, at: 0 }
    }

    pub(super) fn u8(&mut self) -> Result<u8, FlvError> {
        self.take(1).map(|bytes| bytes[0])
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], FlvError> {
        let needed = self.at + count;
        let truncated = FlvError::Truncated { kind: self.kind, found: self.body.len(), needed };
        let bytes = self.body.get(self.at..needed).ok_or(truncated)?;
        self.at = needed;
        Ok(bytes)
    }

    pub(super) fn u24(&mut self) -> Result<u32, FlvError> {
        self.take(3).map(|bytes| u32::from_be_bytes([0, bytes[0], bytes[1], bytes[2]]))
    }

    fn letters(&mut self) -> Result<TagCodec, FlvError> {
        let letters = self.take(4)?.try_into().unwrap_or_default();
        Ok(TagCodec::from_letters(letters))
    }

    /// All that is left, or the next `length` bytes of it.
    pub(super) fn slice(&mut self, length: Option<usize>) -> Result<Bytes, FlvError> {
        let length = length.unwrap_or(self.body.len() - self.at);
        let start = self.at;
        self.take(length)?;
        Ok(self.body.slice(start..start + length))
    }

    pub(super) fn is_at_end(&self) -> bool {
        self.at >= self.body.len()
    }

    /// Reads modifiers until another packet type comes.
    pub(super) fn modifiers(&mut self, mut packet_type: u8) -> Result<(u8, TagTime), FlvError> {
        let mut time = TagTime::default();
        while packet_type == packet_type::MODIFIER {
            let mut size = usize::from(self.u8()?) + 1;
            if size == 256 {
                size = self.take(2).map(|bytes| usize::from(u16::from_be_bytes([bytes[0], bytes[1]])))? + 1;
            }
            let data = self.take(size)?;
            let next = self.u8()?;
            if next >> 4 == TIMESTAMP_OFFSET_NANO
                && let Some(&[high, middle, low]) = data.get(..3)
            {
                time.offset_nanos = u32::from_be_bytes([0, high, middle, low]).min(MAX_NANOS);
            }
            packet_type = next & 0x0f;
        }
        Ok((packet_type, time))
    }

    /// Reads one track or many, and hands the body of each to `read`.
    pub(super) fn parts(
        &mut self,
        packet_type: u8,
        multitrack: bool,
        parts: &mut Vec<TagPart>,
        read: impl Fn(&mut Walk<'_>, u8, TagCodec) -> Result<TagContent, FlvError>,
    ) -> Result<(), FlvError> {
        if !multitrack {
            let codec = self.letters()?;
            let content = read(self, packet_type, codec)?;
            parts.push(TagPart { track: 0, codec, content });
            return Ok(());
        }
        let head = self.u8()?;
        let (form, packet_type) = (head >> 4, head & 0x0f);
        if form > MANY_TRACKS_MANY_CODECS {
            return Err(FlvError::MultitrackType { kind: self.kind, found: form });
        }
        let shared = if form == MANY_TRACKS_MANY_CODECS { None } else { Some(self.letters()?) };
        loop {
            let codec = shared.map_or_else(|| self.letters(), Ok)?;
            let track = self.u8()?;
            let size = match form {
                ONE_TRACK => None,
                _ => Some(usize::try_from(self.u24()?).unwrap_or(usize::MAX)),
            };
            let body = self.slice(size)?;
            let content = read(&mut Walk::new(self.kind, &body), packet_type, codec)?;
            parts.push(TagPart { track, codec, content });
            if form == ONE_TRACK || self.is_at_end() {
                return Ok(());
            }
        }
    }
}
