use std::sync::Arc;

use bytes::Bytes;
use waverant_container::{TagCodec, TagContent, TagPart, parse_audio_tag, parse_video_tag};
use waverant_media::{CodecParameters, MediaTime, Packet, TICKS_PER_SECOND, Track, TrackId, TrackKind, Tracks};
use waverant_rtmp::{MediaKind, StreamMetadata, Timestamp, TimestampUnwrapper, TrackLabel};

use super::SourceCounters;
use super::assembly::{Assembly, Frame, MAX_TRACKS};
use super::codec_config::{config_in_frame, read_config};

/// A source with several tracks of a kind is given this long to show them all.
const GATHER_MORE: MediaTime = MediaTime::from_millis(100);

/// A part that is smaller than this share of its message is copied out of it.
const SMALL_SHARE: usize = 4;

const NANOS_PER_SECOND: i64 = 1_000_000_000;

/// Turns the media messages of an RTMP publisher into packets on its own mended clock.
#[derive(Debug, Default)]
pub struct RtmpSource {
    assembly: Assembly,
    unwrapper: TimestampUnwrapper,
    metadata: Option<StreamMetadata>,
    /// Kept between calls for its memory only.
    parts: Vec<TagPart>,
}

impl RtmpSource {
    /// A source at the start of a connection.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes what the publisher says about its stream.
    pub fn handle_metadata(&mut self, metadata: StreamMetadata) {
        self.metadata = Some(metadata);
        let labelled: Vec<Track> = self.tracks().iter().map(|track| self.label(track.clone())).collect();
        labelled.into_iter().for_each(|track| self.assembly.set_track(track));
    }

    /// Takes a media message.
    pub fn handle_media(&mut self, kind: MediaKind, timestamp: Timestamp, body: &Bytes) {
        let mut parts = std::mem::take(&mut self.parts);
        let (kind, parsed) = match kind {
            MediaKind::Audio => (TrackKind::Audio, parse_audio_tag(body, &mut parts)),
            MediaKind::Video => (TrackKind::Video, parse_video_tag(body, &mut parts)),
        };
        let mut time = MediaTime::from_millis(self.unwrapper.unwrap(timestamp));
        match parsed {
            Ok(tag) => {
                let ticks = i64::from(tag.offset_nanos) * TICKS_PER_SECOND / NANOS_PER_SECOND;
                time = time + MediaTime::from_ticks(ticks);
            }
            Err(error) => self.assembly.damaged(error.to_string()),
        }
        for mut part in parts.drain(..) {
            let_go_of_the_rest(&mut part, body.len());
            self.handle_part(kind, time, part);
        }
        self.parts = parts;
        self.release();
    }

    /// The next packet with the tracks that it belongs to; call until None.
    #[must_use]
    pub fn poll_packet(&mut self) -> Option<(Packet, Arc<Tracks>)> {
        self.assembly.poll_packet()
    }

    /// The tracks as they are now.
    pub fn tracks(&self) -> &Arc<Tracks> {
        self.assembly.tracks()
    }

    /// What the publisher said about its stream.
    pub fn metadata(&self) -> Option<&StreamMetadata> {
        self.metadata.as_ref()
    }

    /// What the source does wrong.
    pub fn counters(&self) -> SourceCounters {
        self.assembly.counters()
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        self.assembly.last_problem()
    }

    /// True if that is damage, which passes; false if it is what is not carried.
    pub fn is_damage(&self) -> bool {
        self.assembly.is_damage()
    }

    fn handle_part(&mut self, kind: TrackKind, time: MediaTime, part: TagPart) {
        let TagPart { track, codec, content } = part;
        let Some(id) = TrackId::at(kind, track).filter(|id| self.assembly.has_room_for(*id)) else {
            return self
                .assembly
                .unsupported(format!("track {track} is one too many; {MAX_TRACKS} tracks are carried"));
        };
        match content {
            TagContent::Config(raw) => match read_config(codec, raw) {
                Ok(codec) => self.set_codec(id, codec),
                Err(error) => self.assembly.damaged(error),
            },
            TagContent::Frame { keyframe, composition_time_ms, payload } if !payload.is_empty() => {
                if let Some(codec) = config_in_frame(codec, &payload) {
                    self.set_codec(id, codec);
                }
                if self.tracks().get(id).is_none_or(|track| TagCodec::of(&track.codec) != Some(codec)) {
                    self.assembly.counters.headless_count += 1;
                    return;
                }
                let composition = MediaTime::from_millis(composition_time_ms.into());
                self.assembly.push(Frame { track: id, kind, time, composition, random_access: keyframe, payload });
            }
            TagContent::ColourInfo(raw) => self.set_colour_info(id, raw),
            TagContent::Unread => {
                let instead = if kind == TrackKind::Video { "H.264, HEVC, AV1 or VP9" } else { "AAC or Opus" };
                self.assembly.unsupported(format!("{codec} is not carried; set the encoder to {instead}"));
            }
            _ => {}
        }
    }

    /// Encoders repeat their headers; only a real change makes a new set.
    fn set_codec(&mut self, id: TrackId, codec: CodecParameters) {
        let old = self.tracks().get(id);
        if old.is_none_or(|old| old.codec != codec) {
            let colour_info = old.and_then(|old| old.colour_info.clone());
            self.assembly.set_track(self.label(Track { colour_info, ..Track::new(id, codec) }));
        }
    }

    fn set_colour_info(&mut self, id: TrackId, raw: Bytes) {
        if let Some(track) = self.tracks().get(id) {
            let track = Track { colour_info: Some(raw), ..track.clone() };
            self.assembly.set_track(track);
        }
    }

    /// Gives a track the language and name that the publisher told.
    fn label(&self, mut track: Track) -> Track {
        let labels = self.metadata.as_ref().map(|told| told.audio_labels.as_slice()).unwrap_or_default();
        let is_its = |label: &&TrackLabel| track.codec.kind() == TrackKind::Audio && label.place == track.id.place();
        if let Some(label) = labels.iter().find(is_its) {
            track.language = label.language.as_deref().map(Into::into);
            track.name = label.name.as_deref().map(Into::into);
        }
        track
    }

    /// Ends the waiting at the start once all announced tracks are known, or time is up.
    fn release(&mut self) {
        let metadata = self.metadata.as_ref();
        let (has_video, has_audio) = metadata.map_or((None, None), |told| (told.has_video, told.has_audio));
        let more = metadata.map_or((0, 0), |told| (told.more_video_tracks, told.more_audio_tracks));
        self.assembly.release(|tracks, length| {
            let is_complete = |kind, announced: Option<bool>, more: usize| {
                let wanted = (usize::from(announced.unwrap_or(true)) + more).min(MAX_TRACKS);
                tracks.iter().filter(|track| track.codec.kind() == kind).count() >= wanted
            };
            // Where there are further tracks more may come whose first frame tells what they are.
            let has_more = tracks.iter().any(|track| track.id.place() > 0);
            is_complete(TrackKind::Video, has_video, more.0)
                && is_complete(TrackKind::Audio, has_audio, more.1)
                && (!has_more || length >= GATHER_MORE)
        });
    }
}

/// A small part is not to keep a large message in memory for as long as a ring holds it.
fn let_go_of_the_rest(part: &mut TagPart, message_length: usize) {
    match &mut part.content {
        TagContent::Config(bytes) | TagContent::ColourInfo(bytes) | TagContent::Frame { payload: bytes, .. }
            if bytes.len() < message_length / SMALL_SHARE =>
        {
            *bytes = Bytes::copy_from_slice(bytes);
        }
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use waverant_media::testing::{AC3_FRAME_START, AV1_RECORD, AVC_RECORD, HEVC_RECORD, OPUS_HEADER};

    use super::*;

    const AAC_HEADER: &[u8] = &[0xaf, 0, 0x11, 0x90];

    fn avc_header() -> Vec<u8> {
        [&[0x17, 0, 0, 0, 0], AVC_RECORD].concat()
    }

    fn video(source: &mut RtmpSource, time: u32, body: &[u8]) {
        source.handle_media(MediaKind::Video, Timestamp(time), &Bytes::copy_from_slice(body));
    }

    fn audio(source: &mut RtmpSource, time: u32, body: &[u8]) {
        source.handle_media(MediaKind::Audio, Timestamp(time), &Bytes::copy_from_slice(body));
    }

    fn packets(source: &mut RtmpSource) -> Vec<(Packet, Arc<Tracks>)> {
        std::iter::from_fn(|| source.poll_packet()).collect()
    }

    fn started() -> RtmpSource {
        let mut source = RtmpSource::new();
        video(&mut source, 1000, &avc_header());
        audio(&mut source, 1000, AAC_HEADER);
        source
    }

    #[test]
    fn frames_become_packets_without_a_copy() {
        let mut source = started();
        let body = Bytes::from_static(&[0x17, 1, 0, 0, 66, 1, 2, 3]);
        source.handle_media(MediaKind::Video, Timestamp(1000), &body);
        let (packet, tracks) = source.poll_packet().unwrap();
        assert_eq!(packet.payload.as_ptr(), body[5..].as_ptr());
        assert!(packet.is_keyframe());
        assert_eq!((packet.dts.millis(), packet.pts.millis()), (0, 66));
        assert_eq!(tracks.len(), 2);
    }

    #[test]
    fn the_start_waits_for_the_sound_header() {
        let mut source = RtmpSource::new();
        video(&mut source, 0, &avc_header());
        video(&mut source, 0, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(source.poll_packet(), None);
        audio(&mut source, 0, AAC_HEADER);
        let waited = packets(&mut source);
        assert_eq!(waited.len(), 1);
        assert_eq!(waited[0].1.len(), 2);
    }

    #[test]
    fn a_source_without_sound_starts_when_it_says_so_or_after_a_second() {
        let mut source = RtmpSource::new();
        video(&mut source, 0, &avc_header());
        for time in [0, 500, 990] {
            video(&mut source, time, &[0x17, 1, 0, 0, 0, 1]);
            assert_eq!(source.poll_packet(), None);
        }
        video(&mut source, 1000, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(packets(&mut source).len(), 4);

        let mut source = RtmpSource::new();
        source.handle_metadata(StreamMetadata { has_audio: Some(false), ..StreamMetadata::default() });
        video(&mut source, 0, &avc_header());
        video(&mut source, 0, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(packets(&mut source).len(), 1);
    }

    #[test]
    fn repeated_headers_change_nothing_and_changed_ones_do() {
        let mut source = started();
        video(&mut source, 1000, &[0x17, 1, 0, 0, 0, 1]);
        video(&mut source, 1040, &avc_header());
        video(&mut source, 1040, &[0x27, 1, 0, 0, 0, 1]);
        audio(&mut source, 1080, &[0xaf, 0, 0x12, 0x10]);
        audio(&mut source, 1080, &[0xaf, 1, 1]);
        let got = packets(&mut source);
        assert!(Arc::ptr_eq(&got[0].1, &got[1].1));
        assert!(!Arc::ptr_eq(&got[1].1, &got[2].1));
        assert_eq!(got[2].1.first(TrackKind::Audio).unwrap().codec.sound().unwrap().sample_rate, 44_100);
    }

    #[test]
    fn codecs_named_by_letters_become_tracks() {
        let mut source = RtmpSource::new();
        video(&mut source, 0, &[b"\x90hvc1", HEVC_RECORD].concat());
        audio(&mut source, 0, &[b"\x90Opus", OPUS_HEADER].concat());
        video(&mut source, 0, b"\x91hvc1\x00\x00\x21picture");
        audio(&mut source, 5, b"\x91Opussound");
        let got = packets(&mut source);
        assert_eq!(got[0].1.to_string(), "HEVC + Opus");
        assert_eq!((&got[0].0.payload[..], got[0].0.pts.millis()), (&b"picture"[..], 33));
        assert_eq!(&got[1].0.payload[..], b"sound");
        video(&mut source, 40, &[b"\x90av01", AV1_RECORD].concat());
        video(&mut source, 40, b"\x91av01obu");
        assert_eq!(packets(&mut source)[0].1.to_string(), "AV1 + Opus");
    }

    #[test]
    fn tracks_of_one_message_become_packets_of_their_own() {
        let mut source = started();
        let headers = [&b"\x95\x10mp4a"[..], &[0, 0, 0, 2, 0x11, 0x90, 1, 0, 0, 2, 0x12, 0x10, 2, 0, 0, 2, 0x11, 0x88]];
        audio(&mut source, 0, &headers.concat());
        audio(&mut source, 0, b"\x95\x11mp4a\x00\x00\x00\x01a\x01\x00\x00\x02bb\x02\x00\x00\x01c");
        assert_eq!(source.poll_packet(), None, "more tracks may come");
        audio(&mut source, 100, b"\x95\x11mp4a\x00\x00\x00\x01a\x01\x00\x00\x02bb\x02\x00\x00\x01c");
        let got = packets(&mut source);
        let tracks: Vec<u8> = got.iter().map(|(packet, _)| packet.track.place()).collect();
        assert_eq!(tracks, [0, 1, 2, 0, 1, 2]);
        assert_eq!(got[1].0.payload, "bb");
        assert_eq!(got[2].1.iter().filter(|track| track.codec.kind() == TrackKind::Audio).count(), 3);
    }

    /// The rest of a message may be of a track that nobody carries.
    #[test]
    fn a_small_part_does_not_keep_a_large_message() {
        let mut source = started();
        let rest = vec![7; 4000];
        let message = Bytes::from([b"\x95\x11mp4a\x00\x00\x00\x01a\x01\x00\x0f\xa0", &rest[..]].concat());
        for time in [0, 100, 200] {
            source.handle_media(MediaKind::Audio, Timestamp(time), &message);
        }
        let got = packets(&mut source);
        let place = got.iter().find(|(packet, _)| packet.payload == "a").map(|(packet, _)| packet.payload.as_ptr());
        assert!(place.is_some_and(|place| !message.as_ptr_range().contains(&place)), "{}", got.len());
    }

    #[test]
    fn sound_without_a_header_tells_its_form_itself() {
        let mut source = RtmpSource::new();
        video(&mut source, 0, &avc_header());
        audio(&mut source, 0, &[b"\x91ac-3", AC3_FRAME_START].concat());
        let got = packets(&mut source);
        assert_eq!(got[0].1.first(TrackKind::Audio).unwrap().codec.sound().unwrap().channel_count, 6);
        audio(&mut source, 30, &[0x2f, 0xff, 0xfb, 0x90, 0x00]);
        assert_eq!(packets(&mut source)[0].1.to_string(), "H.264 + MP3");
    }

    #[test]
    fn the_start_waits_for_announced_tracks() {
        let mut source = RtmpSource::new();
        source.handle_metadata(StreamMetadata { more_audio_tracks: 1, ..StreamMetadata::default() });
        video(&mut source, 0, &avc_header());
        audio(&mut source, 0, AAC_HEADER);
        audio(&mut source, 0, &[0xaf, 1, 1]);
        assert_eq!(source.poll_packet(), None);
        audio(&mut source, 0, &[b"\x95\x01ac-3\x01", AC3_FRAME_START].concat());
        audio(&mut source, 100, &[0xaf, 1, 1]);
        assert!(packets(&mut source).iter().all(|(_, tracks)| tracks.len() == 3));
    }

    #[test]
    fn labels_reach_their_tracks_whenever_they_are_told() {
        let told = |language: &str| StreamMetadata {
            audio_labels: vec![TrackLabel { place: 0, language: Some(language.to_owned()), name: None }],
            ..StreamMetadata::default()
        };
        let language = |source: &RtmpSource| source.tracks().first(TrackKind::Audio).unwrap().language.clone();
        let mut source = RtmpSource::new();
        source.handle_metadata(told("en"));
        audio(&mut source, 0, AAC_HEADER);
        assert_eq!(language(&source).as_deref(), Some("en"));
        source.handle_metadata(told("de"));
        assert_eq!(language(&source).as_deref(), Some("de"));
        let before = source.tracks().clone();
        source.handle_metadata(told("de"));
        assert!(Arc::ptr_eq(source.tracks(), &before), "the same again is no change");
    }

    #[test]
    fn colour_metadata_stays_with_its_track() {
        let mut source = RtmpSource::new();
        video(&mut source, 0, &[b"\x90hvc1", HEVC_RECORD].concat());
        audio(&mut source, 0, AAC_HEADER);
        video(&mut source, 0, b"\x94hvc1\x02\x00\x09colorInfo\x05");
        let before = source.tracks().clone();
        assert!(before.first(TrackKind::Video).unwrap().colour_info.is_some());
        video(&mut source, 0, b"\x94hvc1\x02\x00\x09colorInfo\x05");
        video(&mut source, 0, &[b"\x90hvc1", HEVC_RECORD].concat());
        assert!(Arc::ptr_eq(source.tracks(), &before), "the same again is no change");
    }

    #[test]
    fn nanoseconds_count() {
        let mut source = started();
        video(&mut source, 1000, &[0x17, 1, 0, 0, 0, 1]);
        video(&mut source, 1000, b"\xa7\x02\x07\xa1\x20\x03avc1x");
        let got = packets(&mut source);
        assert_eq!((got[1].0.dts - got[0].0.dts).ticks(), 45, "half a millisecond");
    }

    #[test]
    fn what_cannot_be_used_is_counted_and_named() {
        let mut source = started();
        audio(&mut source, 0, &[0xb6, 1, 2, 3]);
        assert_eq!(source.last_problem(), Some("sound format 11 is not carried; set the encoder to AAC or Opus"));
        video(&mut source, 0, b"\x91zz99picture");
        let told = "codec `zz99` is not carried; set the encoder to H.264, HEVC, AV1 or VP9";
        assert_eq!(source.last_problem(), Some(told));
        video(&mut source, 0, &[0x17, 9, 0, 0, 0]);
        video(&mut source, 0, b"\x90hvc1\x01\x02");
        assert_eq!(source.last_problem(), Some("HEVC header: it is cut short: the structure ends 80 bits too early"));
        audio(&mut source, 0, b"\x95\x01mp4a\xffx");
        assert_eq!(source.last_problem(), Some("track 255 is one too many; 16 tracks are carried"));
        assert_eq!(source.counters().unsupported_count, 3);
        assert_eq!(source.counters().damaged_count, 2);
        let mut headless = RtmpSource::new();
        video(&mut headless, 0, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(headless.counters().headless_count, 1);
    }

    #[test]
    fn a_frame_of_another_codec_than_its_header_is_headless() {
        let mut source = started();
        video(&mut source, 0, b"\x93hvc1x");
        assert_eq!((source.counters().headless_count, packets(&mut source).len()), (1, 0));
    }

    #[test]
    fn decode_times_never_go_back_within_a_track() {
        let mut source = started();
        for time in [1000, 1100, 1050, 1120] {
            video(&mut source, time, &[0x27, 1, 0, 0, 0, 1]);
        }
        let times: Vec<i64> = packets(&mut source).iter().map(|(packet, _)| packet.dts.millis()).collect();
        assert_eq!(times, [0, 100, 100, 120]);
        assert_eq!(source.counters().backward_count, 1);
    }
}
