//! AAC in LOAS and LATM (ISO/IEC 14496-3, 1.7).

use bytes::Bytes;
use waverant_media::{AudioSpecificConfig, BitReader, CodecParameters, OutOfBits};

use super::frame_head::{At, Head, HeadPayload};

/// Eleven bits that begin a frame (1.7.2).
pub(super) const SYNC_WORD: u16 = 0x2b7;

/// Sync word and length.
const HEADER_LENGTH: usize = 3;

/// Keeps the configuration, which is not in every frame.
#[derive(Debug, Default)]
pub(super) struct Latm {
    config: Option<AudioSpecificConfig>,
    /// Bits of other data behind each payload.
    other_bits: usize,
}

/// What cannot be read, or is not offered: several programs, layers or sub-frames.
struct Unread;

impl From<OutOfBits> for Unread {
    fn from(_: OutOfBits) -> Self {
        Self
    }
}

impl Latm {
    pub(super) fn frame_at(&mut self, bytes: &[u8]) -> At {
        let Some(head) = bytes.first_chunk::<HEADER_LENGTH>() else { return At::Cut };
        if u16::from_be_bytes([head[0], head[1]]) >> 5 != SYNC_WORD {
            return At::Nothing;
        }
        let length = HEADER_LENGTH + (usize::from(head[1] & 0x1f) << 8 | usize::from(head[2]));
        let Some(element) = bytes.get(HEADER_LENGTH..length) else { return At::Cut };
        let Ok(payload) = self.read_element(element) else { return At::Nothing };
        let Some(config) = &self.config else {
            // The configuration comes with a later frame. Until then any will do.
            return At::Nothing;
        };
        let payload = payload.map_or(HeadPayload::Nothing, HeadPayload::Moved);
        let samples = config.samples_per_frame();
        At::Frame(Box::new(Head { length, payload, config: CodecParameters::Aac(config.clone()), samples }))
    }

    /// Table 1.41; None if there was no configuration yet.
    fn read_element(&mut self, element: &[u8]) -> Result<Option<Bytes>, Unread> {
        let mut reader = BitReader::new(element);
        if !reader.bit()? {
            self.read_config(&mut reader, element)?;
        }
        if self.config.is_none() {
            return Ok(None);
        }
        let mut length = 0;
        loop {
            let byte = reader.bits(8)?;
            length += usize::try_from(byte).unwrap_or_default();
            if byte != 255 {
                break;
            }
        }
        let mut payload = Vec::with_capacity(length);
        for _ in 0..length {
            payload.push(u8::try_from(reader.bits(8)?).unwrap_or_default());
        }
        reader.skip(self.other_bits.min(reader.remaining()))?;
        Ok(Some(payload.into()))
    }

    /// Table 1.42.
    fn read_config(&mut self, reader: &mut BitReader<'_>, element: &[u8]) -> Result<(), Unread> {
        let version = reader.bit()?;
        if version && reader.bit()? {
            return Err(Unread);
        }
        if version {
            read_value(reader)?; // taraBufferFullness
        }
        let same_framing = reader.bit()?;
        let (sub_frames, programs, layers) = (reader.bits(6)?, reader.bits(4)?, reader.bits(3)?);
        if !same_framing || sub_frames != 0 || programs != 0 || layers != 0 {
            return Err(Unread);
        }
        let told = if version { Some(read_value(reader)?) } else { None };
        let start = element.len() * 8 - reader.remaining();
        let length = config_bits(reader)?;
        let length = match told {
            // What the length says beyond what we know is passed over.
            Some(told) => {
                let told = usize::try_from(told).unwrap_or(usize::MAX);
                reader.skip(told.checked_sub(length).ok_or(Unread)?)?;
                told
            }
            None => length,
        };
        let raw = bits_of(element, start, length)?;
        self.config = Some(AudioSpecificConfig::parse(raw).map_err(|_| Unread)?);
        if reader.bits(3)? != 0 {
            return Err(Unread);
        }
        reader.skip(8)?; // latmBufferFullness
        self.other_bits = 0;
        if reader.bit()? {
            self.other_bits = if version { read_value(reader)? as usize } else { read_escaped(reader)? };
        }
        if reader.bit()? {
            reader.skip(8)?; // the check sum of the configuration
        }
        Ok(())
    }
}

/// Reads an AudioSpecificConfig (1.6.2.1) for its length in bits.
fn config_bits(reader: &mut BitReader<'_>) -> Result<usize, Unread> {
    let before = reader.remaining();
    let mut object_type = object_type(reader)?;
    frequency(reader)?;
    let channels = reader.bits(4)?;
    if matches!(object_type, 5 | 29) {
        frequency(reader)?;
        object_type = self::object_type(reader)?;
    }
    // Only the general configuration (4.4.1), without a list of channels.
    if !matches!(object_type, 1..=4) || channels == 0 {
        return Err(Unread);
    }
    reader.skip(1)?;
    if reader.bit()? {
        reader.skip(14)?; // coreCoderDelay
    }
    if reader.bit()? {
        return Err(Unread);
    }
    Ok(before - reader.remaining())
}

fn object_type(reader: &mut BitReader<'_>) -> Result<u32, OutOfBits> {
    let number = reader.bits(5)?;
    if number == 31 { Ok(32 + reader.bits(6)?) } else { Ok(number) }
}

fn frequency(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    if reader.bits(4)? == 15 {
        reader.skip(24)?;
    }
    Ok(())
}

/// LatmGetValue (table 1.43).
fn read_value(reader: &mut BitReader<'_>) -> Result<u32, OutOfBits> {
    let count = reader.bits(2)? + 1;
    (0..count).try_fold(0_u32, |value, _| Ok(value << 8 | reader.bits(8)?))
}

/// otherDataLenBits of version 0.
fn read_escaped(reader: &mut BitReader<'_>) -> Result<usize, Unread> {
    let mut length = 0_usize;
    loop {
        let goes_on = reader.bit()?;
        length = length.checked_mul(256).ok_or(Unread)? + usize::try_from(reader.bits(8)?).unwrap_or_default();
        if !goes_on {
            return Ok(length);
        }
    }
}

/// Bits of `bytes` as bytes of their own, filled up with zeros.
fn bits_of(bytes: &[u8], start: usize, length: usize) -> Result<Bytes, Unread> {
    let mut reader = BitReader::new(bytes);
    reader.skip(start)?;
    let mut out = Vec::with_capacity(length.div_ceil(8).min(bytes.len()));
    let mut left = length;
    while left > 0 {
        let count = left.min(8);
        let value = reader.bits(count)? << (8 - count);
        out.push(u8::try_from(value).unwrap_or_default());
        left -= count;
    }
    Ok(out.into())
}
