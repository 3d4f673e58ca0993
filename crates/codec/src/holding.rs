use tiny_skia::{
    Color, FilterQuality, GradientStop, LinearGradient, Paint, Pixmap, PixmapPaint, Point, Rect, SpreadMode, Transform,
};
use waverant_media::{CodecParameters, Track, TrackId, Tracks};

use crate::avc::Encoded;
use crate::{Clip, EncodeError, PictureFormat, encode_pictures};

/// Lettering and mark; made by `demo/clip-generator`.
const ARTWORK: &[u8] = include_bytes!("../assets/holding.png");

/// How much of the picture's width, or of its height if that is less, the lettering takes.
const WIDTH_SHARE: f32 = 0.56;
const HEIGHT_SHARE: f32 = 0.34;

/// How the holding picture is encoded: one group of pictures.
pub(crate) fn format(width: u32, height: u32, frame_rate: f64) -> PictureFormat {
    let format = PictureFormat { width, height, frame_rate, bitrate_bps: None, group: 0 };
    PictureFormat { group: format.pictures_in(2.0), ..format }
}

/// Draws and encodes it.
pub(crate) fn encoded(width: u32, height: u32, frame_rate: f64) -> Result<Encoded, EncodeError> {
    let format = format(width, height, frame_rate);
    format.check_size()?;
    let picture = draw(width, height);
    encode_pictures(&format, format.group, |_| &picture)
}

/// A still picture that says that the show goes on soon, two seconds long, without sound.
pub(crate) fn clip(format: &PictureFormat, (avc, packets): Encoded) -> Clip {
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::VIDEO, CodecParameters::H264(avc)));
    Clip { tracks, packets, length: format.time_of(format.group) }
}

fn draw(width: u32, height: u32) -> Pixmap {
    let (w, h) = (width as f32, height as f32);
    let Some(mut picture) = Pixmap::new(width.max(1), height.max(1)) else { unreachable!("sides are not 0") };
    let stops = vec![
        GradientStop::new(0.0, Color::from_rgba8(16, 38, 52, 255)),
        GradientStop::new(1.0, Color::from_rgba8(24, 70, 84, 255)),
    ];
    let shader = LinearGradient::new(
        Point::from_xy(0.0, 0.0),
        Point::from_xy(0.0, h),
        stops,
        SpreadMode::Pad,
        Transform::identity(),
    );
    if let Some((shader, whole)) = shader.zip(Rect::from_xywh(0.0, 0.0, w, h)) {
        let paint = Paint { shader, ..Paint::default() };
        picture.fill_rect(whole, &paint, Transform::identity(), None);
    }
    if let Ok(artwork) = Pixmap::decode_png(ARTWORK) {
        let (aw, ah) = (artwork.width() as f32, artwork.height() as f32);
        let scale = (w * WIDTH_SHARE / aw).min(h * HEIGHT_SHARE / ah);
        let place = Transform::from_scale(scale, scale).post_translate((w - aw * scale) / 2.0, (h - ah * scale) / 2.0);
        let paint = PixmapPaint { quality: FilterQuality::Bicubic, ..PixmapPaint::default() };
        picture.draw_pixmap(0, 0, artwork.as_ref(), &paint, place, None);
    }
    picture
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn holding_picture(width: u32, height: u32, frame_rate: f64) -> Result<Clip, EncodeError> {
        Ok(clip(&format(width, height, frame_rate), encoded(width, height, frame_rate)?))
    }

    #[rstest]
    #[case(1280, 720, 30.0, 60)]
    #[case(720, 1280, 29.97, 60)]
    #[case(640, 360, 25.0, 50)]
    fn it_has_the_wanted_size_and_rate(
        #[case] width: u32,
        #[case] height: u32,
        #[case] rate: f64,
        #[case] count: usize,
    ) {
        let clip = holding_picture(width, height, rate).unwrap();
        let codec = &clip.tracks.get(TrackId::VIDEO).unwrap().codec;
        assert_eq!(codec.picture_size(), Some((width, height)));
        assert_eq!(clip.packets.len(), count);
        assert!(clip.packets[0].is_keyframe() && !clip.packets[1..].iter().any(|packet| packet.is_keyframe()));
        let still: usize = clip.packets[1..].iter().map(|packet| packet.payload.len()).sum();
        assert!(still < clip.packets[0].payload.len() * 4, "a still picture costs little: {still} bytes");
    }

    #[test]
    fn what_cannot_be_encoded_is_told() {
        let error = holding_picture(1279, 720, 30.0).unwrap_err();
        assert!(error.to_string().starts_with("1279x720 cannot be encoded"));
        // What a stream claims of itself takes no memory before it is looked at.
        assert!(holding_picture(65_534, 65_534, 30.0).is_err() && holding_picture(0, 0, 30.0).is_err());
    }

    #[test]
    fn something_is_drawn() {
        let picture = draw(640, 360);
        let bright = picture.pixels().iter().filter(|pixel| pixel.red() > 200).count();
        assert!(bright > 500, "the lettering is there: {bright} bright pixels");
    }
}
