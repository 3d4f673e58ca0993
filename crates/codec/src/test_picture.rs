use std::f32::consts::TAU;

use bytes::Bytes;
use tiny_skia::{Color, FillRule, Paint, PathBuilder, Pixmap, Rect, Stroke, Transform};
use waverant_container::Mp4File;
use waverant_media::{CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks};

use crate::avc::Encoded;
use crate::{Clip, EncodeError, PictureFormat, encode_pictures};

/// A tone of 1 kHz at -20 dBFS, AAC, 48 kHz, stereo; made by `demo/clip-generator`.
const TONE: &[u8] = include_bytes!("../assets/tone.mp4");

/// The tone's length: a whole number of its frames, of seconds and of its periods.
const SECONDS: f64 = 8.0;

/// Fields from left to right, dark to light.
const FIELDS: [(u8, u8, u8); 8] = [
    (28, 34, 48),
    (44, 62, 120),
    (52, 104, 148),
    (46, 140, 120),
    (120, 160, 70),
    (214, 168, 66),
    (222, 120, 84),
    (236, 232, 220),
];

/// How the test picture is encoded.
pub(crate) fn format(width: u32, height: u32, frame_rate: f64, keyframe_seconds: f64) -> PictureFormat {
    let format = PictureFormat { width, height, frame_rate, bitrate_bps: None, group: 0 };
    PictureFormat { group: format.pictures_in(keyframe_seconds), ..format }
}

/// Draws and encodes its pictures.
pub(crate) fn encoded(width: u32, height: u32, frame_rate: f64, keyframe_seconds: f64) -> Result<Encoded, EncodeError> {
    let format = format(width, height, frame_rate, keyframe_seconds);
    format.check_size()?;
    let count = format.pictures_in(SECONDS);
    let backdrop = backdrop(width, height);
    encode_pictures(&format, count, |number| draw(&backdrop, number, count))
}

/// A moving picture with a tone, eight seconds long, in which a lost or repeated picture shows: a
/// hand that turns once, and a mark that goes along the foot.
pub(crate) fn clip(format: &PictureFormat, (avc, mut packets): Encoded) -> Result<Clip, EncodeError> {
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::VIDEO, CodecParameters::H264(avc)));
    let (aac, tone) = tone()?;
    tracks.set(Track::new(TrackId::AUDIO, aac));
    packets.extend(tone);
    packets.sort_by_key(|packet| packet.dts);
    Ok(Clip { tracks, packets, length: format.time_of(format.pictures_in(SECONDS)) })
}

fn tone() -> Result<(CodecParameters, Vec<Packet>), EncodeError> {
    let broken = |error: &dyn std::fmt::Display| EncodeError::Encoder(format!("the tone: {error}"));
    let file = Mp4File::parse(&Bytes::from_static(TONE)).map_err(|error| broken(&error))?;
    let track = file.tracks.into_iter().next().ok_or_else(|| broken(&"no track"))?;
    let codec = track.codec.ok_or_else(|| broken(&"no codec"))?;
    let packets = track.samples.into_iter().map(|sample| Packet {
        track: TrackId::AUDIO,
        kind: TrackKind::Audio,
        dts: sample.dts.max(MediaTime::ZERO),
        pts: sample.dts.max(MediaTime::ZERO),
        random_access: true,
        payload: sample.payload,
    });
    Ok((codec, packets.collect()))
}

fn backdrop(width: u32, height: u32) -> Pixmap {
    let (w, h) = (width as f32, height as f32);
    let Some(mut picture) = Pixmap::new(width.max(1), height.max(1)) else { unreachable!("sides are not 0") };
    for (place, (red, green, blue)) in FIELDS.iter().enumerate() {
        let field = Rect::from_xywh(w / 8.0 * place as f32, 0.0, w / 8.0 + 1.0, h * 0.8);
        fill(&mut picture, field, Color::from_rgba8(*red, *green, *blue, 255));
    }
    // Steps of grey below, so that crushed blacks and whites show.
    for place in 0..16u8 {
        let grey = 16 + place * 14;
        let step = Rect::from_xywh(w / 16.0 * f32::from(place), h * 0.8, w / 16.0 + 1.0, h * 0.2);
        fill(&mut picture, step, Color::from_rgba8(grey, grey, grey, 255));
    }
    picture
}

fn draw(backdrop: &Pixmap, number: u32, count: u32) -> Pixmap {
    let mut picture = backdrop.clone();
    let (w, h) = (picture.width() as f32, picture.height() as f32);
    let turn = number as f32 / count as f32;
    let radius = w.min(h) * 0.26;
    let (x, y) = (w / 2.0, h * 0.4);
    let ink = Color::from_rgba8(18, 26, 34, 255);
    if let Some(disc) = PathBuilder::from_circle(x, y, radius) {
        let mut paint = Paint::default();
        paint.set_color(Color::from_rgba8(246, 244, 236, 255));
        picture.fill_path(&disc, &paint, FillRule::Winding, Transform::identity(), None);
        stroke(&mut picture, &disc, ink, radius * 0.05);
    }
    for hour in 0..8u8 {
        let (dx, dy) = direction(f32::from(hour) / 8.0);
        line(
            &mut picture,
            (x + dx * radius * 0.8, y + dy * radius * 0.8),
            (x + dx * radius, y + dy * radius),
            ink,
            radius * 0.03,
        );
    }
    let (dx, dy) = direction(turn);
    let hand = Color::from_rgba8(190, 62, 50, 255);
    line(&mut picture, (x, y), (x + dx * radius * 0.74, y + dy * radius * 0.74), hand, radius * 0.08);
    grain(&mut picture, number);
    let mark = Rect::from_xywh(w * turn, h * 0.86, w * 0.02, h * 0.08);
    fill(&mut picture, mark, hand);
    picture
}

/// A band of grain, other in every picture: without it the picture would take next to no bitrate, and
/// a rehearsal would say nothing about the line.
fn grain(picture: &mut Pixmap, number: u32) {
    let (width, height) = (picture.width() as usize, picture.height() as usize);
    let (from, to) = (height * 68 / 100, height * 74 / 100);
    let mut random = number.wrapping_mul(0x9e37_79b9) | 1;
    let rows = picture.data_mut().chunks_exact_mut(width * 4).take(to).skip(from);
    for pixel in rows.flat_map(|row| row.chunks_exact_mut(4)) {
        random ^= random << 13;
        random ^= random >> 17;
        random ^= random << 5;
        let [level, ..] = random.to_be_bytes();
        let level = GRAIN_FLOOR + level / 8;
        pixel[..3].fill(level);
    }
}

/// The darkest grain; the brightest is 31 above it.
const GRAIN_FLOOR: u8 = 80;

/// From the top, clockwise.
fn direction(turn: f32) -> (f32, f32) {
    let angle = turn * TAU;
    (angle.sin(), -angle.cos())
}

fn fill(picture: &mut Pixmap, area: Option<Rect>, color: Color) {
    let mut paint = Paint::default();
    paint.set_color(color);
    if let Some(area) = area {
        picture.fill_rect(area, &paint, Transform::identity(), None);
    }
}

fn line(picture: &mut Pixmap, from: (f32, f32), to: (f32, f32), color: Color, width: f32) {
    let mut path = PathBuilder::new();
    path.move_to(from.0, from.1);
    path.line_to(to.0, to.1);
    if let Some(path) = path.finish() {
        stroke(picture, &path, color, width);
    }
}

fn stroke(picture: &mut Pixmap, path: &tiny_skia::Path, color: Color, width: f32) {
    let mut paint = Paint::default();
    paint.set_color(color);
    paint.anti_alias = true;
    let stroke = Stroke { width, ..Stroke::default() };
    picture.stroke_path(path, &paint, &stroke, Transform::identity(), None);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn picture_and_tone_end_together_and_move() {
        let clip = clip(&format(640, 360, 30.0, 2.0), encoded(640, 360, 30.0, 2.0).unwrap()).unwrap();
        assert_eq!(clip.length, MediaTime::from_millis(8000));
        assert_eq!(clip.tracks.to_string(), "H.264 + AAC");
        let pictures: Vec<_> = clip.packets.iter().filter(|packet| packet.kind == TrackKind::Video).collect();
        assert_eq!(pictures.len(), 240);
        assert_eq!(pictures.iter().filter(|packet| packet.is_keyframe()).count(), 4);
        assert_eq!(clip.packets.len() - pictures.len(), 375, "whole frames of sound");
        assert!(pictures.iter().all(|packet| packet.payload.len() > 100), "every picture differs from the last");
        let bytes: usize = pictures.iter().map(|packet| packet.payload.len()).sum();
        assert!((300_000..1_500_000).contains(&bytes), "{bytes} bytes in 8 s: neither nothing nor a flood");
        assert!(clip.packets.windows(2).all(|pair| pair[0].dts <= pair[1].dts));
    }
}
