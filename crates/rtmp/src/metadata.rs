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

    /// The payload of the data message.
    pub fn encode(&self) -> Bytes {
        let values = ["@setDataFrame".into(), "onMetaData".into(), Value::EcmaArray(self.pairs.clone())];
        encode_all(&values).into()
    }

    fn number(&mut self, name: &str, value: f64) {
        self.pairs.push((name.to_owned(), Value::Number(value)));
    }
}

#[cfg(test)]
mod tests {
    use waverant_media::{AudioSpecificConfig, AvcDecoderConfig, CodecParameters, Track, TrackId};

    use super::*;
    use crate::amf0::decode_all;

    const AVC: &[u8] = &[
        1, 0x42, 0xc0, 0x1f, 0xff, 0xe1, 0, 10, 0x67, 0x42, 0xc0, 0x1f, 0xda, 0x01, 0x40, 0x16, 0xe8, 0x40, 1, 0, 4,
        0x68, 0xce, 0x3c, 0x80,
    ];

    fn tracks() -> Tracks {
        let mut tracks = Tracks::new();
        let h264 = AvcDecoderConfig::parse(Bytes::from_static(AVC)).unwrap();
        tracks.set(Track { id: TrackId::VIDEO, codec: CodecParameters::H264(h264) });
        let aac = AudioSpecificConfig::parse(Bytes::from_static(&[0x11, 0x90])).unwrap();
        tracks.set(Track { id: TrackId::AUDIO, codec: CodecParameters::Aac(aac) });
        tracks
    }

    #[test]
    fn what_is_built_is_true_and_complete() {
        let payload = StreamMetadataBuilder::new(&tracks(), Some(25.0), "Waverant").encode();
        let values = decode_all(&payload).unwrap();
        assert_eq!(values[0].as_str(), Some("@setDataFrame"));
        assert_eq!(values[1].as_str(), Some("onMetaData"));
        for (field, expected) in [
            ("width", 1280.0),
            ("height", 720.0),
            ("videocodecid", 7.0),
            ("framerate", 25.0),
            ("audiocodecid", 10.0),
            ("audiosamplerate", 48_000.0),
            ("audiochannels", 2.0),
        ] {
            assert_eq!(values[2].field(field).and_then(Value::as_number), Some(expected), "{field}");
        }
        assert_eq!(values[2].field("stereo"), Some(&Value::Boolean(true)));
        assert_eq!(values[2].field("encoder").and_then(Value::as_str), Some("Waverant"));
    }

    #[test]
    fn what_encoders_say_is_read_in_its_variants() {
        let pair = |name: &str, value: Value| (name.to_owned(), value);
        let numbers = StreamMetadata::from_pairs(&[pair("videocodecid", 7.0.into()), pair("audiocodecid", 0.0.into())]);
        assert_eq!((numbers.has_video, numbers.has_audio), (Some(true), Some(false)));
        let names = StreamMetadata::from_pairs(&[pair("videocodecid", "avc1".into()), pair("audiocodecid", "".into())]);
        assert_eq!((names.has_video, names.has_audio), (Some(true), Some(false)));
        let nothing = StreamMetadata::from_pairs(&[pair("framerate", 0.0.into())]);
        assert_eq!(nothing, StreamMetadata::default());
    }
}
