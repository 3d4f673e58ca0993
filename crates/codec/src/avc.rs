use std::borrow::Borrow;

use bytes::Bytes;
use openh264::OpenH264API;
use openh264::encoder::{
    BitRate, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, Profile, QpRange, RateControlMode, VuiConfig,
};
use openh264::formats::{RgbaSliceU8, YUVBuffer};
use serde::{Deserialize, Serialize};
use thiserror::Error;
use tiny_skia::Pixmap;
use waverant_media::{AvcDecoderConfig, MediaTime, NalUnitType, Packet, TICKS_PER_SECOND, TrackId, TrackKind};

use crate::WorkFailed;

/// The smallest and the largest side that is encoded.
const SIDES: std::ops::RangeInclusive<u32> = 64..=4096;

/// Why a picture could not be encoded.
#[derive(Clone, Debug, PartialEq, Eq, Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum EncodeError {
    /// The size cannot be encoded.
    #[error("{width}x{height} cannot be encoded; even sides from {} to {} were expected", SIDES.start(), SIDES.end())]
    Size {
        /// In pixels.
        width: u32,
        /// In pixels.
        height: u32,
    },
    /// The encoder failed.
    #[error("the encoder failed: {0}")]
    Encoder(String),
    /// The work broke off.
    #[error(transparent)]
    Work(#[from] WorkFailed),
}

/// How a decoder is set up, and pictures for it.
pub(crate) type Encoded = (AvcDecoderConfig, Vec<Packet>);

/// How pictures are to be encoded.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PictureFormat {
    /// In pixels.
    pub width: u32,
    /// In pixels.
    pub height: u32,
    /// Pictures per second.
    pub frame_rate: f64,
    /// Bits per second; none for the same quality in every picture.
    pub bitrate_bps: Option<u32>,
    /// Pictures from one keyframe to the next.
    pub group: u32,
}

impl PictureFormat {
    /// Whether pictures of this size can be encoded; to be asked before one is drawn.
    ///
    /// # Errors
    /// [`EncodeError::Size`] if not.
    pub fn check_size(&self) -> Result<(), EncodeError> {
        let Self { width, height, .. } = *self;
        if [width, height].iter().any(|side| !SIDES.contains(side) || side % 2 != 0) {
            return Err(EncodeError::Size { width, height });
        }
        Ok(())
    }

    /// How many pictures last about as long as `seconds`; at least one.
    pub fn pictures_in(&self, seconds: f64) -> u32 {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped")]
        let count = (self.frame_rate * seconds).round().clamp(1.0, 36_000.0) as u32;
        count
    }

    /// When picture `number` is shown.
    pub fn time_of(&self, number: u32) -> MediaTime {
        let ticks = f64::from(number) * TICKS_PER_SECOND as f64 / self.frame_rate;
        #[expect(clippy::cast_possible_truncation, reason = "minutes at most")]
        MediaTime::from_ticks(ticks.round() as i64)
    }
}

impl PictureFormat {
    /// Picture `number`, still without its payload.
    pub(crate) fn packet(&self, number: u32) -> Packet {
        let time = self.time_of(number);
        let (track, kind, payload) = (TrackId::VIDEO, TrackKind::Video, Bytes::new());
        Packet { track, kind, dts: time, pts: time, random_access: false, payload }
    }
}

/// Encodes `count` pictures; the first one is a keyframe.
///
/// # Errors
/// [`EncodeError`] if the size cannot be encoded or the encoder fails.
pub fn encode_pictures<P: Borrow<Pixmap>>(
    format: &PictureFormat,
    count: u32,
    mut draw: impl FnMut(u32) -> P,
) -> Result<Encoded, EncodeError> {
    format.check_size()?;
    let PictureFormat { width, height, .. } = *format;
    let failed = |error: &dyn std::fmt::Display| EncodeError::Encoder(error.to_string());
    let mut encoder =
        Encoder::with_api_config(OpenH264API::from_source(), encoder_config(format)).map_err(|error| failed(&error))?;
    let (mut avc, mut packets) = (None, Vec::new());
    for number in 0..count {
        let picture = draw(number);
        let rgba = RgbaSliceU8::new(picture.borrow().data(), (width as usize, height as usize));
        let encoded = encoder.encode(&YUVBuffer::from_rgba8_source(rgba)).map_err(|error| failed(&error))?.to_vec();
        let units = split_byte_stream(&encoded);
        if units.is_empty() {
            return Err(EncodeError::Encoder(format!("picture {number} was left out")));
        }
        if avc.is_none() {
            let record = configuration_record(&units).ok_or_else(|| failed(&"no parameter sets"))?;
            avc = Some(AvcDecoderConfig::parse(record).map_err(|error| failed(&error))?);
        }
        packets.push(Packet {
            random_access: units.iter().any(|unit| kind_of(unit) == Some(NalUnitType::IdrSlice)),
            payload: length_prefixed(&units),
            ..format.packet(number)
        });
    }
    Ok((avc.ok_or_else(|| failed(&"no pictures"))?, packets))
}

fn encoder_config(format: &PictureFormat) -> EncoderConfig {
    #[expect(clippy::cast_possible_truncation, reason = "the encoder wants less precision")]
    let frame_rate = format.frame_rate as f32;
    let config = match format.bitrate_bps {
        Some(rate) => EncoderConfig::new().rate_control_mode(RateControlMode::Bitrate).bitrate(BitRate::from_bps(rate)),
        None => EncoderConfig::new().rate_control_mode(RateControlMode::Off),
    };
    config
        .max_frame_rate(FrameRate::from_hz(frame_rate))
        .skip_frames(false)
        .scene_change_detect(false)
        .intra_frame_period(IntraFramePeriod::from_num_frames(format.group))
        .profile(Profile::High)
        .qp(QpRange::new(6, 36))
        .vui(VuiConfig::bt601())
        .num_threads(1)
}

fn kind_of(unit: &[u8]) -> Option<NalUnitType> {
    unit.first().map(|header| NalUnitType::from_header(*header))
}

/// The NAL units between start codes.
///
/// Source: ISO/IEC 14496-10, B.1
fn split_byte_stream(stream: &[u8]) -> Vec<&[u8]> {
    let starts: Vec<usize> =
        stream.windows(3).enumerate().filter(|(_, window)| *window == [0, 0, 1]).map(|(at, _)| at + 3).collect();
    let ends = starts.iter().skip(1).map(|start| start - 3).chain([stream.len()]);
    let units = starts.iter().zip(ends).map(|(start, end)| {
        let unit = stream.get(*start..end).unwrap_or_default();
        let length = unit.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
        &unit[..length]
    });
    units.filter(|unit| !unit.is_empty()).collect()
}

/// Parameter sets are in the record; the pictures keep the rest.
fn length_prefixed(units: &[&[u8]]) -> Bytes {
    let mut out = Vec::new();
    let is_set = |unit: &[u8]| matches!(kind_of(unit), Some(NalUnitType::Sps | NalUnitType::Pps));
    for unit in units.iter().filter(|unit| !is_set(unit)) {
        out.extend(u32::try_from(unit.len()).unwrap_or(0).to_be_bytes());
        out.extend_from_slice(unit);
    }
    out.into()
}

/// Source: ISO/IEC 14496-15, 5.3.3.1
fn configuration_record(units: &[&[u8]]) -> Option<Bytes> {
    let find = |kind: NalUnitType| units.iter().find(|unit| kind_of(unit) == Some(kind)).copied();
    let (sps, pps) = (find(NalUnitType::Sps)?, find(NalUnitType::Pps)?);
    let profile = sps.get(1..4)?;
    let mut out = vec![1, profile[0], profile[1], profile[2], 0xff, 0xe1];
    out.extend(u16::try_from(sps.len()).ok()?.to_be_bytes());
    out.extend_from_slice(sps);
    out.push(1);
    out.extend(u16::try_from(pps.len()).ok()?.to_be_bytes());
    out.extend_from_slice(pps);
    if matches!(profile[0], 100 | 110 | 122 | 144) {
        // 4:2:0, 8 bits, no extension sets.
        out.extend([0xfd, 0xf8, 0xf8, 0]);
    }
    Some(out.into())
}
