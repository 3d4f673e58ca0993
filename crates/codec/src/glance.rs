//! Keyframes looked at to judge a show: how bright they are, and whether they differ.

use openh264::decoder::DecodedYUV;
use openh264::formats::YUVSource;
use waverant_media::CodecParameters;

use crate::StillError;
use crate::still::decode;

/// Columns and rows of points that are looked at.
const GRID: (usize, usize) = (96, 54);

/// How many points those are.
pub const GLANCE_POINTS: usize = GRID.0 * GRID.1;

/// The brightness of points that lie evenly over a picture, each from 0 to 255; 16 is black in most streams.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Glance {
    /// Row by row.
    pub points: Vec<u8>,
}

/// Decodes a keyframe and looks at it. A point is one sample and no mean: so the noise of a camera shows, and tells it from
/// a picture that stands.
///
/// # Errors
/// [`StillError`] if there is no decoder for the codec, or it gives no picture.
pub(crate) fn glance(codec: &CodecParameters, keyframe: &[u8]) -> Result<Glance, StillError> {
    decode(codec, keyframe, to_glance)
}

fn to_glance(picture: &DecodedYUV<'_>) -> Glance {
    let ((width, height), (stride, ..)) = (picture.dimensions(), picture.strides());
    let luma = picture.y();
    let at = |place: usize, count: usize, side: usize| (2 * place + 1) * side / (2 * count);
    let points = (0..GRID.1).flat_map(|row| (0..GRID.0).map(move |column| (row, column)));
    let points = points.map(|(row, column)| {
        let place = at(row, GRID.1, height) * stride + at(column, GRID.0, width);
        luma.get(place).copied().unwrap_or(0)
    });
    Glance { points: points.collect() }
}

#[cfg(test)]
mod tests {
    use waverant_media::testing;

    use super::*;
    use crate::Hand;

    #[test]
    fn a_keyframe_is_looked_at() {
        let clip = Hand::default().holding_picture(320, 180, 25.0).unwrap();
        let codec = &clip.tracks.iter().next().unwrap().codec;
        let found = glance(codec, &clip.packets[0].payload).unwrap();
        assert_eq!(found.points.len(), GLANCE_POINTS);
        let (least, most) = (found.points.iter().min().unwrap(), found.points.iter().max().unwrap());
        assert!(most - least > 20, "it is no plain surface: {least} to {most}");
        assert_eq!(glance(codec, &clip.packets[0].payload), Ok(found), "the same picture is the same");
        assert_eq!(glance(&testing::hevc(), b""), Err(StillError::Codec("HEVC".to_owned())));
    }
}
