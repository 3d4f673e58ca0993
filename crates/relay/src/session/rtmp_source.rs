use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use waverant_container::{AudioTag, VideoTag, parse_audio_tag, parse_video_tag};
use waverant_media::{
    AudioSpecificConfig, AvcDecoderConfig, CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks,
};
use waverant_rtmp::{MediaKind, StreamMetadata, Timestamp, TimestampUnwrapper};

use super::timeline::Timeline;

/// At the start, packets wait this long for the headers of all announced tracks, so that a take
/// does not begin without its sound.
const GATHER_LENGTH: MediaTime = MediaTime::from_millis(1_000);

/// The most packets that wait at the start.
const GATHER_PACKETS: usize = 256;

/// What a source was found to do wrong. All counts are of messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SourceCounters {
    /// Tags that could not be taken apart.
    pub damaged_count: u64,
    /// Tags of codecs that are not carried.
    pub unsupported_count: u64,
    /// Frames that came before their track's header.
    pub headless_count: u64,
    /// Times when the publisher's clock jumped.
    pub clock_jump_count: u64,
    /// Frames whose timestamp was before that of the frame before.
    pub backward_count: u64,
}

/// Turns the media messages of RTMP publishers into the packets of one session.
#[derive(Debug, Default)]
pub struct RtmpSource {
    tracks: Arc<Tracks>,
    unwrapper: TimestampUnwrapper,
    timeline: Timeline,
    last_dts: [Option<MediaTime>; 2],
    metadata: Option<StreamMetadata>,
    gathering: Option<VecDeque<Packet>>,
    ready: VecDeque<(Packet, Arc<Tracks>)>,
    counters: SourceCounters,
    last_problem: Option<String>,
}

impl RtmpSource {
    /// A source at the start of a session.
    pub fn new() -> Self {
        Self { gathering: Some(VecDeque::new()), ..Self::default() }
    }

    /// The same session goes on with another connection, `gap` after the last packet.
    pub fn resume_after(&mut self, gap: Duration) {
        self.unwrapper = TimestampUnwrapper::default();
        self.timeline.resume_after(gap);
    }

    /// Takes what the publisher says about its stream.
    pub fn handle_metadata(&mut self, metadata: StreamMetadata) {
        self.metadata = Some(metadata);
    }

    /// Takes a media message.
    pub fn handle_media(&mut self, kind: MediaKind, timestamp: Timestamp, body: &Bytes) {
        let time = MediaTime::from_millis(self.unwrapper.unwrap(timestamp));
        match kind {
            MediaKind::Audio => self.handle_audio(time, body),
            MediaKind::Video => self.handle_video(time, body),
        }
        self.release();
    }

    /// The next packet with the tracks that it belongs to; call until None.
    #[must_use]
    pub fn poll_packet(&mut self) -> Option<(Packet, Arc<Tracks>)> {
        self.ready.pop_front()
    }

    /// The tracks as they are now.
    pub fn tracks(&self) -> &Arc<Tracks> {
        &self.tracks
    }

    /// What the publisher said about its stream.
    pub fn metadata(&self) -> Option<&StreamMetadata> {
        self.metadata.as_ref()
    }

    /// What the source does wrong.
    pub fn counters(&self) -> SourceCounters {
        SourceCounters { clock_jump_count: self.timeline.jump_count(), ..self.counters }
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        self.last_problem.as_deref()
    }

    fn handle_audio(&mut self, time: MediaTime, body: &Bytes) {
        match parse_audio_tag(body) {
            Ok(AudioTag::AacSequenceHeader(raw)) => match AudioSpecificConfig::parse(raw) {
                Ok(config) => self.set_track(TrackId::AUDIO, CodecParameters::Aac(config)),
                Err(error) => self.damaged(format!("AAC header: {error}")),
            },
            Ok(AudioTag::AacFrame(payload)) => self.push(TrackKind::Audio, time, MediaTime::ZERO, true, payload),
            Ok(AudioTag::Unsupported(format)) => {
                self.unsupported(format!("sound format {format} is not carried; set the encoder to AAC"));
            }
            Ok(_) => {}
            Err(error) => self.damaged(error.to_string()),
        }
    }

    fn handle_video(&mut self, time: MediaTime, body: &Bytes) {
        match parse_video_tag(body) {
            Ok(VideoTag::AvcSequenceHeader(raw)) => match AvcDecoderConfig::parse(raw) {
                Ok(config) => self.set_track(TrackId::VIDEO, CodecParameters::H264(config)),
                Err(error) => self.damaged(format!("H.264 header: {error}")),
            },
            Ok(VideoTag::AvcFrame { keyframe, composition_time_ms, payload }) => {
                let composition = MediaTime::from_millis(composition_time_ms.into());
                self.push(TrackKind::Video, time, composition, keyframe, payload);
            }
            Ok(VideoTag::Unsupported(codec)) => {
                self.unsupported(format!("video codec {codec} is not carried; set the encoder to H.264"));
            }
            Ok(_) => {}
            Err(error) => self.damaged(error.to_string()),
        }
    }

    fn set_track(&mut self, id: TrackId, codec: CodecParameters) {
        let track = Track { id, codec };
        // Encoders repeat their headers; only a real change makes a new set.
        if self.tracks.get(id) != Some(&track) {
            let mut tracks = Tracks::clone(&self.tracks);
            tracks.set(track);
            self.tracks = Arc::new(tracks);
        }
    }

    fn push(&mut self, kind: TrackKind, time: MediaTime, composition: MediaTime, random_access: bool, payload: Bytes) {
        let (track, place) = match kind {
            TrackKind::Video => (TrackId::VIDEO, 0),
            TrackKind::Audio => (TrackId::AUDIO, 1),
        };
        if self.tracks.get(track).is_none() {
            self.counters.headless_count += 1;
            return;
        }
        let mapped = self.timeline.map(time);
        let dts = self.last_dts[place].map_or(mapped, |last| last.max(mapped));
        self.counters.backward_count += u64::from(dts != mapped);
        self.last_dts[place] = Some(dts);
        let packet = Packet { track, kind, dts, pts: dts + composition, random_access, payload };
        match &mut self.gathering {
            Some(waiting) => waiting.push_back(packet),
            None => self.ready.push_back((packet, self.tracks.clone())),
        }
    }

    /// Ends the waiting at the start once all announced tracks are known, or time is up.
    fn release(&mut self) {
        let Some(waiting) = &self.gathering else { return };
        let announced = |told: Option<bool>| told.unwrap_or(true);
        let metadata = self.metadata.as_ref();
        let wants_video = announced(metadata.and_then(|metadata| metadata.has_video));
        let wants_audio = announced(metadata.and_then(|metadata| metadata.has_audio));
        let complete =
            (!wants_video || self.tracks.has(TrackKind::Video)) && (!wants_audio || self.tracks.has(TrackKind::Audio));
        let length = match (waiting.front(), waiting.back()) {
            (Some(first), Some(last)) => last.dts - first.dts,
            _ => MediaTime::ZERO,
        };
        if (complete && !waiting.is_empty()) || length >= GATHER_LENGTH || waiting.len() >= GATHER_PACKETS {
            let tracks = &self.tracks;
            self.ready.extend(self.gathering.take().into_iter().flatten().map(|packet| (packet, tracks.clone())));
        }
    }

    fn damaged(&mut self, problem: String) {
        self.counters.damaged_count += 1;
        self.last_problem = Some(problem);
    }

    fn unsupported(&mut self, problem: String) {
        self.counters.unsupported_count += 1;
        self.last_problem = Some(problem);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const AVC_HEADER: &[u8] = &[
        0x17, 0, 0, 0, 0, 1, 0x42, 0xc0, 0x1f, 0xff, 0xe1, 0, 10, 0x67, 0x42, 0xc0, 0x1f, 0xda, 0x01, 0x40, 0x16, 0xe8,
        0x40, 1, 0, 4, 0x68, 0xce, 0x3c, 0x80,
    ];
    const AAC_HEADER: &[u8] = &[0xaf, 0, 0x11, 0x90];

    fn video(source: &mut RtmpSource, time: u32, body: &'static [u8]) {
        source.handle_media(MediaKind::Video, Timestamp(time), &Bytes::from_static(body));
    }

    fn audio(source: &mut RtmpSource, time: u32, body: &'static [u8]) {
        source.handle_media(MediaKind::Audio, Timestamp(time), &Bytes::from_static(body));
    }

    fn packets(source: &mut RtmpSource) -> Vec<(Packet, Arc<Tracks>)> {
        std::iter::from_fn(|| source.poll_packet()).collect()
    }

    fn started() -> RtmpSource {
        let mut source = RtmpSource::new();
        video(&mut source, 1000, AVC_HEADER);
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
        video(&mut source, 0, AVC_HEADER);
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
        video(&mut source, 0, AVC_HEADER);
        for time in [0, 500, 990] {
            video(&mut source, time, &[0x17, 1, 0, 0, 0, 1]);
            assert_eq!(source.poll_packet(), None);
        }
        video(&mut source, 1000, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(packets(&mut source).len(), 4);

        let mut source = RtmpSource::new();
        source.handle_metadata(StreamMetadata { has_audio: Some(false), ..StreamMetadata::default() });
        video(&mut source, 0, AVC_HEADER);
        video(&mut source, 0, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(packets(&mut source).len(), 1);
    }

    #[test]
    fn repeated_headers_change_nothing_and_changed_ones_do() {
        let mut source = started();
        video(&mut source, 1000, &[0x17, 1, 0, 0, 0, 1]);
        video(&mut source, 1040, AVC_HEADER);
        video(&mut source, 1040, &[0x27, 1, 0, 0, 0, 1]);
        audio(&mut source, 1080, &[0xaf, 0, 0x12, 0x10]);
        audio(&mut source, 1080, &[0xaf, 1, 1]);
        let got = packets(&mut source);
        assert!(Arc::ptr_eq(&got[0].1, &got[1].1));
        assert!(!Arc::ptr_eq(&got[1].1, &got[2].1));
        assert_eq!(got[2].1.aac().unwrap().sample_rate(), 44_100);
    }

    #[test]
    fn what_cannot_be_used_is_counted_and_named() {
        let mut source = started();
        audio(&mut source, 0, &[0x2f, 1, 2, 3]);
        assert_eq!(source.last_problem(), Some("sound format 2 is not carried; set the encoder to AAC"));
        video(&mut source, 0, &[0x17, 9, 0, 0, 0]);
        assert_eq!(source.counters().unsupported_count, 1);
        assert_eq!(source.counters().damaged_count, 1);
        let mut headless = RtmpSource::new();
        video(&mut headless, 0, &[0x17, 1, 0, 0, 0, 1]);
        assert_eq!(headless.counters().headless_count, 1);
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

    #[test]
    fn a_second_connection_goes_on_in_the_same_timeline() {
        let mut source = started();
        video(&mut source, 5000, &[0x17, 1, 0, 0, 0, 1]);
        source.resume_after(Duration::from_secs(2));
        video(&mut source, 0, AVC_HEADER);
        video(&mut source, 0, &[0x17, 1, 0, 0, 0, 1]);
        let times: Vec<i64> = packets(&mut source).iter().map(|(packet, _)| packet.dts.millis()).collect();
        assert_eq!(times, [0, 2000]);
    }
}
