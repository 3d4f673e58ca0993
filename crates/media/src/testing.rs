//! Decoder configurations written by hand, for the tests of all crates.

use bytes::Bytes;

use crate::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, CodecParameters, FlacConfig, HevcDecoderConfig,
    Mp3Config, OpusConfig, Track, TrackId, Tracks,
};

/// An AVCDecoderConfigurationRecord: Constrained Baseline, 1280 x 720.
pub const AVC_RECORD: &[u8] = &[
    1, 0x42, 0xc0, 0x1f, 0xff, 0xe1, 0, 10, 0x67, 0x42, 0xc0, 0x1f, 0xda, 0x01, 0x40, 0x16, 0xe8, 0x40, 1, 0, 4, 0x68,
    0xce, 0x3c, 0x80,
];

/// An HEVCDecoderConfigurationRecord: Main, level 4, 1920 x 1088 cropped to 1920 x 1080.
pub const HEVC_RECORD: &[u8] = &[
    1, 0x01, 0x60, 0, 0, 0, 0x90, 0, 0, 0, 0, 0, 120, 0xf0, 0, 0xfc, 0xfd, 0xf8, 0xf8, 0, 0, 0x0f,
    3, // fixed fields
    0x20, 0, 1, 0, 5, 0x40, 0x01, 0x0c, 0x01, 0xff, // VPS
    0x21, 0, 1, 0, 28, 0x42, 0x01, 0x01, 0x01, 0x60, 0, 0, 0x03, 0, 0x90, 0, 0, 0x03, 0, 0, 0x03, 0, 0x78, 0xa0, 0x03,
    0xc0, 0x80, 0x11, 0x07, 0xcb, 0x96, 0x56, 0x69, // SPS
    0x22, 0, 1, 0, 4, 0x44, 0x01, 0xc1, 0x72, // PPS
];

/// An AV1CodecConfigurationRecord with a sequence header: Main, 1280 x 720.
pub const AV1_RECORD: &[u8] =
    &[0x81, 0x05, 0x0c, 0x00, 0x0a, 0x0a, 0x00, 0x00, 0x00, 0x2d, 0x4c, 0xff, 0xb3, 0xc0, 0x00, 0x80];

/// An Opus identification header: stereo, 312 samples of pre-skip.
pub const OPUS_HEADER: &[u8] = b"OpusHead\x01\x02\x38\x01\x80\xbb\x00\x00\x00\x00\x00";

/// A FLAC marker and STREAMINFO block: 48 kHz, stereo, 16 bits, blocks of 4096.
pub const FLAC_HEADER: &[u8] = &[
    b'f', b'L', b'a', b'C', 0x80, 0, 0, 34, 0x10, 0, 0x10, 0, 0, 0, 0, 0, 0, 0, 0x0b, 0xb8, 0x02, 0xf0, 0, 0, 0, 0, 0,
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
];

/// The head of an AC-3 sync frame: 48 kHz, 384 kbit/s, 5.1.
pub const AC3_FRAME_START: &[u8] = &[0x0b, 0x77, 0x12, 0x34, 0x1c, 0x40, 0xe1, 0x00];

/// The head of an Enhanced AC-3 sync frame: 48 kHz, six blocks, stereo, 768 bytes.
pub const EAC3_FRAME_START: &[u8] = &[0x0b, 0x77, 0x01, 0x7f, 0x34, 0x80, 0x00, 0x00];

/// An AudioSpecificConfig: AAC-LC, 48 kHz, stereo.
pub const AAC_CONFIG: &[u8] = &[0x11, 0x90];

/// The parameters in [`AVC_RECORD`].
pub fn h264() -> CodecParameters {
    CodecParameters::H264(AvcDecoderConfig::parse(Bytes::from_static(AVC_RECORD)).expect("the record is legal"))
}

/// The parameters in [`HEVC_RECORD`].
pub fn hevc() -> CodecParameters {
    CodecParameters::Hevc(HevcDecoderConfig::parse(Bytes::from_static(HEVC_RECORD)).expect("the record is legal"))
}

/// The parameters in [`AV1_RECORD`].
pub fn av1() -> CodecParameters {
    CodecParameters::Av1(Av1Config::parse(Bytes::from_static(AV1_RECORD)).expect("the record is legal"))
}

/// The parameters in [`OPUS_HEADER`].
pub fn opus() -> CodecParameters {
    CodecParameters::Opus(OpusConfig::parse(Bytes::from_static(OPUS_HEADER)).expect("the header is legal"))
}

/// The parameters in [`FLAC_HEADER`].
pub fn flac() -> CodecParameters {
    CodecParameters::Flac(FlacConfig::parse(Bytes::from_static(FLAC_HEADER)).expect("the header is legal"))
}

/// The parameters in [`AC3_FRAME_START`].
pub fn ac3() -> CodecParameters {
    CodecParameters::Ac3(Ac3Config::parse(AC3_FRAME_START).expect("the frame is legal"))
}

/// MP3, 48 kHz, stereo.
pub fn mp3() -> CodecParameters {
    CodecParameters::Mp3(Mp3Config::from_format(48_000, 2))
}

/// A FLAC frame of the stream of [`FLAC_HEADER`] with these samples of both channels as they are: sound whose every sample
/// is known.
///
/// Source: RFC 9639, 9.1 and 9.2
pub fn flac_frame(number: u32, samples: &[[i16; 2]]) -> Vec<u8> {
    // Fixed block size; the size at the end in 16 bits, 48 kHz; two independent channels of 16 bits.
    let mut out = vec![0xff, 0xf8, 0x7a, 0x18];
    out.extend(coded_number(number));
    let size = u16::try_from(samples.len() - 1).expect("a block has up to 65536 samples");
    out.extend(size.to_be_bytes());
    out.push(crc(&out, 8, 0x07).to_be_bytes()[1]);
    for channel in 0..2 {
        // A verbatim subframe without wasted bits.
        out.push(0x02);
        out.extend(samples.iter().flat_map(|pair| pair[channel].to_be_bytes()));
    }
    let check = crc(&out, 16, 0x8005);
    out.extend(check.to_be_bytes());
    out
}

/// Source: RFC 9639, 9.1.5
fn coded_number(number: u32) -> Vec<u8> {
    let part = |shift: u32| u8::try_from(number >> shift & 0x3f).unwrap_or(0) | 0x80;
    let first = |shift: u32, mark: u8| u8::try_from(number >> shift).unwrap_or(0) | mark;
    match number {
        0..0x80 => vec![first(0, 0)],
        0x80..0x800 => vec![first(6, 0xc0), part(0)],
        0x800..0x1_0000 => vec![first(12, 0xe0), part(6), part(0)],
        _ => vec![first(18, 0xf0), part(12), part(6), part(0)],
    }
}

fn crc(bytes: &[u8], width: u32, polynomial: u16) -> u16 {
    let (top, mask) = (1u32 << (width - 1), (1u32 << width) - 1);
    let sum = bytes.iter().fold(0u32, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte) << (width - 8), |sum, _| {
            let shifted = sum << 1;
            (if sum & top == 0 { shifted } else { shifted ^ u32::from(polynomial) }) & mask
        })
    });
    u16::try_from(sum).unwrap_or(0)
}

/// The parameters in [`AAC_CONFIG`].
pub fn aac() -> CodecParameters {
    CodecParameters::Aac(
        AudioSpecificConfig::parse(Bytes::from_static(AAC_CONFIG)).expect("the configuration is legal"),
    )
}

/// The set that most shows have: H.264 and AAC.
pub fn h264_and_aac() -> Tracks {
    tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac())])
}

/// A set of tracks.
pub fn tracks(all: impl IntoIterator<Item = (TrackId, CodecParameters)>) -> Tracks {
    let mut tracks = Tracks::new();
    for (id, codec) in all {
        tracks.set(Track::new(id, codec));
    }
    tracks
}
