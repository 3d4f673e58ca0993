//! Codecs as playlists and media types name them.

use std::fmt::Write as _;

use crate::{AudioObjectType, CodecParameters};

/// The level where a VP9 record tells none: what 1080p60 needs.
const VP9_USUAL_LEVEL: u8 = 41;

/// A record as the source of a name: what is missing in it counts as zero.
struct Record<'a>(&'a [u8]);

impl Record<'_> {
    fn byte(&self, at: usize) -> u8 {
        self.0.get(at).copied().unwrap_or(0)
    }
}

impl CodecParameters {
    /// The codec with its profile and level, as the `codecs` parameter of a media type and the CODECS attribute of
    /// a playlist name it. HEVC is named for files whose parameter sets are in the head alone.
    ///
    /// Source: RFC 6381; ISO/IEC 14496-15, annex E; AV1 Codec ISO Media File Format Binding, 5; VP Codec ISO Media
    /// File Format Binding, "Codecs Parameter String"; the sample entry's name for codecs without parameters
    pub fn codec_string(&self) -> String {
        match self {
            Self::H264(config) => {
                let record = Record(config.raw());
                format!("avc1.{:02x}{:02x}{:02x}", record.byte(1), record.byte(2), record.byte(3))
            }
            Self::Hevc(config) => hevc(&Record(config.raw())),
            Self::Av1(config) => av1(&Record(config.raw())),
            Self::Vp9(config) => {
                let record = Record(config.record());
                let level = if record.byte(1) == 0 { VP9_USUAL_LEVEL } else { record.byte(1) };
                format!("vp09.{:02}.{level:02}.{:02}", config.profile(), config.bit_depth())
            }
            Self::Aac(config) => format!("mp4a.40.{}", config.object_type().number()),
            Self::Opus(_) => "Opus".to_owned(),
            Self::Flac(_) => "fLaC".to_owned(),
            Self::Ac3(config) => if config.is_enhanced() { "ec-3" } else { "ac-3" }.to_owned(),
            // The object types of MPEG-1 and MPEG-2 audio (ISO/IEC 14496-1, table 5).
            Self::Mp3(config) => if config.samples_per_frame() == 1152 { "mp4a.6B" } else { "mp4a.69" }.to_owned(),
        }
    }
}

impl AudioObjectType {
    /// The type's number.
    ///
    /// Source: ISO/IEC 14496-3, table 1.17
    pub fn number(self) -> u8 {
        match self {
            Self::Main => 1,
            Self::LowComplexity => 2,
            Self::SpectralBandReplication => 5,
            Self::ParametricStereo => 29,
            Self::Other(number) => number,
        }
    }
}

/// Profile space and profile, compatibility flags from the last to the first, tier and level, constraints.
fn hevc(record: &Record<'_>) -> String {
    let space = [Some('A'), Some('B'), Some('C')].get(usize::from(record.byte(1) >> 6).wrapping_sub(1)).copied();
    let mut name = "hvc1.".to_owned();
    name.extend(space.flatten());
    let flags = u32::from_be_bytes([record.byte(2), record.byte(3), record.byte(4), record.byte(5)]);
    let tier = if record.byte(1) & 0x20 == 0 { 'L' } else { 'H' };
    // Writing into a string cannot fail.
    let _ = write!(name, "{}.{:X}.{tier}{}", record.byte(1) & 0x1f, flags.reverse_bits(), record.byte(12));
    let constraints: Vec<u8> = (6..12).map(|at| record.byte(at)).collect();
    let used = constraints.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    for byte in constraints.iter().take(used) {
        let _ = write!(name, ".{byte:X}");
    }
    name
}

/// Profile, level and tier, bit depth.
fn av1(record: &Record<'_>) -> String {
    let (profile, level) = (record.byte(1) >> 5, record.byte(1) & 0x1f);
    let bits = record.byte(2);
    let tier = if bits & 0x80 == 0 { 'M' } else { 'H' };
    let depth = match (bits & 0x40 != 0, bits & 0x20 != 0) {
        (false, _) => 8,
        (true, true) if profile == 2 => 12,
        (true, _) => 10,
    };
    format!("av01.{profile}.{level:02}{tier}.{depth:02}")
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use rstest::rstest;

    use super::*;
    use crate::testing::{self, AC3_FRAME_START, EAC3_FRAME_START, FLAC_HEADER};
    use crate::{Ac3Config, AudioSpecificConfig, Av1Config, FlacConfig, Mp3Config, Vp9Config};

    fn aac(config: &'static [u8]) -> CodecParameters {
        CodecParameters::Aac(AudioSpecificConfig::parse(Bytes::from_static(config)).unwrap())
    }

    fn vp9(record: &'static [u8]) -> CodecParameters {
        CodecParameters::Vp9(Vp9Config::parse(Bytes::from_static(record)).unwrap())
    }

    #[rstest]
    #[case::avc(testing::h264(), "avc1.42c01f")]
    #[case::hevc_main(testing::hevc(), "hvc1.1.6.L120.90")]
    #[case::av1_main(testing::av1(), "av01.0.05M.08")]
    #[case::av1_high_tier_10_bit(
        CodecParameters::Av1(Av1Config::parse(Bytes::from_static(&[0x81, 0x0d, 0xcc, 0])).unwrap()), "av01.0.13H.10")]
    #[case::vp9(vp9(&[0, 31, 0x82, 1, 1, 1, 0, 0]), "vp09.00.31.08")]
    #[case::vp9_without_level(vp9(&[2, 0, 0xa2, 1, 1, 1, 0, 0]), "vp09.02.41.10")]
    #[case::aac_lc(testing::aac(), "mp4a.40.2")]
    #[case::he_aac(aac(&[0x2b, 0x11, 0x88, 0x00]), "mp4a.40.5")]
    #[case::opus(testing::opus(), "Opus")]
    #[case::flac(CodecParameters::Flac(FlacConfig::parse(Bytes::from_static(FLAC_HEADER)).unwrap()), "fLaC")]
    #[case::ac3(CodecParameters::Ac3(Ac3Config::parse(AC3_FRAME_START).unwrap()), "ac-3")]
    #[case::eac3(CodecParameters::Ac3(Ac3Config::parse(EAC3_FRAME_START).unwrap()), "ec-3")]
    #[case::mp3(CodecParameters::Mp3(Mp3Config::from_format(44_100, 2)), "mp4a.6B")]
    #[case::mp3_of_a_low_rate(CodecParameters::Mp3(Mp3Config::from_format(22_050, 2)), "mp4a.69")]
    fn codecs_are_named_with_profile_and_level(#[case] codec: CodecParameters, #[case] expected: &str) {
        assert_eq!(codec.codec_string(), expected);
    }
}
