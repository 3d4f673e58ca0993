use bytes::Bytes;

use crate::av1_header::{read_colour, read_size};
use crate::config_error::ConfigError;
use crate::{BitReader, Colour, OutOfBits, Sampling};

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
    sampling: Sampling,
    size: Option<(u32, u32)>,
    colour: Option<Colour>,
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
        reader.skip(5)?; // seq_level_idx_0
        let sampling = read_sampling(&mut reader)?;
        let configuration = raw.get(FIXED_LENGTH..).ok_or(OutOfBits { missing: 8 })?;
        let header = sequence_header(configuration)?;
        let size = header.map(read_size).transpose()?;
        // What cannot be read of the colours is not known; the size is.
        let colour = header.and_then(|header| read_colour(header, profile).ok().flatten());
        Ok(Self { profile, sampling, size, colour, raw })
    }

    /// The record as it was received.
    pub fn raw(&self) -> &Bytes {
        &self.raw
    }

    /// Largest width and height, if the record holds the sequence header.
    pub fn size(&self) -> Option<(u32, u32)> {
        self.size
    }

    /// How pictures are sampled.
    pub fn sampling(&self) -> Sampling {
        self.sampling
    }

    /// How colours are to be shown, if the record's sequence header tells.
    pub fn colour(&self) -> Option<Colour> {
        self.colour
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

/// Source: AV1 Codec ISO Media File Format Binding, 2.3.3
fn read_sampling(reader: &mut BitReader<'_>) -> Result<Sampling, OutOfBits> {
    reader.skip(1)?; // seq_tier_0
    let (is_high, is_twelve, is_monochrome) = (reader.bit()?, reader.bit()?, reader.bit()?);
    let (is_half_wide, is_half_high) = (reader.bit()?, reader.bit()?);
    let bit_depth = match (is_high, is_twelve) {
        (false, _) => 8,
        (true, false) => 10,
        (true, true) => 12,
    };
    let chroma_format = match (is_monochrome, is_half_wide, is_half_high) {
        (true, ..) => 0,
        (_, true, true) => 1,
        (_, true, false) => 2,
        _ => 3,
    };
    Ok(Sampling { chroma_format, bit_depth })
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
