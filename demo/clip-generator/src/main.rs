//! Makes the files that are drawn or composed once and kept:
//!
//! - `clip ../regatta.mp4`: a drawn river race with a running clock and frame number, and a simple
//!   tune, as fragmented MP4 that loops without a seam;
//! - `small-clip ../../console/e2e/small.mp4`: the same at a quarter of the size, for shows whose picture changes;
//! - `tone ../../crates/codec/assets/tone.mp4`: the tone of the test picture;
//! - `lettering ../../crates/codec/assets/holding.png`: what the holding picture says.
//!
//! Run in this folder: `cargo run --release -- WHAT FILE`. Needs nasm for a fast encoder and Debian's
//! fonts-dejavu-core for the lettering.

mod lettering;
mod scene;
mod sound;
mod text;

use std::path::{Path, PathBuf};

use anyhow::{Context, bail, ensure};
use tiny_skia::{FilterQuality, Pixmap, PixmapPaint, Transform};
use waverant_codec::{PictureFormat, encode_pictures};
use waverant_container::{FileHead, FragmentWriter};
use waverant_media::{CodecParameters, Packet, Track, TrackId, Tracks};

pub const WIDTH: u32 = 1280;
pub const HEIGHT: u32 = 720;
pub const FRAME_RATE: u32 = 30;

/// 32/3 s: the shortest length over ten seconds that is a whole number of pictures at 30 a
/// second and of AAC frames at 48 kHz, so that both tracks loop together.
pub const FRAMES: u32 = 320;

/// A keyframe every two seconds.
const GROUP: u32 = 60;

/// The largest demo clip.
const MAX_CLIP: usize = 4 << 20;

fn main() -> anyhow::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [what, path] = arguments.as_slice() else { bail!("usage: clip-generator clip|small-clip|tone|lettering FILE") };
    let path = PathBuf::from(path);
    match what.as_str() {
        "clip" => write_clip(&path, 1, 2_000_000),
        "small-clip" => write_clip(&path, 2, 200_000),
        "tone" => write_tone(&path),
        "lettering" => lettering::draw()?.save_png(&path).context("PNG"),
        other => bail!("`{other}` is not made here; clip, small-clip, tone or lettering was expected"),
    }
}

/// The clip with its sides divided by `divisor`.
fn write_clip(path: &Path, divisor: u32, bitrate_bps: u32) -> anyhow::Result<()> {
    let format = PictureFormat {
        width: WIDTH / divisor,
        height: HEIGHT / divisor,
        frame_rate: f64::from(FRAME_RATE),
        bitrate_bps: Some(bitrate_bps),
        group: GROUP,
    };
    let artist = scene::Artist::new()?;
    let (avc, mut packets) = encode_pictures(&format, FRAMES, |number| reduced(artist.draw(number), divisor))?;
    let (aac, frames) = sound::encode_tune()?;
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::VIDEO, CodecParameters::H264(avc)));
    tracks.set(Track::new(TrackId::AUDIO, CodecParameters::Aac(aac)));
    packets.extend(frames);
    packets.sort_by_key(|packet| packet.dts);
    write_file(path, &tracks, &packets)
}

fn reduced(picture: Pixmap, divisor: u32) -> Pixmap {
    let Some(mut small) = Pixmap::new(picture.width() / divisor, picture.height() / divisor) else { return picture };
    let scale = 1.0 / divisor as f32;
    let paint = PixmapPaint { quality: FilterQuality::Bilinear, ..PixmapPaint::default() };
    small.draw_pixmap(0, 0, picture.as_ref(), &paint, Transform::from_scale(scale, scale), None);
    small
}

fn write_tone(path: &Path) -> anyhow::Result<()> {
    let (aac, frames) = sound::encode_tone()?;
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::AUDIO, CodecParameters::Aac(aac)));
    write_file(path, &tracks, &frames)
}

fn write_file(path: &Path, tracks: &Tracks, packets: &[Packet]) -> anyhow::Result<()> {
    let mut writer = FragmentWriter::new(tracks, &FileHead::default())?;
    let mut file = Vec::new();
    for packet in packets {
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
    ensure!(file.len() < MAX_CLIP, "the file takes {} bytes, it must stay under {MAX_CLIP}", file.len());
    std::fs::write(path, &file)?;
    eprintln!("{}: {} bytes, {} packets", path.display(), file.len(), packets.len());
    Ok(())
}
