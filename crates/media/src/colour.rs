//! Colour and sampling of pictures, as the parameters of their codec tell them.

use std::fmt;

use crate::{BitReader, OutOfBits};

/// What stands where nothing is told.
const UNSPECIFIED: u8 = 2;

/// How the samples of pictures are to be shown, in the code points of ITU-T H.273.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Colour {
    /// `ColourPrimaries` (8.1).
    pub primaries: u8,
    /// `TransferCharacteristics` (8.2).
    pub transfer: u8,
    /// `MatrixCoefficients` (8.3).
    pub matrix: u8,
    /// True if samples use all values, and not the narrow range of broadcasting.
    pub is_full_range: bool,
}

/// The range of light that pictures are made for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DynamicRange {
    /// The usual one.
    Standard,
    /// High, perceptual quantisation (SMPTE ST 2084).
    Pq,
    /// High, hybrid log-gamma (ARIB STD-B67).
    Hlg,
}

impl Colour {
    /// Reads three code points, each of eight bits.
    pub(crate) fn read_points(reader: &mut BitReader<'_>, is_full_range: bool) -> Result<Self, OutOfBits> {
        let mut point = || Ok::<u8, OutOfBits>(u8::try_from(reader.bits(8)?).unwrap_or(UNSPECIFIED));
        Ok(Self { primaries: point()?, transfer: point()?, matrix: point()?, is_full_range })
    }

    /// Reads `video_signal_type` of a VUI, behind its flag. None if it tells no colours.
    ///
    /// Source: ISO/IEC 14496-10, E.1.1; ITU-T H.265, E.2.1
    pub(crate) fn read_signal_type(reader: &mut BitReader<'_>) -> Result<Option<Self>, OutOfBits> {
        reader.skip(3)?; // video_format
        let is_full_range = reader.bit()?;
        if !reader.bit()? {
            return Ok(None);
        }
        Self::read_points(reader, is_full_range).map(Some)
    }

    /// The range of light.
    pub fn dynamic_range(&self) -> DynamicRange {
        match self.transfer {
            16 => DynamicRange::Pq,
            18 => DynamicRange::Hlg,
            _ => DynamicRange::Standard,
        }
    }

    /// True for more than the usual range of light.
    pub fn is_hdr(&self) -> bool {
        self.dynamic_range() != DynamicRange::Standard
    }
}

impl fmt::Display for Colour {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.primaries {
            1 => out.write_str("BT.709"),
            5..=7 => out.write_str("BT.601"),
            9 => out.write_str("BT.2020"),
            11 => out.write_str("P3"),
            12 => out.write_str("P3-D65"),
            UNSPECIFIED => out.write_str("unspecified"),
            other => write!(out, "primaries {other}"),
        }?;
        match self.dynamic_range() {
            DynamicRange::Standard => {}
            DynamicRange::Pq => out.write_str(" PQ")?,
            DynamicRange::Hlg => out.write_str(" HLG")?,
        }
        out.write_str(if self.is_full_range { ", full range" } else { "" })
    }
}

/// How pictures are sampled.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sampling {
    /// `chroma_format_idc`: 0 is without colour, 1 4:2:0, 2 4:2:2, 3 4:4:4.
    pub chroma_format: u8,
    /// Bits of a luma sample.
    pub bit_depth: u8,
}

impl fmt::Display for Sampling {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let chroma = match self.chroma_format {
            0 => "4:0:0",
            1 => "4:2:0",
            2 => "4:2:2",
            _ => "4:4:4",
        };
        write!(out, "{chroma} {} bit", self.bit_depth)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case((1, 1, 1, false), "BT.709", false)]
    #[case((9, 16, 9, false), "BT.2020 PQ", true)]
    #[case((9, 18, 9, true), "BT.2020 HLG, full range", true)]
    #[case((2, 2, 2, false), "unspecified", false)]
    #[case((22, 1, 1, false), "primaries 22", false)]
    fn colours_are_told(#[case] points: (u8, u8, u8, bool), #[case] expected: &str, #[case] is_hdr: bool) {
        let (primaries, transfer, matrix, is_full_range) = points;
        let colour = Colour { primaries, transfer, matrix, is_full_range };
        assert_eq!((colour.to_string().as_str(), colour.is_hdr()), (expected, is_hdr));
    }

    #[test]
    fn sampling_is_told() {
        assert_eq!(Sampling { chroma_format: 1, bit_depth: 10 }.to_string(), "4:2:0 10 bit");
        assert_eq!(Sampling { chroma_format: 3, bit_depth: 8 }.to_string(), "4:4:4 8 bit");
    }
}
