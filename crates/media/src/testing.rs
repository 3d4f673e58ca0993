//! Decoder configurations written by hand, for the tests of all crates.

use bytes::Bytes;

use crate::{
    AudioSpecificConfig, Av1Config, AvcDecoderConfig, CodecParameters, HevcDecoderConfig, OpusConfig, Track, TrackId,
    Tracks,
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
