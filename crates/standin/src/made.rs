//! A clip whose payloads are made up, in codecs that no encoder at hand speaks. The headers are
//! real; what is between them is counted, so that every payload is one of its kind.
//!
//! H.264 and HEVC have what real encoders send and simple ones do not: a pyramid of reordered
//! pictures, access unit delimiters, SEI messages, several slices to a picture, parameter sets
//! repeated in the stream, and open groups of pictures.

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

/// Slices of a picture.
const SLICES: usize = 3;

/// How many pictures later than its decode time each picture of a mini group of four is shown: P,
/// B as reference, b, b. All are late by two, so that none is shown before it is decoded.
const PYRAMID: [i64; 4] = [5, 2, 0, 1];
const PYRAMID_DELAY: i64 = 2;

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

impl Clip {
    /// A clip whose sound is known to the sample: a tone in FLAC, for each part so many seconds with its amplitude on the
    /// left and on the right, from 0 to 1 (and beyond, which is cut off). Its pictures are made up.
    pub fn sounding(parts: &[(u32, f64, f64)]) -> Self {
        let length = parts.iter().map(|(seconds, ..)| i64::from(*seconds) * 1000).sum();
        let tracks = testing::tracks([(TrackId::VIDEO, testing::h264()), (TrackId::AUDIO, testing::flac())]);
        let pictures: Vec<ClipPacket> = tracks.first(TrackKind::Video).map(packets_of).unwrap_or_default();
        let rounds = (0..length / LENGTH_MS + 1).map(|round| MediaTime::from_millis(round * LENGTH_MS));
        let mut packets: Vec<ClipPacket> = rounds
            .flat_map(|from| {
                pictures.iter().cloned().map(move |packet| ClipPacket { dts: packet.dts + from, ..packet })
            })
            .filter(|packet| packet.dts < MediaTime::from_millis(length))
            .collect();
        packets.extend(tones(parts));
        packets.sort_by_key(|packet| packet.dts);
        Self::from_parts(tracks, packets, MediaTime::from_millis(length))
    }
}

/// Samples of a frame of FLAC, and of a second.
const FLAC_SAMPLES: u32 = 4096;
const RATE: u32 = 48_000;

fn tones(parts: &[(u32, f64, f64)]) -> impl Iterator<Item = ClipPacket> {
    let length: u32 = parts.iter().map(|(seconds, ..)| seconds * RATE).sum();
    let amplitudes = |at: u32| {
        let mut ends = parts.iter().scan(0, |end, (seconds, left, right)| {
            *end += seconds * RATE;
            Some((*end, *left, *right))
        });
        ends.find(|(end, ..)| at < *end).map_or([0.0; 2], |(_, left, right)| [left, right])
    };
    (0..length / FLAC_SAMPLES).map(move |number| {
        let from = number * FLAC_SAMPLES;
        let samples: Vec<[i16; 2]> = (from..from + FLAC_SAMPLES)
            .map(|at| {
                let tone = (std::f64::consts::TAU * 440.0 * f64::from(at) / f64::from(RATE)).sin() * 32_767.0;
                #[expect(clippy::cast_possible_truncation, reason = "it is cut off at full scale")]
                amplitudes(at).map(|amplitude| (tone * amplitude) as i16)
            })
            .collect();
        ClipPacket {
            track: TrackId::AUDIO,
            kind: TrackKind::Audio,
            dts: MediaTime::from_ticks(i64::from(from) * 90_000 / i64::from(RATE)),
            composition_ms: 0,
            keyframe: true,
            payload: testing::flac_frame(number, &samples).into(),
        }
    })
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
        composition_ms: composition_ms(track, number, keyframe),
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

fn composition_ms(track: &Track, number: i64, keyframe: bool) -> i64 {
    let is_reordered = matches!(track.codec, CodecParameters::H264(_) | CodecParameters::Hevc(_));
    if !is_reordered {
        return 0;
    }
    let place = number % KEYFRAME_EVERY - 1;
    let is_in_whole_group = place / 4 < (KEYFRAME_EVERY - 1) / 4;
    let pictures = match usize::try_from(place % 4) {
        Ok(place) if !keyframe && is_in_whole_group => PYRAMID[place],
        _ => PYRAMID_DELAY,
    };
    (number + pictures) * 1000 / PICTURES_PER_SECOND - number * 1000 / PICTURES_PER_SECOND
}

/// The codec's own beginning of a frame, then bytes that tell track and number.
fn payload(track: &Track, number: i64, keyframe: bool, size: usize) -> Bytes {
    let text = format!("track {} number {number:08} ", track.id.0);
    let filler = |size: usize| text.bytes().cycle().take(size).collect::<Vec<u8>>();
    // Every second group is open: its first picture is no IDR picture.
    let is_idr = keyframe && number / KEYFRAME_EVERY % 2 == 0;
    let start: Vec<u8> = match &track.codec {
        CodecParameters::H264(config) => {
            let slice = if is_idr { 0x65 } else { 0x41 };
            let sets: &[&[u8]] = if keyframe { &[&config.raw()[8..18], &config.raw()[21..25]] } else { &[] };
            return access_unit(&[9, 0xf0], sets, &[6, 6, 1, 0xc4, 0x80], &[slice], &filler(size / SLICES));
        }
        CodecParameters::Hevc(config) => {
            // IDR_W_RADL, CRA for the open groups, TRAIL_R.
            let slice = if is_idr {
                19
            } else if keyframe {
                21
            } else {
                1
            };
            let sets: &[&[u8]] = if keyframe { &[&config.raw()[28..33]] } else { &[] };
            let sei = [78, 1, 6, 1, 0xc4, 0x80];
            return access_unit(&[70, 1, 0x50], sets, &sei, &[slice << 1, 1], &filler(size / SLICES));
        }
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
    [start, filler(size)].concat().into()
}

/// A delimiter, parameter sets, an SEI message and slices, each with its length before it.
fn access_unit(delimiter: &[u8], sets: &[&[u8]], sei: &[u8], slice_header: &[u8], slice: &[u8]) -> Bytes {
    let slices = (0..SLICES).map(|_| [slice_header, slice].concat());
    let mut units: Vec<Vec<u8>> = vec![delimiter.to_vec()];
    units.extend(sets.iter().map(|set| set.to_vec()));
    units.push(sei.to_vec());
    units.extend(slices);
    let prefixed = units.iter().flat_map(|unit| {
        let length = u32::try_from(unit.len()).unwrap_or(0).to_be_bytes();
        length.into_iter().chain(unit.iter().copied())
    });
    prefixed.collect()
}

#[cfg(test)]
mod tests {
    use waverant_media::{NalUnitType, NalUnits};

    use super::*;

    #[test]
    fn made_h264_has_what_real_encoders_send() {
        let clip = Clip::made(&["h264"]).unwrap();
        let first = clip.packet(0);
        let types: Vec<NalUnitType> =
            NalUnits::new(&first.payload, 4).map(|unit| NalUnitType::from_header(unit[0])).collect();
        // The first SEI message is the stamp.
        assert_eq!(types[1..4], [NalUnitType::AccessUnitDelimiter, NalUnitType::Sps, NalUnitType::Pps]);
        assert_eq!(types.iter().filter(|kind| **kind == NalUnitType::IdrSlice).count(), 3);
        let open = clip.packet(30);
        assert!(open.keyframe, "a group that is open begins with a keyframe that is no IDR picture");
        assert!(!NalUnits::new(&open.payload, 4).any(|unit| unit[0] == 0x65));
        // No two pictures are shown at once.
        let shown: std::collections::HashSet<i64> = (0..120)
            .map(|number| clip.packet(number))
            .map(|packet| packet.dts.millis() + packet.composition_ms)
            .collect();
        assert_eq!(shown.len(), 120);
        assert!((0..120).any(|number| clip.packet(number).composition_ms > 100));
    }
}
