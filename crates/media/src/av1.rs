use bytes::Bytes;

use crate::config_error::ConfigError;
use crate::{BitReader, OutOfBits};

/// OBU type of a sequence header.
///
/// Source: AV1 Bitstream & Decoding Process, 6.2.2
const SEQUENCE_HEADER: u32 = 1;

/// Bytes before the configuration OBUs.
const FIXED_LENGTH: usize = 4;

/// The configuration of an AV1 track.
///
/// Source: AV1 Codec ISO Media File Format Binding, 2.3
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Av1Config {
    raw: Bytes,
    profile: u8,
    size: Option<(u32, u32)>,
}

impl Av1Config {
    /// Reads an AV1CodecConfigurationRecord and keeps the bytes. The sequence header may be
    /// missing: then it comes in the stream, and the record tells no size.
    ///
    /// # Errors
    /// [`ConfigError`] if the record is cut short or its sequence header is damaged.
    pub fn parse(raw: Bytes) -> Result<Self, ConfigError> {
        let mut reader = BitReader::new(&raw);
        let marker = reader.bits(8)?;
        if marker != 0x81 {
            return Err(ConfigError::field("marker and version", marker, "129 is defined"));
        }
        let profile = u8::try_from(reader.bits(3)?).unwrap_or(0);
        let configuration = raw.get(FIXED_LENGTH..).ok_or(OutOfBits { missing: 8 })?;
        let size = sequence_header(configuration)?.map(read_size).transpose()?;
        Ok(Self { profile, size, raw })
    }

    /// The record as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// Largest width and height, if the record holds the sequence header.
    pub fn size(&self) -> Option<(u32, u32)> {
        self.size
    }

    /// The profile's name as people write it.
    pub fn profile_name(&self) -> &'static str {
        match self.profile {
            0 => "Main",
            1 => "High",
            2 => "Professional",
            _ => "unknown",
        }
    }
}

/// The payload of the first sequence header OBU.
///
/// Source: AV1 Bitstream & Decoding Process, 5.3.1
fn sequence_header(mut bytes: &[u8]) -> Result<Option<&[u8]>, ConfigError> {
    let truncated = ConfigError::Truncated(OutOfBits { missing: 8 });
    while let Some((&header, rest)) = bytes.split_first() {
        let (kind, has_extension, has_size) = (header >> 3 & 15, header & 4 != 0, header & 2 != 0);
        let rest = if has_extension { rest.get(1..).ok_or(truncated)? } else { rest };
        let (size, rest) = if has_size { read_leb128(rest).ok_or(truncated)? } else { (rest.len(), rest) };
        let (payload, after) = rest.split_at_checked(size).ok_or(truncated)?;
        if u32::from(kind) == SEQUENCE_HEADER {
            return Ok(Some(payload));
        }
        bytes = after;
    }
    Ok(None)
}

/// Source: AV1 Bitstream & Decoding Process, 4.10.5
fn read_leb128(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let mut value = 0usize;
    for (place, &byte) in bytes.iter().take(8).enumerate() {
        value |= usize::from(byte & 0x7f).checked_shl(u32::try_from(place * 7).ok()?)?;
        if byte & 0x80 == 0 {
            return Some((value, &bytes[place + 1..]));
        }
    }
    None
}

/// Source: AV1 Bitstream & Decoding Process, 5.5.1
fn read_size(header: &[u8]) -> Result<(u32, u32), ConfigError> {
    let mut reader = BitReader::new(header);
    reader.skip(3 + 1)?; // seq_profile, still_picture
    if reader.bit()? {
        reader.skip(5)?; // reduced_still_picture_header: only the level follows
    } else {
        skip_operating_points(&mut reader)?;
    }
    let (width_bits, height_bits) = (reader.bits(4)? + 1, reader.bits(4)? + 1);
    let width = reader.bits(usize::try_from(width_bits).unwrap_or(16))? + 1;
    let height = reader.bits(usize::try_from(height_bits).unwrap_or(16))? + 1;
    Ok((width, height))
}

fn skip_operating_points(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    let mut delay_length = None;
    if reader.bit()? {
        reader.skip(64)?; // num_units_in_display_tick, time_scale
        if reader.bit()? {
            skip_uvlc(reader)?;
        }
        if reader.bit()? {
            delay_length = Some(usize::try_from(reader.bits(5)?).unwrap_or(0) + 1);
            reader.skip(32 + 5 + 5)?;
        }
    }
    let has_display_delay = reader.bit()?;
    for _ in 0..=reader.bits(5)? {
        reader.skip(12)?; // operating_point_idc
        if reader.bits(5)? > 7 {
            reader.skip(1)?; // seq_tier
        }
        if let Some(length) = delay_length
            && reader.bit()?
        {
            reader.skip(2 * length + 1)?;
        }
        if has_display_delay && reader.bit()? {
            reader.skip(4)?;
        }
    }
    Ok(())
}

/// Source: AV1 Bitstream & Decoding Process, 4.10.3
fn skip_uvlc(reader: &mut BitReader<'_>) -> Result<(), OutOfBits> {
    let mut zeros = 0;
    while !reader.bit()? {
        zeros += 1;
    }
    if zeros < 32 { reader.skip(zeros) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::testing::AV1_RECORD;

    #[test]
    fn reads_a_record() {
        let config = Av1Config::parse(Bytes::from_static(AV1_RECORD)).unwrap();
        assert_eq!((config.size(), config.profile_name()), (Some((1280, 720)), "Main"));
        let bare = Av1Config::parse(Bytes::from_static(&AV1_RECORD[..4])).unwrap();
        assert_eq!(bare.size(), None);
        for length in (0..4).chain(5..AV1_RECORD.len()) {
            let cut = Av1Config::parse(Bytes::from_static(&AV1_RECORD[..length]));
            assert!(matches!(cut, Err(ConfigError::Truncated(_))), "{length}: {cut:?}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_parse_or_fail(mut bytes in proptest::collection::vec(any::<u8>(), 0..60), valid_start: bool) {
            if valid_start && let Some(first) = bytes.first_mut() {
                *first = 0x81;
            }
            let _ = Av1Config::parse(bytes.into());
        }
    }
}
