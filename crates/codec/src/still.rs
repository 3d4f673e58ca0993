use jpeg_encoder::{ColorType, Encoder};
use openh264::decoder::{DecodedYUV, Decoder};
use openh264::formats::YUVSource;
use resize::Pixel;
use resize::Type::Triangle;
use rgb::FromSlice;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use waverant_media::{AvcDecoderConfig, CodecParameters, NalUnits};

use crate::WorkFailed;

/// Larger pictures are not decoded for a still.
const MAX_PIXELS: u64 = 4096 * 2304;

/// What stands where there is no picture.
const BLANK: [u8; 3] = [32, 38, 46];

/// From 0 to 100.
const JPEG_QUALITY: u8 = 80;

/// Why there is no still.
#[derive(Clone, Debug, PartialEq, Eq, Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum StillError {
    /// There is no decoder for it here.
    #[error("stills are made of H.264, and this is {0}")]
    Codec(String),
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
    /// The work broke off.
    #[error(transparent)]
    Work(#[from] WorkFailed),
}

/// A decoded picture.
#[derive(Clone, Debug)]
pub struct Still {
    width: usize,
    height: usize,
    /// Red, green and blue of each.
    pixels: Vec<u8>,
}

impl Still {
    /// Width and height in pixels.
    pub fn size(&self) -> (usize, usize) {
        (self.width, self.height)
    }

    /// A picture of this size.
    ///
    /// # Errors
    /// [`StillError::Decoder`] if there are too few or too many pixels for it.
    pub(crate) fn new((width, height): (usize, usize), pixels: Vec<u8>) -> Result<Self, StillError> {
        if width.checked_mul(height).and_then(|count| count.checked_mul(3)) != Some(pixels.len()) {
            return Err(StillError::Decoder(format!("{} bytes for {width}x{height}", pixels.len())));
        }
        Ok(Self { width, height, pixels })
    }

    /// Red, green and blue of each pixel.
    pub(crate) fn into_pixels(self) -> Vec<u8> {
        self.pixels
    }

    /// The same picture, no wider than `width`.
    #[must_use]
    pub fn within(&self, width: usize) -> Self {
        if self.width <= width || width == 0 {
            return self.clone();
        }
        let height = (self.height * width / self.width).max(1);
        let mut pixels = BLANK.repeat(width * height);
        // It fails for want of memory, and for sizes that do not fit their slices.
        let scaled = resize::new(self.width, self.height, width, height, Pixel::RGB8, Triangle)
            .and_then(|mut scaler| scaler.resize(self.pixels.as_rgb(), pixels.as_rgb_mut()));
        if let Err(error) = scaled {
            tracing::warn!(%error, "a still stays blank");
        }
        Self { width, height, pixels }
    }

    /// The picture as a JPEG file.
    ///
    /// # Errors
    /// [`StillError::Encoder`].
    pub fn to_jpeg(&self) -> Result<Vec<u8>, StillError> {
        let failed = |error: &dyn ToString| StillError::Encoder(error.to_string());
        let side = |pixels: usize| u16::try_from(pixels).map_err(|error| failed(&error));
        let (width, height, mut out) = (side(self.width)?, side(self.height)?, Vec::new());
        let encoder = Encoder::new(&mut out, JPEG_QUALITY);
        encoder.encode(&self.pixels, width, height, ColorType::Rgb).map_err(|error| failed(&error))?;
        Ok(out)
    }
}

/// Decodes a keyframe.
///
/// # Errors
/// [`StillError`] if there is no decoder for the codec, or it gives no picture.
pub(crate) fn decode_keyframe(codec: &CodecParameters, keyframe: &[u8]) -> Result<Still, StillError> {
    decode(codec, keyframe, to_still)
}

/// Decodes a keyframe, and makes something of the picture.
pub(crate) fn decode<T>(
    codec: &CodecParameters,
    keyframe: &[u8],
    make: impl Fn(&DecodedYUV<'_>) -> T,
) -> Result<T, StillError> {
    let CodecParameters::H264(config) = codec else { return Err(StillError::Codec(codec.name().to_owned())) };
    let (width, height) = (config.sequence().width, config.sequence().height);
    if u64::from(width) * u64::from(height) > MAX_PIXELS {
        return Err(StillError::Size { width, height });
    }
    let failed = |error: openh264::Error| StillError::Decoder(error.to_string());
    let mut decoder = Decoder::new().map_err(failed)?;
    let stream = byte_stream(config, keyframe);
    let first = decoder.decode(&stream).map_err(failed)?.map(|picture| make(&picture));
    // Streams that may reorder give the picture only when they are told that nothing follows.
    let made = match first {
        Some(made) => Some(made),
        None => decoder.flush_remaining().map_err(failed)?.first().map(make),
    };
    made.ok_or_else(|| StillError::Decoder("it gives no picture".to_owned()))
}

fn to_still(picture: &DecodedYUV<'_>) -> Still {
    let (width, height) = picture.dimensions();
    let mut pixels = vec![0; width * height * 3];
    picture.write_rgb8(&mut pixels);
    Still { width, height, pixels }
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
pub fn strip(stills: &[Option<Still>], width: usize) -> Still {
    let fitted: Vec<Option<Still>> =
        stills.iter().map(|still| still.as_ref().map(|still| still.within(width))).collect();
    let height = fitted.iter().flatten().map(|still| still.height).next().unwrap_or(width * 9 / 16);
    let mut pixels = Vec::with_capacity(width * height * fitted.len() * 3);
    for row in 0..height {
        for still in &fitted {
            let line =
                still.as_ref().and_then(|still| still.pixels.chunks(still.width * 3).nth(row)).unwrap_or_default();
            pixels.extend_from_slice(line);
            pixels.extend(BLANK.repeat(width - line.len() / 3));
        }
    }
    Still { width: width * fitted.len(), height, pixels }
}

#[cfg(test)]
mod tests {
    use waverant_media::testing;

    use super::*;
    use crate::Hand;

    #[test]
    fn a_keyframe_becomes_a_still() {
        let clip = Hand::default().holding_picture(640, 360, 25.0).unwrap();
        let codec = &clip.tracks.iter().next().unwrap().codec;
        let still = decode_keyframe(codec, &clip.packets[0].payload).unwrap();
        assert_eq!(still.size(), (640, 360));
        let small = still.within(160);
        assert_eq!(small.size(), (160, 90));
        let jpeg = strip(&[Some(small), None, Some(still)], 160).to_jpeg().unwrap();
        let mut decoder = zune_jpeg::JpegDecoder::new(std::io::Cursor::new(jpeg));
        let read = decoder.decode().unwrap();
        assert_eq!(decoder.dimensions(), Some((480, 90)));
        // The holding picture is no plain surface, and the gap is.
        let spread = |from: usize| (0..160).map(|x| i32::from(read[(45 * 480 + from + x) * 3])).collect::<Vec<_>>();
        let range = |row: Vec<i32>| row.iter().max().unwrap() - row.iter().min().unwrap();
        assert!(range(spread(0)) > 20 && range(spread(170).into_iter().take(140).collect()) < 8);
    }

    #[test]
    fn what_cannot_be_decoded_is_named() {
        assert_eq!(decode_keyframe(&testing::hevc(), b"").unwrap_err(), StillError::Codec("HEVC".to_owned()));
        let error = decode_keyframe(&testing::h264(), &[0, 0, 0, 4, 0x65, 1, 2, 3]).unwrap_err();
        assert!(matches!(error, StillError::Decoder(_)), "{error}");
    }
}
