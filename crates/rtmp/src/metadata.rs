use bytes::Bytes;
use waverant_media::Tracks;

use crate::amf0::{Value, encode_all};

/// Codec numbers of `videocodecid` and `audiocodecid`.
///
/// Source: FLV 10.1, E.4.2.1 and E.4.3.1
const AVC: f64 = 7.0;
const AAC: f64 = 10.0;

/// What a publisher's `onMetaData` says, as far as we use it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StreamMetadata {
    /// The encoder's name.
    pub encoder: Option<String>,
    /// Announced pictures per second.
    pub frame_rate: Option<f64>,
    /// True if a video codec is named, false if all is told and none is.
    pub has_video: Option<bool>,
    /// True if an audio codec is named.
    pub has_audio: Option<bool>,
}

impl StreamMetadata {
    /// Reads the named values of an `onMetaData` message.
    pub fn from_pairs(pairs: &[(String, Value)]) -> Self {
        let find = |name: &str| pairs.iter().find(|(key, _)| key == name).map(|(_, value)| value);
        let named = |field: &str| match find(field) {
            Some(Value::Number(codec)) => Some(*codec != 0.0),
            Some(Value::String(codec)) => Some(!codec.is_empty()),
            _ => None,
        };
        Self {
            encoder: find("encoder").and_then(Value::as_str).map(str::to_owned),
            frame_rate: find("framerate").and_then(Value::as_number).filter(|rate| *rate > 0.0),
            has_video: named("videocodecid"),
            has_audio: named("audiocodecid"),
        }
    }
}

/// Builds the `onMetaData` message that our client sends.
///
/// Source: FLV 10.1, E.5
#[derive(Clone, Debug)]
pub struct StreamMetadataBuilder {
    pairs: Vec<(String, Value)>,
}

impl StreamMetadataBuilder {
    /// Tells what `tracks` say: sizes, rates and codecs. `frame_rate` is used where the video
    /// parameters do not tell it.
    pub fn new(tracks: &Tracks, frame_rate: Option<f64>, encoder: &str) -> Self {
        let mut builder = Self { pairs: Vec::new() };
        if let Some(config) = tracks.h264() {
            let sequence = config.sequence();
            let own = sequence.frame_rate.map(|(numerator, denominator)| f64::from(numerator) / f64::from(denominator));
            builder.number("width", sequence.width.into());
            builder.number("height", sequence.height.into());
            builder.number("videocodecid", AVC);
            if let Some(rate) = own.or(frame_rate) {
                builder.number("framerate", rate);
            }
        }
        if let Some(config) = tracks.aac() {
            builder.number("audiocodecid", AAC);
            builder.number("audiosamplerate", config.sample_rate().into());
            builder.number("audiosamplesize", 16.0);
            builder.number("audiochannels", config.channel_count().into());
            builder.pairs.push(("stereo".into(), Value::Boolean(config.channel_count() == 2)));
        }
        builder.pairs.push(("encoder".into(), encoder.into()));
        builder
    }

    /// Adds measured bitrates.
    #[must_use]
    pub fn with_bitrates(mut self, video_bps: Option<f64>, audio_bps: Option<f64>) -> Self {
        for (name, rate) in [("videodatarate", video_bps), ("audiodatarate", audio_bps)] {
            if let Some(rate) = rate {
                // The unit of the field is kilobits per second.
                self.number(name, (rate / 1000.0).round());
            }
        }
        self
    }

    /// The payload of the data message.
    pub fn encode(&self) -> Bytes {
        let values = ["@setDataFrame".into(), "onMetaData".into(), Value::EcmaArray(self.pairs.clone())];
        encode_all(&values).into()
    }

    fn number(&mut self, name: &str, value: f64) {
        self.pairs.push((name.to_owned(), Value::Number(value)));
    }
}
