use std::io::Cursor;

use image::imageops::{FilterType, overlay, resize};
use image::{ImageFormat, Rgb, RgbImage};
use openh264::decoder::Decoder;
use openh264::formats::YUVSource;
use thiserror::Error;
use waverant_media::{AvcDecoderConfig, CodecParameters, NalUnits};

/// Larger pictures are not decoded for a still.
const MAX_PIXELS: u64 = 4096 * 2304;

/// What stands where there is no picture.
const BLANK: Rgb<u8> = Rgb([32, 38, 46]);

/// Why there is no still.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum StillError {
    /// There is no decoder for it here.
    #[error("stills are made of H.264, and this is {0}")]
    Codec(&'static str),
    /// It would take too much memory.
    #[error("{width}x{height} is too large for a still")]
    Size {
        /// In pixels.
        width: u32,
        /// In pixels.
        height: u32,
    },
    /// The decoder gave no picture.
    #[error("the keyframe cannot be decoded: {0}")]
    Decoder(String),
    /// It cannot be written as JPEG.
    #[error("the picture cannot be written: {0}")]
    Encoder(String),
}

/// A decoded picture.
#[derive(Clone, Debug)]
pub struct Still(RgbImage);

impl Still {
    /// Width and height in pixels.
    pub fn size(&self) -> (u32, u32) {
        self.0.dimensions()
    }

    /// The same picture, no wider than `width`.
    #[must_use]
    pub fn within(&self, width: u32) -> Self {
        let (own, height) = self.size();
        if own <= width {
            return self.clone();
        }
        let height = (u64::from(height) * u64::from(width) / u64::from(own.max(1))).max(1);
        let height = u32::try_from(height).unwrap_or(u32::MAX);
        Self(resize(&self.0, width, height, FilterType::Triangle))
    }

    /// The picture as a JPEG file.
    ///
    /// # Errors
    /// [`StillError::Encoder`].
    pub fn to_jpeg(&self) -> Result<Vec<u8>, StillError> {
        let mut out = Cursor::new(Vec::new());
        let written = self.0.write_to(&mut out, ImageFormat::Jpeg);
        written.map(|()| out.into_inner()).map_err(|error| StillError::Encoder(error.to_string()))
    }
}

/// Decodes a keyframe.
///
/// # Errors
/// [`StillError`] if there is no decoder for the codec, or it gives no picture.
pub fn decode_keyframe(codec: &CodecParameters, keyframe: &[u8]) -> Result<Still, StillError> {
    let CodecParameters::H264(config) = codec else { return Err(StillError::Codec(codec.name())) };
    let (width, height) = (config.sequence().width, config.sequence().height);
    if u64::from(width) * u64::from(height) > MAX_PIXELS {
        return Err(StillError::Size { width, height });
    }
    let failed = |error: openh264::Error| StillError::Decoder(error.to_string());
    let mut decoder = Decoder::new().map_err(failed)?;
    let stream = byte_stream(config, keyframe);
    let first = decoder.decode(&stream).map_err(failed)?.map(|picture| to_still(&picture));
    // Streams that may reorder give the picture only when they are told that nothing follows.
    let still = match first {
        Some(still) => Some(still),
        None => decoder.flush_remaining().map_err(failed)?.first().map(to_still),
    };
    still.flatten().ok_or_else(|| StillError::Decoder("it gives no picture".to_owned()))
}

fn to_still(picture: &openh264::decoder::DecodedYUV<'_>) -> Option<Still> {
    let (width, height) = picture.dimensions();
    let mut pixels = vec![0; width * height * 3];
    picture.write_rgb8(&mut pixels);
    let image = RgbImage::from_raw(u32::try_from(width).ok()?, u32::try_from(height).ok()?, pixels);
    image.map(Still)
}

/// Parameter sets and slices with the start codes that the decoder wants.
fn byte_stream(config: &AvcDecoderConfig, keyframe: &[u8]) -> Vec<u8> {
    let units = config.parameter_sets().into_iter().chain(NalUnits::new(keyframe, config.length_size()));
    let mut out = Vec::with_capacity(keyframe.len() + 128);
    for unit in units {
        out.extend([0, 0, 0, 1]);
        out.extend_from_slice(unit);
    }
    out
}

/// Puts stills side by side, each `width` wide and as high as the first one; what is missing stays blank.
pub fn strip(stills: &[Option<Still>], width: u32) -> Still {
    let fitted: Vec<Option<Still>> =
        stills.iter().map(|still| still.as_ref().map(|still| still.within(width))).collect();
    let height = fitted.iter().flatten().map(|still| still.size().1).next().unwrap_or(width * 9 / 16);
    let count = u32::try_from(fitted.len()).unwrap_or(u32::MAX);
    let mut all = RgbImage::from_pixel(width.saturating_mul(count), height, BLANK);
    for (place, still) in (0..).zip(&fitted) {
        if let Some(Still(image)) = still {
            overlay(&mut all, image, place * i64::from(width), 0);
        }
    }
    Still(all)
}

#[cfg(test)]
mod tests {
    use waverant_media::testing;

    use super::*;
    use crate::holding_picture;

    #[test]
    fn a_keyframe_becomes_a_still() {
        let clip = holding_picture(640, 360, 25.0).unwrap();
        let codec = &clip.tracks.iter().next().unwrap().codec;
        let still = decode_keyframe(codec, &clip.packets[0].payload).unwrap();
        assert_eq!(still.size(), (640, 360));
        let small = still.within(160);
        assert_eq!(small.size(), (160, 90));
        let jpeg = strip(&[Some(small), None, Some(still)], 160).to_jpeg().unwrap();
        let read = image::load_from_memory_with_format(&jpeg, ImageFormat::Jpeg).unwrap().to_rgb8();
        assert_eq!(read.dimensions(), (480, 90));
        // The holding picture is no plain surface, and the gap is.
        let spread = |from: u32| (0..160).map(|x| i32::from(read.get_pixel(from + x, 45)[0])).collect::<Vec<_>>();
        let range = |row: Vec<i32>| row.iter().max().unwrap() - row.iter().min().unwrap();
        assert!(range(spread(0)) > 20 && range(spread(170).into_iter().take(140).collect()) < 8);
    }

    #[test]
    fn what_cannot_be_decoded_is_named() {
        assert_eq!(decode_keyframe(&testing::hevc(), b"").unwrap_err(), StillError::Codec("HEVC"));
        let error = decode_keyframe(&testing::h264(), &[0, 0, 0, 4, 0x65, 1, 2, 3]).unwrap_err();
        assert!(matches!(error, StillError::Decoder(_)), "{error}");
    }
}
