//! Makes the demo clip: a drawn river race with a running clock and frame number, and a simple
//! tune, as fragmented MP4 that loops without a seam.
//!
//! Run in this folder: `cargo run --release -- ../regatta.mp4`. Needs nasm for a fast encoder and
//! Debian's fonts-dejavu-core for the lettering.

mod scene;
mod sound;
mod text;

use std::path::PathBuf;

use anyhow::{Context, ensure};
use bytes::Bytes;
use openh264::OpenH264API;
use openh264::encoder::{
    BitRate, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, Profile, QpRange, RateControlMode, VuiConfig,
};
use openh264::formats::{RgbaSliceU8, YUVBuffer};
use waverant_container::FragmentWriter;
use waverant_media::{
    AudioSpecificConfig, AvcDecoderConfig, CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks,
};

pub const WIDTH: u32 = 1280;
pub const HEIGHT: u32 = 720;
pub const FRAME_RATE: u32 = 30;

/// 32/3 s: the shortest length over ten seconds that is a whole number of pictures at 30 a
/// second and of AAC frames at 48 kHz, so that both tracks loop together.
pub const FRAMES: u32 = 320;

/// A keyframe every two seconds.
const GROUP: u32 = 60;

fn main() -> anyhow::Result<()> {
    let path: PathBuf = std::env::args().nth(1).context("usage: clip-generator FILE.mp4")?.into();
    let (avc, pictures) = encode_pictures()?;
    let (aac, frames) = sound::encode()?;
    let mut tracks = Tracks::new();
    tracks.set(Track { id: TrackId::VIDEO, codec: CodecParameters::H264(avc) });
    tracks.set(Track { id: TrackId::AUDIO, codec: CodecParameters::Aac(aac) });
    let mut packets: Vec<Packet> = pictures;
    packets.extend(frames);
    packets.sort_by_key(|packet| packet.dts);
    let mut writer = FragmentWriter::new(&tracks)?;
    let mut file = Vec::new();
    for packet in &packets {
        if let Some(fragment) = writer.push(packet)? {
            file.extend(fragment.segments.concat());
        }
    }
    let (last, patches) = writer.finish();
    file.extend(last.context("no packets")?.segments.concat());
    for patch in patches {
        let at = usize::try_from(patch.offset)?;
        file[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
    }
    ensure!(file.len() < 4 << 20, "the clip takes {} bytes, it must stay under 4 MiB", file.len());
    std::fs::write(&path, &file)?;
    eprintln!("{}: {} bytes, {} packets", path.display(), file.len(), packets.len());
    Ok(())
}

fn encode_pictures() -> anyhow::Result<(AvcDecoderConfig, Vec<Packet>)> {
    let config = EncoderConfig::new()
        .bitrate(BitRate::from_bps(2_000_000))
        .max_frame_rate(FrameRate::from_hz(FRAME_RATE as f32))
        .rate_control_mode(RateControlMode::Bitrate)
        .skip_frames(false)
        .scene_change_detect(false)
        .intra_frame_period(IntraFramePeriod::from_num_frames(GROUP))
        .profile(Profile::High)
        .qp(QpRange::new(6, 36))
        .vui(VuiConfig::bt601())
        .num_threads(1);
    let mut encoder = Encoder::with_api_config(OpenH264API::from_source(), config)?;
    let artist = scene::Artist::new()?;
    let (mut avc, mut packets) = (None, Vec::new());
    for number in 0..FRAMES {
        let picture = artist.draw(number);
        let rgba = RgbaSliceU8::new(picture.data(), (WIDTH as usize, HEIGHT as usize));
        let encoded = encoder.encode(&YUVBuffer::from_rgba8_source(rgba))?.to_vec();
        let units = split_byte_stream(&encoded);
        ensure!(!units.is_empty(), "picture {number} was skipped by the encoder");
        if avc.is_none() {
            avc = Some(AvcDecoderConfig::parse(configuration_record(&units)?)?);
        }
        let time = MediaTime::from_ticks(i64::from(number) * 3000);
        packets.push(Packet {
            track: TrackId::VIDEO,
            kind: TrackKind::Video,
            dts: time,
            pts: time,
            random_access: units.iter().any(|unit| unit[0] & 0x1f == 5),
            payload: length_prefixed(&units),
        });
    }
    Ok((avc.context("no parameter sets")?, packets))
}

/// The NAL units between start codes.
fn split_byte_stream(stream: &[u8]) -> Vec<&[u8]> {
    let starts: Vec<usize> =
        stream.windows(3).enumerate().filter(|(_, window)| *window == [0, 0, 1]).map(|(at, _)| at + 3).collect();
    let ends = starts.iter().skip(1).map(|start| start - 3).chain([stream.len()]);
    starts
        .iter()
        .zip(ends)
        .map(|(start, end)| {
            let unit = &stream[*start..end];
            let length = unit.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
            &unit[..length]
        })
        .filter(|unit| !unit.is_empty())
        .collect()
}

/// Parameter sets are in the record; the pictures keep the rest.
fn length_prefixed(units: &[&[u8]]) -> Bytes {
    let mut out = Vec::new();
    for unit in units.iter().filter(|unit| !matches!(unit[0] & 0x1f, 7 | 8)) {
        out.extend((unit.len() as u32).to_be_bytes());
        out.extend_from_slice(unit);
    }
    out.into()
}

/// Source: ISO/IEC 14496-15, 5.3.3.1
fn configuration_record(units: &[&[u8]]) -> anyhow::Result<Bytes> {
    let find = |kind: u8| units.iter().find(|unit| unit[0] & 0x1f == kind).copied();
    let (sps, pps) = (find(7).context("no SPS")?, find(8).context("no PPS")?);
    let mut out = vec![1, sps[1], sps[2], sps[3], 0xff, 0xe1];
    out.extend((sps.len() as u16).to_be_bytes());
    out.extend_from_slice(sps);
    out.push(1);
    out.extend((pps.len() as u16).to_be_bytes());
    out.extend_from_slice(pps);
    if matches!(sps[1], 100 | 110 | 122 | 144) {
        // 4:2:0, 8 bits, no extension sets.
        out.extend([0xfd, 0xf8, 0xf8, 0]);
    }
    Ok(out.into())
}
