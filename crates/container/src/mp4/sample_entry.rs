//! Sample entries: what a track's codec is, and what its decoder must know.

use bytes::Bytes;
use waverant_media::{
    Ac3Config, AudioSpecificConfig, Av1Config, AvcDecoderConfig, CodecParameters, FlacConfig, HevcDecoderConfig,
    Mp3Config, OpusConfig, TrackKind, Vp9Config,
};

use super::boxes::{BoxWriter, find_box, next_box};
use crate::parts::Mp4Error;

/// Descriptor tags.
///
/// Source: ISO/IEC 14496-1, 7.2.2.1
const ES_DESCRIPTOR: u8 = 3;
const DECODER_CONFIG_DESCRIPTOR: u8 = 4;
const DECODER_SPECIFIC_INFO: u8 = 5;
const SL_CONFIG_DESCRIPTOR: u8 = 6;

/// Object types of MPEG-4 audio, and of MP3 by its two standards.
///
/// Source: ISO/IEC 14496-1, table 5
const MPEG4_AUDIO: u8 = 0x40;
const MPEG1_AUDIO: u8 = 0x6b;
const MPEG2_AUDIO: u8 = 0x69;

/// Bytes of a visual and of an audio sample entry before their boxes.
const VISUAL_LENGTH: usize = 78;
const AUDIO_LENGTH: usize = 28;

/// Writes the sample entry of a track. `size` is the picture's.
pub(super) fn write_sample_entry(out: &mut BoxWriter, codec: &CodecParameters, size: (u32, u32), sets_in_stream: bool) {
    let raw = |out: &mut BoxWriter, name: &[u8; 4], raw: &[u8]| {
        out.boxed(name, |out| {
            out.bytes(raw);
        });
    };
    match codec {
        // Source: ISO/IEC 14496-15, 5.4.2.1 and 8.4.1.1
        CodecParameters::H264(config) => visual(out, b"avc1", size, |out| raw(out, b"avcC", config.raw())),
        CodecParameters::Hevc(config) => {
            // `hev1` allows parameter sets in the stream, where encoders repeat them.
            let name = if sets_in_stream { b"hev1" } else { b"hvc1" };
            visual(out, name, size, |out| raw(out, b"hvcC", config.raw()));
        }
        // Source: AV1 Codec ISO Media File Format Binding, 2.2
        CodecParameters::Av1(config) => visual(out, b"av01", size, |out| raw(out, b"av1C", config.raw())),
        // Source: VP Codec ISO Media File Format Binding
        CodecParameters::Vp9(config) => visual(out, b"vp09", size, |out| {
            out.full_box(b"vpcC", 1, 0, |out| {
                out.bytes(config.record());
            });
        }),
        // Source: ISO/IEC 14496-14, 6.7
        CodecParameters::Aac(config) => audio(out, b"mp4a", codec, |out| {
            out.full_box(b"esds", 0, 0, |out| {
                out.bytes(&elementary_stream_descriptor(MPEG4_AUDIO, Some(config.raw())));
            });
        }),
        CodecParameters::Mp3(config) => audio(out, b"mp4a", codec, |out| {
            let object_type = if config.samples_per_frame() == 1152 { MPEG1_AUDIO } else { MPEG2_AUDIO };
            out.full_box(b"esds", 0, 0, |out| {
                out.bytes(&elementary_stream_descriptor(object_type, None));
            });
        }),
        // Source: Encapsulation of Opus in ISO Base Media File Format, 4.3
        CodecParameters::Opus(config) => audio(out, b"Opus", codec, |out| raw(out, b"dOps", &config.mp4_box())),
        // Source: Encapsulation of FLAC in ISO Base Media File Format, 3.3
        CodecParameters::Flac(config) => audio(out, b"fLaC", codec, |out| {
            out.full_box(b"dfLa", 0, 0, |out| {
                out.bytes(&config.stream_info());
            });
        }),
        // Source: ETSI TS 102 366, F.3 and F.5
        CodecParameters::Ac3(config) if config.is_enhanced() => {
            audio(out, b"ec-3", codec, |out| raw(out, b"dec3", &config.mp4_box()));
        }
        CodecParameters::Ac3(config) => audio(out, b"ac-3", codec, |out| raw(out, b"dac3", &config.mp4_box())),
        _ => {}
    }
}

/// Source: ISO/IEC 14496-12, 12.1.3.2
fn visual(out: &mut BoxWriter, name: &[u8; 4], (width, height): (u32, u32), inner: impl FnOnce(&mut BoxWriter)) {
    let side = |value: u32| u16::try_from(value).unwrap_or(u16::MAX);
    out.boxed(name, |out| {
        out.zeros(6).u16(1).zeros(16);
        out.u16(side(width)).u16(side(height));
        out.u32(0x0048_0000).u32(0x0048_0000).u32(0).u16(1).zeros(32).u16(0x18).u16(0xffff);
        inner(out);
    });
}

/// Source: ISO/IEC 14496-12, 12.2.3.2
fn audio(out: &mut BoxWriter, name: &[u8; 4], codec: &CodecParameters, inner: impl FnOnce(&mut BoxWriter)) {
    let sound = codec.sound();
    // The field holds 16.16 bits; higher rates are told by the decoder configuration alone.
    let rate = sound.and_then(|sound| u16::try_from(sound.sample_rate).ok()).unwrap_or(0);
    let channels = sound.map_or(1, |sound| sound.channel_count.max(1));
    out.boxed(name, |out| {
        out.zeros(6).u16(1).zeros(8);
        out.u16(channels.into()).u16(16).zeros(4).u16(rate).u16(0);
        inner(out);
    });
}

/// Source: ISO/IEC 14496-1, 7.2.6.5 and 7.2.6.6
fn elementary_stream_descriptor(object_type: u8, decoder_specific: Option<&[u8]>) -> Vec<u8> {
    // Stream type 5 is audio, with the reserved bit set.
    let mut decoder = vec![object_type, 5 << 2 | 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    if let Some(decoder_specific) = decoder_specific {
        decoder.extend(descriptor(DECODER_SPECIFIC_INFO, decoder_specific));
    }
    let mut stream = vec![0, 0, 0];
    stream.extend(descriptor(DECODER_CONFIG_DESCRIPTOR, &decoder));
    stream.extend(descriptor(SL_CONFIG_DESCRIPTOR, &[2]));
    descriptor(ES_DESCRIPTOR, &stream)
}

/// A descriptor with its size in four bytes of seven bits.
fn descriptor(tag: u8, content: &[u8]) -> Vec<u8> {
    let size = content.len();
    let septet = |shift: usize, more: u8| u8::try_from(size >> shift & 0x7f).unwrap_or(0) | more;
    let mut out = vec![tag, septet(21, 0x80), septet(14, 0x80), septet(7, 0x80), septet(0, 0)];
    out.extend_from_slice(content);
    out
}

/// Reads the first sample entry of an `stsd` box. None for a codec that we do not carry.
pub(super) fn read_sample_entry(track: u32, content: &Bytes) -> Result<Option<CodecParameters>, Mp4Error> {
    let Some((name, entry, _)) = next_box(content, 8) else { return Ok(None) };
    let damaged = |reason: String| Mp4Error::Codec { track, reason };
    let inner = |at: usize, wanted: &[u8; 4]| {
        let missing = || damaged(format!("no `{}` box", wanted.escape_ascii()));
        find_box(&entry, at, wanted).ok_or_else(missing)
    };
    let read = match &name {
        b"avc1" | b"avc3" => AvcDecoderConfig::parse(inner(VISUAL_LENGTH, b"avcC")?)
            .map(CodecParameters::H264)
            .map_err(|error| error.to_string()),
        b"mp4a" => read_mpeg_audio(&inner(AUDIO_LENGTH, b"esds")?, &entry),
        b"hvc1" | b"hev1" => {
            let config = HevcDecoderConfig::parse(inner(VISUAL_LENGTH, b"hvcC")?).map(CodecParameters::Hevc);
            config.map_err(|error| error.to_string())
        }
        b"av01" => {
            let config = Av1Config::parse(inner(VISUAL_LENGTH, b"av1C")?).map(CodecParameters::Av1);
            config.map_err(|error| error.to_string())
        }
        b"vp09" => {
            let config = Vp9Config::parse(inner(VISUAL_LENGTH, b"vpcC")?).map(CodecParameters::Vp9);
            config.map_err(|error| error.to_string())
        }
        b"Opus" => {
            let config = OpusConfig::from_mp4_box(&inner(AUDIO_LENGTH, b"dOps")?).map(CodecParameters::Opus);
            config.map_err(|error| error.to_string())
        }
        b"fLaC" => {
            let block = inner(AUDIO_LENGTH, b"dfLa")?;
            let header = [b"fLaC", block.get(4..).unwrap_or_default()].concat();
            FlacConfig::parse(header.into()).map(CodecParameters::Flac).map_err(|error| error.to_string())
        }
        b"ac-3" => Ok(CodecParameters::Ac3(Ac3Config::from_mp4_box(false, &inner(AUDIO_LENGTH, b"dac3")?))),
        b"ec-3" => Ok(CodecParameters::Ac3(Ac3Config::from_mp4_box(true, &inner(AUDIO_LENGTH, b"dec3")?))),
        _ => return Ok(None),
    };
    read.map(Some).map_err(damaged)
}

fn read_mpeg_audio(esds: &Bytes, entry: &Bytes) -> Result<CodecParameters, String> {
    let (object_type, info) = decoder_config(esds).ok_or("damaged `esds` box")?;
    if matches!(object_type, MPEG1_AUDIO | MPEG2_AUDIO) {
        let field = |at: usize| entry.get(at..at + 2).map_or(0, |bytes| u16::from_be_bytes([bytes[0], bytes[1]]));
        let channels = u8::try_from(field(16)).unwrap_or(2);
        return Ok(CodecParameters::Mp3(Mp3Config::from_format(field(24).into(), channels)));
    }
    let info = info.ok_or("no decoder specific information in the `esds` box")?;
    AudioSpecificConfig::parse(info).map(CodecParameters::Aac).map_err(|error| error.to_string())
}

/// Walks down the descriptors: ES, decoder configuration, decoder specific information.
fn decoder_config(esds: &Bytes) -> Option<(u8, Option<Bytes>)> {
    let (stream, _) = next_descriptor(esds, 4, ES_DESCRIPTOR)?;
    let flags = *stream.get(2)?;
    let mut at = 3;
    at += if flags & 0x80 != 0 { 2 } else { 0 };
    at += if flags & 0x40 != 0 { 1 + usize::from(*stream.get(at)?) } else { 0 };
    at += if flags & 0x20 != 0 { 2 } else { 0 };
    let (decoder, _) = next_descriptor(&stream, at, DECODER_CONFIG_DESCRIPTOR)?;
    let info = next_descriptor(&decoder, 13, DECODER_SPECIFIC_INFO).map(|(info, _)| info);
    Some((*decoder.first()?, info))
}

fn next_descriptor(content: &Bytes, mut at: usize, wanted: u8) -> Option<(Bytes, usize)> {
    if *content.get(at)? != wanted {
        return None;
    }
    let mut size = 0usize;
    for _ in 0..4 {
        at += 1;
        let byte = *content.get(at)?;
        size = size << 7 | usize::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            break;
        }
    }
    let end = (at + 1).checked_add(size)?;
    (end <= content.len()).then(|| (content.slice(at + 1..end), end))
}

/// True for the tracks that are seen.
pub(super) fn is_video(codec: &CodecParameters) -> bool {
    codec.kind() == TrackKind::Video
}
