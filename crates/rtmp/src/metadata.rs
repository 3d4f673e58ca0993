use bytes::Bytes;
use waverant_media::{CodecParameters, Track, TrackKind, Tracks};

use crate::amf_value::Value;
use crate::amf0::encode_all;

/// Codec numbers of `videocodecid` and `audiocodecid`. Other codecs are told by their letters,
/// read as a number.
///
/// Source: FLV 10.1, E.4.2.1 and E.4.3.1; E-RTMP 2, Enhancing onMetaData
const AVC: u32 = 7;
const AAC: u32 = 10;
const MP3: u32 = 2;

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
    /// Tracks of pictures beyond the first.
    pub more_video_tracks: usize,
    /// Tracks of sound beyond the first.
    pub more_audio_tracks: usize,
    /// Announced width and height, in pixels.
    pub picture_size: Option<(u32, u32)>,
    /// Announced bit rate of the pictures, in bits per second.
    pub video_bps: Option<f64>,
    /// Announced bit rate of the sound, in bits per second.
    pub audio_bps: Option<f64>,
    /// What is told of single tracks of sound.
    pub audio_labels: Vec<TrackLabel>,
}

/// What a publisher tells of a track beyond its codec.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TrackLabel {
    /// The track's place among those of its kind, counted from 0.
    pub place: u8,
    /// Its language.
    pub language: Option<String>,
    /// Its name.
    pub name: Option<String>,
}

/// Labels longer than this are cut.
const MAX_LABEL: usize = 48;

/// More labels than a stream can have tracks are left out.
const MAX_LABELS: usize = 256;

impl TrackLabel {
    fn read(place: &str, info: &Value) -> Option<Self> {
        let text = |fields: [&str; 2]| {
            let found = fields.into_iter().find_map(|field| info.field(field).and_then(Value::as_str));
            let found = found.map(|text| text.trim().chars().filter(|letter| !letter.is_control()).take(MAX_LABEL));
            found.map(String::from_iter).filter(|text| !text.is_empty())
        };
        let label =
            Self { place: place.parse().ok()?, language: text(["language", "lang"]), name: text(["name", "title"]) };
        (label.language.is_some() || label.name.is_some()).then_some(label)
    }
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
        let infos = |field: &str| find(field).and_then(Value::as_pairs).unwrap_or_default();
        // Most leave the first track out, since all else is about it.
        let more = |field: &str| infos(field).iter().filter(|(place, _)| place != "0").count();
        let labels = infos("audioTrackIdInfoMap").iter().filter_map(|(place, info)| TrackLabel::read(place, info));
        let number = |field: &str| find(field).and_then(Value::as_number).filter(|number| *number > 0.0);
        let side = |field: &str| number(field).and_then(whole_number);
        let kilobits = |field: &str| number(field).map(|rate| rate * 1000.0);
        Self {
            encoder: find("encoder").and_then(Value::as_str).map(|text| text.chars().take(MAX_LABEL).collect()),
            frame_rate: number("framerate"),
            has_video: named("videocodecid"),
            has_audio: named("audiocodecid"),
            more_video_tracks: more("videoTrackIdInfoMap"),
            more_audio_tracks: more("audioTrackIdInfoMap"),
            picture_size: side("width").zip(side("height")),
            video_bps: kilobits("videodatarate"),
            audio_bps: kilobits("audiodatarate"),
            audio_labels: labels.take(MAX_LABELS).collect(),
        }
    }
}

/// What is measured or announced about a stream and stands in no codec's parameters.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct StreamRates {
    /// Pictures per second.
    pub frame_rate: Option<f64>,
    /// Bits of pictures per second.
    pub video_bps: Option<f64>,
    /// Bits of sound per second.
    pub audio_bps: Option<f64>,
}

/// Builds the `onMetaData` message that our client sends.
///
/// Source: FLV 10.1, E.5
#[derive(Clone, Debug)]
pub struct StreamMetadataBuilder {
    pairs: Vec<(String, Value)>,
}

impl StreamMetadataBuilder {
    /// Tells what `tracks` say of themselves and what `rates` add: sizes, rates, codecs.
    pub fn new(tracks: &Tracks, rates: StreamRates, encoder: &str) -> Self {
        let mut builder = Self { pairs: Vec::new() };
        if let Some(track) = tracks.first(TrackKind::Video) {
            builder.describe_pictures(track, rates);
        }
        if let Some(track) = tracks.first(TrackKind::Audio) {
            builder.describe_sound(track, rates);
        }
        builder.describe_more_tracks(tracks, TrackKind::Video, "videoTrackIdInfoMap");
        builder.describe_more_tracks(tracks, TrackKind::Audio, "audioTrackIdInfoMap");
        builder.pairs.push(("encoder".into(), encoder.into()));
        builder
    }

    /// The payload of the data message to a server, which is to keep it for players.
    pub fn encode_for_server(&self) -> Bytes {
        let values = ["@setDataFrame".into(), "onMetaData".into(), Value::EcmaArray(self.pairs.clone())];
        encode_all(&values).into()
    }

    /// The payload of the data message to a player.
    pub fn encode_for_player(&self) -> Bytes {
        encode_all(&["onMetaData".into(), Value::EcmaArray(self.pairs.clone())]).into()
    }

    fn describe_pictures(&mut self, track: &Track, rates: StreamRates) {
        if let Some((width, height)) = track.codec.picture_size() {
            self.number("width", width.into());
            self.number("height", height.into());
        }
        self.number("videocodecid", codec_number(&track.codec).into());
        self.optional("framerate", track.codec.frame_rate().or(rates.frame_rate));
        self.optional("videodatarate", rates.video_bps.map(|rate| rate / 1000.0));
    }

    fn describe_sound(&mut self, track: &Track, rates: StreamRates) {
        self.number("audiocodecid", codec_number(&track.codec).into());
        self.optional("audiodatarate", rates.audio_bps.map(|rate| rate / 1000.0));
        if let Some(sound) = track.codec.sound() {
            self.number("audiosamplerate", sound.sample_rate.into());
            self.number("audiosamplesize", 16.0);
            self.number("audiochannels", sound.channel_count.into());
            self.pairs.push(("stereo".into(), Value::Boolean(sound.channel_count == 2)));
        }
    }

    /// Source: E-RTMP 2, Enhancing onMetaData
    fn describe_more_tracks(&mut self, tracks: &Tracks, kind: TrackKind, name: &str) {
        let of_kind = tracks.iter().filter(|track| track.codec.kind() == kind);
        let is_told = |track: &Track| track.language.is_some() || track.name.is_some();
        let infos: Vec<_> =
            (0..).zip(of_kind).filter(|(place, track): &(u32, _)| *place > 0 || is_told(track)).collect();
        if infos.is_empty() {
            return;
        }
        let infos = infos.into_iter().map(|(place, track)| {
            let mut info = Self { pairs: Vec::new() };
            info.number(
                if kind == TrackKind::Video { "videocodecid" } else { "audiocodecid" },
                codec_number(&track.codec).into(),
            );
            if let Some((width, height)) = track.codec.picture_size() {
                info.number("width", width.into());
                info.number("height", height.into());
            }
            if let Some(sound) = track.codec.sound() {
                info.number("channels", sound.channel_count.into());
                info.number("samplerate", sound.sample_rate.into());
            }
            for (field, text) in [("language", &track.language), ("name", &track.name)] {
                info.pairs.extend(text.iter().map(|text| (field.to_owned(), Value::from(&**text))));
            }
            (place.to_string(), Value::Object(info.pairs))
        });
        self.pairs.push((name.to_owned(), Value::Object(infos.collect())));
    }

    fn number(&mut self, name: &str, value: f64) {
        self.pairs.push((name.to_owned(), Value::Number(value)));
    }

    fn optional(&mut self, name: &str, value: Option<f64>) {
        if let Some(value) = value {
            self.number(name, value);
        }
    }
}

fn codec_number(codec: &CodecParameters) -> u32 {
    let letters = match codec {
        CodecParameters::H264(_) => return AVC,
        CodecParameters::Aac(_) => return AAC,
        CodecParameters::Mp3(_) => return MP3,
        CodecParameters::Hevc(_) => b"hvc1",
        CodecParameters::Av1(_) => b"av01",
        CodecParameters::Vp9(_) => b"vp09",
        CodecParameters::Opus(_) => b"Opus",
        CodecParameters::Flac(_) => b"fLaC",
        CodecParameters::Ac3(config) if config.is_enhanced() => b"ec-3",
        CodecParameters::Ac3(_) => b"ac-3",
        _ => return 0,
    };
    u32::from_be_bytes(*letters)
}

/// A picture's side, which travels as a floating point number.
fn whole_number(number: f64) -> Option<u32> {
    (1..=32_768).find(|side| f64::from(*side) == number.round())
}

#[cfg(test)]
mod tests {
    use waverant_media::{TrackId, testing};

    use super::*;
    use crate::amf0::decode_all;

    const RATES: StreamRates =
        StreamRates { frame_rate: Some(25.0), video_bps: Some(2_500_000.0), audio_bps: Some(128_000.0) };

    #[test]
    fn what_is_built_is_true_and_complete() {
        let payload = StreamMetadataBuilder::new(&testing::h264_and_aac(), RATES, "Waverant").encode_for_server();
        let values = decode_all(&payload).unwrap();
        assert_eq!(values[0].as_str(), Some("@setDataFrame"));
        assert_eq!(values[1].as_str(), Some("onMetaData"));
        for (field, expected) in [
            ("width", 1280.0),
            ("height", 720.0),
            ("videocodecid", 7.0),
            ("framerate", 25.0),
            ("videodatarate", 2500.0),
            ("audiodatarate", 128.0),
            ("audiocodecid", 10.0),
            ("audiosamplerate", 48_000.0),
            ("audiochannels", 2.0),
        ] {
            assert_eq!(values[2].field(field).and_then(Value::as_number), Some(expected), "{field}");
        }
        assert_eq!(values[2].field("stereo"), Some(&Value::Boolean(true)));
        assert_eq!(values[2].field("encoder").and_then(Value::as_str), Some("Waverant"));
    }

    /// Other codecs are told by their letters, further tracks in a map of their own.
    #[test]
    fn other_codecs_and_tracks_are_described() {
        let [second, third] = [1, 2].map(|place| TrackId::at(TrackKind::Audio, place).unwrap());
        let tracks = testing::tracks([
            (TrackId::VIDEO, testing::hevc()),
            (TrackId::AUDIO, testing::opus()),
            (second, testing::aac()),
            (third, testing::opus()),
        ]);
        let payload = StreamMetadataBuilder::new(&tracks, StreamRates::default(), "Waverant").encode_for_player();
        let values = decode_all(&payload).unwrap();
        assert_eq!(values[0].as_str(), Some("onMetaData"));
        let number = |value: &Value, field: &str| value.field(field).and_then(Value::as_number);
        assert_eq!(number(&values[1], "videocodecid"), Some(f64::from(u32::from_be_bytes(*b"hvc1"))));
        assert_eq!((number(&values[1], "width"), number(&values[1], "height")), (Some(1920.0), Some(1080.0)));
        let more = values[1].field("audioTrackIdInfoMap").unwrap();
        assert_eq!(more.as_pairs().unwrap().len(), 2);
        let read = StreamMetadata::from_pairs(values[1].as_pairs().unwrap());
        assert_eq!((read.more_video_tracks, read.more_audio_tracks), (0, 2));
        assert_eq!(number(more.field("1").unwrap(), "audiocodecid"), Some(10.0));
        assert_eq!(values[1].field("videoTrackIdInfoMap"), None);
    }

    #[test]
    fn languages_and_names_go_through() {
        let mut tracks = testing::tracks([
            (TrackId::VIDEO, testing::h264()),
            (TrackId::AUDIO, testing::aac()),
            (TrackId(3), testing::aac()),
        ]);
        for (id, language, name) in [(TrackId::AUDIO, "en", None), (TrackId(3), "de", Some("Kommentar"))] {
            let track = tracks.get(id).unwrap().clone();
            tracks.set(Track { language: Some(language.into()), name: name.map(Into::into), ..track });
        }
        let payload = StreamMetadataBuilder::new(&tracks, RATES, "Waverant").encode_for_player();
        let values = decode_all(&payload).unwrap();
        let read = StreamMetadata::from_pairs(values[1].as_pairs().unwrap());
        let label = |place, language: &str, name: Option<&str>| TrackLabel {
            place,
            language: Some(language.to_owned()),
            name: name.map(str::to_owned),
        };
        assert_eq!(read.audio_labels, [label(0, "en", None), label(1, "de", Some("Kommentar"))]);
        assert_eq!(read.more_audio_tracks, 1);
    }

    #[test]
    fn what_encoders_say_is_read_in_its_variants() {
        let pair = |name: &str, value: Value| (name.to_owned(), value);
        let numbers = StreamMetadata::from_pairs(&[pair("videocodecid", 7.0.into()), pair("audiocodecid", 0.0.into())]);
        assert_eq!((numbers.has_video, numbers.has_audio), (Some(true), Some(false)));
        let names = StreamMetadata::from_pairs(&[pair("videocodecid", "avc1".into()), pair("audiocodecid", "".into())]);
        assert_eq!((names.has_video, names.has_audio), (Some(true), Some(false)));
        let told = [
            pair("width", 1280.0.into()),
            pair("height", 720.0.into()),
            pair("videodatarate", 2500.0.into()),
            pair("audiodatarate", f64::NAN.into()),
        ];
        let told = StreamMetadata::from_pairs(&told);
        assert_eq!((told.picture_size, told.video_bps, told.audio_bps), (Some((1280, 720)), Some(2_500_000.0), None));
        let nothing = StreamMetadata::from_pairs(&[pair("framerate", 0.0.into())]);
        assert_eq!(nothing, StreamMetadata::default());
    }
}
