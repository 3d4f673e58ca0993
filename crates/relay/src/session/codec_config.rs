//! Decoder configurations as tags carry them.

use std::fmt::Display;

use bytes::Bytes;
use waverant_container::TagCodec;
use waverant_media::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, CodecParameters, FlacConfig, HevcDecoderConfig,
    Mp3Config, OpusConfig, Vp9Config,
};

/// Reads the configuration of `codec`; the error says which one is damaged and how.
pub(super) fn read_config(codec: TagCodec, raw: Bytes) -> Result<CodecParameters, String> {
    fn named<T, E: Display>(
        name: &str,
        parsed: Result<T, E>,
        wrap: fn(T) -> CodecParameters,
    ) -> Result<CodecParameters, String> {
        parsed.map(wrap).map_err(|error| format!("{name} header: {error}"))
    }
    match codec {
        TagCodec::Avc => named("H.264", AvcDecoderConfig::parse(raw), CodecParameters::H264),
        TagCodec::Hevc => named("HEVC", HevcDecoderConfig::parse(raw), CodecParameters::Hevc),
        TagCodec::Av1 => named("AV1", Av1Config::parse(raw), CodecParameters::Av1),
        TagCodec::Vp9 => named("VP9", Vp9Config::parse(raw), CodecParameters::Vp9),
        TagCodec::Aac => named("AAC", AudioSpecificConfig::parse(raw), CodecParameters::Aac),
        TagCodec::Opus => named("Opus", OpusConfig::parse(raw), CodecParameters::Opus),
        TagCodec::Flac => named("FLAC", FlacConfig::parse(raw), CodecParameters::Flac),
        other => Err(format!("a header of {other}, which has none")),
    }
}

/// The parameters of codecs that have no header, read from a frame.
pub(super) fn config_in_frame(codec: TagCodec, frame: &[u8]) -> Option<CodecParameters> {
    match codec {
        TagCodec::Ac3 | TagCodec::Eac3 => Ac3Config::parse(frame).ok().map(CodecParameters::Ac3),
        TagCodec::Mp3 => Mp3Config::parse(frame).ok().map(CodecParameters::Mp3),
        _ => None,
    }
}
