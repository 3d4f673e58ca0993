//! How Matroska names codecs, and what it keeps for their decoders.
//!
//! Source: Matroska Media Container Codec Specifications

use bytes::Bytes;
use waverant_media::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, CodecParameters, FlacConfig, HevcDecoderConfig,
    Mp3Config, OpusConfig, Vp9Config,
};

/// Features in the private data of VP9: profile, level, bit depth, chroma subsampling.
const VP9_FEATURES: [u8; 4] = [1, 2, 3, 4];

/// The codec's name; none for one that has none.
pub(super) fn codec_id(codec: &CodecParameters) -> Option<&'static str> {
    Some(match codec {
        CodecParameters::H264(_) => "V_MPEG4/ISO/AVC",
        CodecParameters::Hevc(_) => "V_MPEGH/ISO/HEVC",
        CodecParameters::Av1(_) => "V_AV1",
        CodecParameters::Vp9(_) => "V_VP9",
        CodecParameters::Aac(_) => "A_AAC",
        CodecParameters::Opus(_) => "A_OPUS",
        CodecParameters::Flac(_) => "A_FLAC",
        CodecParameters::Ac3(config) if config.is_enhanced() => "A_EAC3",
        CodecParameters::Ac3(_) => "A_AC3",
        CodecParameters::Mp3(config) if config.layer() == 2 => "A_MPEG/L2",
        CodecParameters::Mp3(_) => "A_MPEG/L3",
        _ => return None,
    })
}

/// What a decoder is given before the first frame.
pub(super) fn codec_private(codec: &CodecParameters) -> Option<Vec<u8>> {
    match codec {
        CodecParameters::Vp9(config) => {
            let record = config.record();
            let values = [record[0], record[1], record[2] >> 4, record[2] >> 1 & 7];
            Some(VP9_FEATURES.into_iter().zip(values).flat_map(|(feature, value)| [feature, 1, value]).collect())
        }
        _ => codec.decoder_config().map(|config| config.to_vec()),
    }
}

/// What a track entry says of its codec.
#[derive(Clone, Debug, Default)]
pub(super) struct Described {
    pub(super) id: String,
    pub(super) private: Bytes,
    pub(super) sample_rate: f64,
    pub(super) channel_count: u8,
}

/// What is known of a codec from its track entry.
#[derive(Clone, Debug)]
pub(super) enum CodecKnown {
    Whole(CodecParameters),
    /// Its first frame tells the rest.
    FromFrame,
    /// We do not carry it.
    Foreign,
}

pub(super) fn read_codec(described: &Described) -> Result<CodecKnown, String> {
    let private = described.private.clone();
    let failed = |error: &dyn std::fmt::Display| error.to_string();
    let codec = match described.id.as_str() {
        "V_MPEG4/ISO/AVC" => AvcDecoderConfig::parse(private).map(CodecParameters::H264).map_err(|e| failed(&e))?,
        "V_MPEGH/ISO/HEVC" => HevcDecoderConfig::parse(private).map(CodecParameters::Hevc).map_err(|e| failed(&e))?,
        "V_AV1" => Av1Config::parse(private).map(CodecParameters::Av1).map_err(|e| failed(&e))?,
        "V_VP9" => read_vp9(&private).map(CodecParameters::Vp9).map_err(|e| failed(&e))?,
        "A_OPUS" => OpusConfig::parse(private).map(CodecParameters::Opus).map_err(|e| failed(&e))?,
        "A_FLAC" => FlacConfig::parse(private).map(CodecParameters::Flac).map_err(|e| failed(&e))?,
        "A_AC3" | "A_EAC3" => return Ok(CodecKnown::FromFrame),
        "A_MPEG/L3" => CodecParameters::Mp3(Mp3Config::from_format(rate(described), described.channel_count)),
        "A_MPEG/L2" => {
            CodecParameters::Mp3(Mp3Config::from_format(rate(described), described.channel_count).with_layer(2))
        }
        // Old files name the profile behind a slash, and may lack the private data; those we do not carry.
        id if id == "A_AAC" || id.starts_with("A_AAC/") && !private.is_empty() => {
            AudioSpecificConfig::parse(private).map(CodecParameters::Aac).map_err(|e| failed(&e))?
        }
        _ => return Ok(CodecKnown::Foreign),
    };
    Ok(CodecKnown::Whole(codec))
}

/// The codec of a track whose frames tell all, from one of them.
pub(super) fn read_from_frame(id: &str, frame: &[u8]) -> Option<CodecParameters> {
    match id {
        "A_AC3" | "A_EAC3" => Ac3Config::parse(frame).ok().map(CodecParameters::Ac3),
        _ => None,
    }
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped to what a rate can be")]
fn rate(described: &Described) -> u32 {
    described.sample_rate.clamp(0.0, 768_000.0) as u32
}

/// The features that are told; what is not has the value that nearly all streams have.
fn read_vp9(private: &[u8]) -> Result<Vp9Config, impl std::fmt::Display + use<>> {
    let mut values = [0, 0, 8, 1];
    for feature in private.chunks_exact(3) {
        if let Some(place) = VP9_FEATURES.iter().position(|known| [*known, 1] == feature[..2]) {
            values[place] = feature[2];
        }
    }
    let [profile, level, depth, chroma] = values;
    // 2 is "unspecified" for primaries, transfer and matrix.
    let record = vec![profile, level, depth << 4 | (chroma & 7) << 1, 2, 2, 2, 0, 0];
    Vp9Config::parse(record.into())
}
