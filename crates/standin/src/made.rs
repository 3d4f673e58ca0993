//! A clip whose payloads are made up, in codecs that no encoder at hand speaks. The headers are
//! real; what is between them is counted, so that every payload is one of its kind.

use bytes::Bytes;
use waverant_media::testing::{AC3_FRAME_START, EAC3_FRAME_START, FLAC_HEADER};
use waverant_media::{
    Ac3Config, CodecParameters, FlacConfig, MediaTime, Mp3Config, Track, TrackId, TrackKind, Tracks, Vp9Config, testing,
};

use crate::Clip;
use crate::clip::ClipPacket;

/// Length of the clip before it begins anew.
const LENGTH_MS: i64 = 4_000;

const PICTURES_PER_SECOND: i64 = 30;
const KEYFRAME_EVERY: i64 = 30;

/// Every track of sound has a frame this often.
const SOUND_MS: i64 = 20;

/// Bytes of a keyframe, another picture, and a frame of sound.
const KEYFRAME_BYTES: usize = 24_000;
const PICTURE_BYTES: usize = 6_000;
const SOUND_BYTES: usize = 320;

impl Clip {
    /// A clip in the given codecs, in the order of the tracks: `h264`, `hevc`, `av1`, `vp9`, `aac`,
    /// `opus`, `flac`, `ac3`, `eac3`, `mp3`.
    ///
    /// # Errors
    /// If a codec is not one of these.
    pub fn made(codecs: &[&str]) -> anyhow::Result<Self> {
        let mut tracks = Tracks::new();
        for name in codecs {
            let codec = codec(name)?;
            let place = tracks.iter().filter(|track| track.codec.kind() == codec.kind()).count();
            let place = u8::try_from(place).unwrap_or(u8::MAX);
            let id = TrackId::at(codec.kind(), place).ok_or_else(|| anyhow::anyhow!("too many tracks"))?;
            tracks.set(Track::new(id, codec));
        }
        let mut packets: Vec<ClipPacket> = tracks.iter().flat_map(packets_of).collect();
        packets.sort_by_key(|packet| packet.dts);
        Ok(Self::from_parts(tracks, packets, MediaTime::from_millis(LENGTH_MS)))
    }
}

fn codec(name: &str) -> anyhow::Result<CodecParameters> {
    Ok(match name {
        "h264" => testing::h264(),
        "hevc" => testing::hevc(),
        "av1" => testing::av1(),
        "vp9" => CodecParameters::Vp9(Vp9Config::parse(Bytes::from_static(&[0, 31, 0x82, 1, 1, 1, 0, 0]))?),
        "aac" => testing::aac(),
        "opus" => testing::opus(),
        "flac" => CodecParameters::Flac(FlacConfig::parse(Bytes::from_static(FLAC_HEADER))?),
        "ac3" => CodecParameters::Ac3(Ac3Config::parse(AC3_FRAME_START)?),
        "eac3" => CodecParameters::Ac3(Ac3Config::parse(EAC3_FRAME_START)?),
        "mp3" => CodecParameters::Mp3(Mp3Config::parse(&[0xff, 0xfb, 0x94, 0])?),
        other => anyhow::bail!("`{other}` is no codec that is made here"),
    })
}

fn packets_of(track: &Track) -> Vec<ClipPacket> {
    let packet = |number: i64, time_ms: i64, keyframe: bool, size: usize| ClipPacket {
        track: track.id,
        kind: track.codec.kind(),
        dts: MediaTime::from_millis(time_ms),
        composition_ms: 0,
        keyframe,
        payload: payload(track, number, keyframe, size),
    };
    match track.codec.kind() {
        TrackKind::Video => (0..LENGTH_MS * PICTURES_PER_SECOND / 1000)
            .map(|number| {
                let keyframe = number % KEYFRAME_EVERY == 0;
                let size = if keyframe { KEYFRAME_BYTES } else { PICTURE_BYTES };
                packet(number, number * 1000 / PICTURES_PER_SECOND, keyframe, size)
            })
            .collect(),
        TrackKind::Audio => {
            (0..LENGTH_MS / SOUND_MS).map(|number| packet(number, number * SOUND_MS, true, SOUND_BYTES)).collect()
        }
    }
}

/// The codec's own beginning of a frame, then bytes that tell track and number.
fn payload(track: &Track, number: i64, keyframe: bool, size: usize) -> Bytes {
    let start: Vec<u8> = match &track.codec {
        CodecParameters::H264(_) => nal_unit(size, &[if keyframe { 0x65 } else { 0x41 }]),
        CodecParameters::Hevc(_) => nal_unit(size, &[if keyframe { 0x26 } else { 0x02 }, 1]),
        // A temporal delimiter, then a frame without a size of its own.
        CodecParameters::Av1(_) => vec![0x12, 0, 0x30],
        CodecParameters::Vp9(_) => vec![if keyframe { 0x82 } else { 0x86 }],
        // One frame of 20 ms, stereo.
        CodecParameters::Opus(_) => vec![0xfc],
        CodecParameters::Flac(_) => vec![0xff, 0xf8, 0xc9, 0x18, 0],
        CodecParameters::Ac3(config) if config.is_enhanced() => EAC3_FRAME_START.to_vec(),
        CodecParameters::Ac3(_) => AC3_FRAME_START.to_vec(),
        CodecParameters::Mp3(_) => vec![0xff, 0xfb, 0x94, 0],
        _ => vec![0x21],
    };
    let text = format!("track {} number {number:08} ", track.id.0);
    let mut bytes = start;
    bytes.extend(text.bytes().cycle().take(size.saturating_sub(bytes.len())));
    bytes.into()
}

/// A length prefix and the header of a NAL unit that fills `size` bytes.
fn nal_unit(size: usize, header: &[u8]) -> Vec<u8> {
    let length = u32::try_from(size.saturating_sub(4)).unwrap_or(0).to_be_bytes();
    [&length[..], header].concat()
}
