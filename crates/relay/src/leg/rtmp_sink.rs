use std::sync::Arc;

use bytes::Bytes;
use thiserror::Error;
use waverant_container::{TagHeader, colour_info_header, config_header, end_header, frame_header};
use waverant_media::{TrackKind, Tracks};
use waverant_rtmp::{Capabilities, Error as RtmpError, MediaOutput, StreamMetadataBuilder, StreamRates, Timestamp};

use super::peer_clock::PeerClock;
use super::silent_sound::SilentSound;
use super::track_plan::{PlannedTrack, SinkRules, TrackPlan};
use crate::Entry;

/// What we call ourselves in metadata.
const ENCODER_NAME: &str = concat!("Waverant ", env!("CARGO_PKG_VERSION"));

/// What was sent by one call.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SinkOutput {
    /// Payload bytes.
    pub payload_bytes: u64,
    /// Pictures of the first video track.
    pub video_frame_count: u64,
}

impl std::ops::Add for SinkOutput {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self {
            payload_bytes: self.payload_bytes + other.payload_bytes,
            video_frame_count: self.video_frame_count + other.video_frame_count,
        }
    }
}

/// Why a sink cannot go on.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SinkError {
    /// The connection does not take media.
    #[error(transparent)]
    Connection(#[from] RtmpError),
    /// The peer takes none of the video codecs.
    #[error("it does not take {codecs}: it said nothing of Enhanced RTMP or of this codec; send it H.264")]
    NoCommonCodec {
        /// The video codecs that there are.
        codecs: String,
    },
    /// No video codec of the stream can stand in MPEG-TS.
    #[error("MPEG-TS has no place for {codecs}; send it H.264 or HEVC")]
    NotCarried {
        /// The codecs that there are.
        codecs: String,
    },
}

/// Writes a session's packets to an RTMP peer: headers first, then from a keyframe on.
///
/// One sink serves all connections of a leg, so that the timestamps that the platform sees begin
/// at 0 and keep rising across redials.
#[derive(Debug, Default)]
pub struct RtmpSink {
    clock: PeerClock,
    /// The tracks whose headers the current connection has.
    tracks: Option<Arc<Tracks>>,
    /// The tracks that the plan is for.
    planned: Option<Arc<Tracks>>,
    plan: TrackPlan,
    rules: SinkRules,
    /// Other tracks are sent than those whose headers the connection has.
    needs_headers: bool,
    note: Option<String>,
    note_is_new: bool,
    /// Nothing but headers may come before the first keyframe.
    awaiting_keyframe: bool,
    rates: StreamRates,
    /// What the metadata said is not right any more.
    needs_metadata: bool,
    silence: SilentSound,
}

impl RtmpSink {
    /// A sink that has sent nothing.
    pub fn new() -> Self {
        Self::default()
    }

    /// A new connection was made: it gets headers and a keyframe first, and metadata with
    /// `rates`.
    pub fn begin_connection(&mut self, rates: StreamRates) {
        self.rates = rates;
        self.tracks = None;
        self.planned = None;
        self.awaiting_keyframe = true;
        self.clock.begin_connection();
    }

    /// Another session follows on the same connection: it gets headers and a keyframe first, and times that go on.
    pub fn begin_session(&mut self, rates: StreamRates) {
        self.begin_connection(rates);
        self.clock.begin_session();
    }

    /// True once the connection has headers.
    pub fn has_headers(&self) -> bool {
        self.tracks.is_some()
    }

    /// What is announced or measured of the stream: it goes into the metadata, which is sent anew where the peer
    /// has it already.
    pub fn set_rates(&mut self, rates: StreamRates) {
        self.needs_metadata |= self.rates != rates && self.has_headers();
        self.rates = rates;
    }

    /// Changes what is sent; from the next packet on, with new headers.
    pub fn set_rules(&mut self, rules: SinkRules) {
        if self.rules != rules {
            self.rules = rules;
            self.planned = None;
            self.needs_headers = true;
        }
    }

    /// Packets were missed: the next picture sent is a keyframe.
    pub fn skip_to_keyframe(&mut self) {
        self.awaiting_keyframe = true;
    }

    /// What the peer does not get of the stream, in words.
    pub fn note(&self) -> Option<&str> {
        self.note.as_deref()
    }

    /// True once after [`note`](Self::note) may have changed.
    #[must_use]
    pub fn poll_note(&mut self) -> bool {
        std::mem::take(&mut self.note_is_new)
    }

    /// Sends a packet, after headers where they are due. Payloads are not copied.
    ///
    /// # Errors
    /// [`SinkError`] if the connection does not take media, or no video codec of the stream.
    pub fn send(&mut self, out: &mut impl MediaOutput, entry: &Entry) -> Result<SinkOutput, SinkError> {
        if !self.rules.wants_silence(&entry.tracks) {
            return self.send_as_it_is(out, entry);
        }
        let entries = self.silence.add(entry);
        entries.iter().try_fold(SinkOutput::default(), |sent, entry| Ok(sent + self.send_as_it_is(out, entry)?))
    }

    fn send_as_it_is(&mut self, out: &mut impl MediaOutput, entry: &Entry) -> Result<SinkOutput, SinkError> {
        let packet = &entry.packet;
        if !is_same(&self.planned, &entry.tracks) {
            self.plan_tracks(out.capabilities(), &entry.tracks)?;
        }
        let is_start = |main| packet.track == main && packet.is_keyframe();
        if self.awaiting_keyframe && self.plan.main_video.is_some_and(|main| !is_start(main)) {
            return Ok(SinkOutput::default());
        }
        self.awaiting_keyframe = false;
        let time = self.clock.time(packet.dts);
        let timestamp = Timestamp::from_millis(time.millis());
        if std::mem::take(&mut self.needs_headers) || !is_same(&self.tracks, &entry.tracks) {
            self.send_headers(out, timestamp, &entry.tracks)?;
        } else if self.needs_metadata {
            self.send_metadata(out, timestamp, &entry.tracks)?;
        }
        self.needs_metadata = false;
        let Some(&PlannedTrack { codec, form, .. }) = self.plan.find(packet.track) else {
            return Ok(SinkOutput::default());
        };
        let composition_ms = packet.pts.millis() - packet.dts.millis();
        let header = frame_header(packet.kind, codec, form, packet.random_access, composition_ms);
        put(out, packet.kind, timestamp, &header, &packet.payload)?;
        let video_frame_count = u64::from(Some(packet.track) == self.plan.main_video);
        Ok(SinkOutput { payload_bytes: packet.payload.len() as u64, video_frame_count })
    }

    /// Says that no more pictures and sound follow, where the peer knows how to be told.
    ///
    /// # Errors
    /// [`SinkError::Connection`] if the connection does not take media.
    pub fn end(&mut self, out: &mut impl MediaOutput) -> Result<(), SinkError> {
        let Some(tracks) = self.tracks.take() else { return Ok(()) };
        let timestamp = Timestamp::from_millis(self.clock.latest().millis());
        for planned in &self.plan.tracks {
            if let Some(track) = tracks.get(planned.id)
                && let Some(header) = end_header(track.codec.kind(), planned.codec, planned.form)
            {
                put(out, track.codec.kind(), timestamp, &header, &Bytes::new())?;
            }
        }
        Ok(())
    }

    /// Decides what of `tracks` the peer gets.
    fn plan_tracks(&mut self, peer: &Capabilities, tracks: &Arc<Tracks>) -> Result<(), SinkError> {
        let before = self.plan.main_video;
        self.plan = TrackPlan::new(tracks, peer, &self.rules);
        // What is decoded of one track is of no use for another.
        self.awaiting_keyframe |= before.is_some() && self.plan.main_video != before;
        self.note = self.plan.note();
        self.note_is_new = true;
        if tracks.has(TrackKind::Video) && self.plan.main_video.is_none() {
            let video = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Video);
            let codecs: Vec<&str> = video.map(|track| track.codec.name()).collect();
            return Err(SinkError::NoCommonCodec { codecs: codecs.join(" or ") });
        }
        self.planned = Some(tracks.clone());
        Ok(())
    }

    fn send_headers(
        &mut self,
        out: &mut impl MediaOutput,
        timestamp: Timestamp,
        tracks: &Arc<Tracks>,
    ) -> Result<(), SinkError> {
        self.send_metadata(out, timestamp, tracks)?;
        for planned in &self.plan.tracks {
            let Some(track) = tracks.get(planned.id) else { continue };
            let kind = track.codec.kind();
            if let Some(raw) = track.codec.decoder_config() {
                let header = config_header(kind, planned.codec, planned.form);
                put(out, kind, timestamp, &header, raw)?;
            }
            let takes_letters = planned.codec.letters().is_some_and(|letters| out.capabilities().takes(letters));
            if let Some(colour_info) = track.colour_info.as_ref().filter(|_| takes_letters) {
                out.send_video(timestamp, &colour_info_header(planned.codec, planned.form), colour_info)?;
            }
        }
        self.tracks = Some(tracks.clone());
        Ok(())
    }

    /// Describes the tracks that the peer gets.
    fn send_metadata(
        &self,
        out: &mut impl MediaOutput,
        timestamp: Timestamp,
        tracks: &Tracks,
    ) -> Result<(), RtmpError> {
        let mut sent = Tracks::new();
        let planned = self.plan.tracks.iter().filter_map(|planned| tracks.get(planned.id));
        planned.for_each(|track| sent.set(track.clone()));
        let metadata = StreamMetadataBuilder::new(&sent, self.rates, ENCODER_NAME);
        let payload = if out.is_player() { metadata.encode_for_player() } else { metadata.encode_for_server() };
        out.send_data(timestamp, &payload)
    }
}

fn is_same(one: &Option<Arc<Tracks>>, other: &Arc<Tracks>) -> bool {
    one.as_ref().is_some_and(|one| Arc::ptr_eq(one, other))
}

fn put(
    out: &mut impl MediaOutput,
    kind: TrackKind,
    timestamp: Timestamp,
    header: &TagHeader,
    payload: &Bytes,
) -> Result<(), RtmpError> {
    match kind {
        TrackKind::Video => out.send_video(timestamp, header, payload),
        TrackKind::Audio => out.send_audio(timestamp, header, payload),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use waverant_container::{FlvError, TagCodec, TagContent, TagPart, TagTime, parse_audio_tag, parse_video_tag};
    use waverant_media::testing::{self, aac, h264, h264_and_aac, hevc, opus};
    use waverant_media::{CodecParameters, MediaTime, Packet, Track, TrackId};
    use waverant_rtmp::Value;

    use super::super::AudioChoice;
    use super::*;

    /// A peer that takes everything, and remembers it.
    #[derive(Default)]
    struct Peer {
        capabilities: Capabilities,
        metadata_count: usize,
        got: Vec<(u32, TagPart)>,
    }

    impl Peer {
        /// Takes the codecs with these letters, and further tracks if `many_tracks`.
        fn enhanced(letters: &[&str], many_tracks: bool) -> Self {
            let list = Value::StrictArray(letters.iter().map(|letters| Value::from(*letters)).collect());
            let flags = if many_tracks { 2.0 } else { 0.0 };
            let said = [("fourCcList".to_owned(), list), ("capsEx".to_owned(), Value::Number(flags))];
            Self { capabilities: Capabilities::read(&Value::Object(said.into())), ..Self::default() }
        }

        fn read(
            &mut self,
            timestamp: Timestamp,
            header: &[u8],
            payload: &Bytes,
            parse: impl FnOnce(&Bytes, &mut Vec<TagPart>) -> Result<TagTime, FlvError>,
        ) {
            let mut parts = Vec::new();
            parse(&[header, payload].concat().into(), &mut parts).unwrap();
            self.got.extend(parts.into_iter().map(|part| (timestamp.0, part)));
        }

        /// Time, codec, and what it was: `c`onfig, `k`eyframe, `f`rame, `e`nd or other.
        fn heard(&self) -> Vec<(u32, TagCodec, char)> {
            let heard = self.got.iter().map(|(time, part)| {
                let what = match part.content {
                    TagContent::Config(_) => 'c',
                    TagContent::Frame { keyframe: true, .. } => 'k',
                    TagContent::Frame { .. } => 'f',
                    TagContent::End => 'e',
                    _ => 'o',
                };
                (*time, part.codec, what)
            });
            heard.collect()
        }
    }

    impl MediaOutput for Peer {
        fn capabilities(&self) -> &Capabilities {
            &self.capabilities
        }

        fn is_player(&self) -> bool {
            false
        }

        fn send_data(&mut self, _: Timestamp, _: &Bytes) -> Result<(), RtmpError> {
            self.metadata_count += 1;
            Ok(())
        }

        fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), RtmpError> {
            self.read(timestamp, header, payload, parse_video_tag);
            Ok(())
        }

        fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), RtmpError> {
            self.read(timestamp, header, payload, parse_audio_tag);
            Ok(())
        }
    }

    fn entry(track: TrackId, millis: i64, keyframe: bool, tracks: &Arc<Tracks>) -> Entry {
        let dts = MediaTime::from_millis(millis);
        let kind = tracks.get(track).unwrap().codec.kind();
        let random_access = keyframe || kind == TrackKind::Audio;
        let packet = Packet { track, kind, dts, pts: dts, random_access, payload: Bytes::from_static(b"payload") };
        Entry { packet, tracks: tracks.clone(), origin: crate::Origin::Show, video_frames_before: 0 }
    }

    fn begun() -> RtmpSink {
        let mut sink = RtmpSink::new();
        sink.begin_connection(StreamRates::default());
        sink
    }

    const VIDEO: TrackId = TrackId::VIDEO;
    const AUDIO: TrackId = TrackId::AUDIO;
    const THIRD: TrackId = TrackId(3);
    const FIFTH: TrackId = TrackId(5);

    /// Metadata of the encoder often comes after the platform was reached.
    #[test]
    fn what_is_announced_later_is_told_anew() {
        let (tracks, mut peer, mut sink) = (Arc::new(h264_and_aac()), Peer::default(), begun());
        let rates = |frame_rate| StreamRates { frame_rate: Some(frame_rate), ..StreamRates::default() };
        sink.set_rates(rates(30.0));
        assert!(!sink.has_headers());
        sink.send(&mut peer, &entry(VIDEO, 0, true, &tracks)).unwrap();
        assert_eq!((peer.metadata_count, sink.has_headers()), (1, true), "once, with what was known by then");
        sink.set_rates(rates(30.0));
        sink.send(&mut peer, &entry(VIDEO, 33, false, &tracks)).unwrap();
        assert_eq!(peer.metadata_count, 1);
        sink.set_rates(rates(25.0));
        sink.send(&mut peer, &entry(VIDEO, 66, false, &tracks)).unwrap();
        sink.send(&mut peer, &entry(VIDEO, 99, false, &tracks)).unwrap();
        assert_eq!(peer.metadata_count, 2);
    }

    #[test]
    fn a_connection_gets_headers_then_a_keyframe_at_zero() {
        let (tracks, mut peer, mut sink) = (Arc::new(h264_and_aac()), Peer::default(), begun());
        for (track, millis, keyframe) in [
            (AUDIO, 4980, false),
            (VIDEO, 4990, false),
            (VIDEO, 5000, true),
            (AUDIO, 4995, false),
            (VIDEO, 5033, false),
        ] {
            sink.send(&mut peer, &entry(track, millis, keyframe, &tracks)).unwrap();
        }
        let (avc, aac) = (TagCodec::Avc, TagCodec::Aac);
        assert_eq!(peer.heard(), [(0, avc, 'c'), (0, aac, 'c'), (0, avc, 'k'), (0, aac, 'k'), (33, avc, 'f')]);
        assert_eq!(peer.metadata_count, 1);
        sink.end(&mut peer).unwrap();
        assert_eq!(peer.heard().last(), Some(&(33, avc, 'e')));
    }

    #[test]
    fn timestamps_rise_across_connections_even_from_an_older_keyframe() {
        let (tracks, mut sink) = (Arc::new(h264_and_aac()), begun());
        for millis in [5000, 5500, 6000] {
            sink.send(&mut Peer::default(), &entry(VIDEO, millis, millis == 5000, &tracks)).unwrap();
        }
        let mut second = Peer::default();
        sink.begin_connection(StreamRates::default());
        for millis in [5000, 5500] {
            sink.send(&mut second, &entry(VIDEO, millis, millis == 5000, &tracks)).unwrap();
        }
        let times: Vec<u32> = second.heard().iter().map(|(time, _, _)| *time).collect();
        assert_eq!(times, [1033, 1033, 1033, 1533]);
    }

    #[test]
    fn reordered_pictures_keep_their_composition_time() {
        let (tracks, mut peer, mut sink) = (Arc::new(h264_and_aac()), Peer::default(), begun());
        for (millis, composition) in [(0, 66), (33, 133), (66, 0), (99, 33)] {
            let mut entry = entry(VIDEO, millis, millis == 0, &tracks);
            entry.packet.pts = entry.packet.dts + MediaTime::from_millis(composition);
            sink.send(&mut peer, &entry).unwrap();
        }
        let times = peer.got.iter().filter_map(|(_, part)| match part.content {
            TagContent::Frame { composition_time_ms, .. } => Some(composition_time_ms),
            _ => None,
        });
        assert!(times.eq([66, 133, 0, 33]));
    }

    #[test]
    fn changed_parameters_are_announced() {
        let (before, after) = (Arc::new(h264_and_aac()), Arc::new(h264_and_aac()));
        let (mut peer, mut sink) = (Peer::default(), begun());
        sink.send(&mut peer, &entry(VIDEO, 0, true, &before)).unwrap();
        sink.send(&mut peer, &entry(VIDEO, 33, true, &after)).unwrap();
        assert_eq!(peer.heard().iter().filter(|(_, _, what)| *what == 'c').count(), 4);
    }

    /// Who gets what of HEVC with Opus, and of three tracks of sound.
    #[rstest]
    #[case::hevc_where_it_is_known(Peer::enhanced(&["hvc1", "Opus"], false), &[(0, hevc()), (1, opus())], Ok(vec![("hvc1", 0), ("Opus", 0)]), None)]
    #[case::everything_is_known(Peer::enhanced(&["*"], true), &[(0, hevc()), (1, opus())], Ok(vec![("hvc1", 0), ("Opus", 0)]), None)]
    #[case::no_sound_in_common(Peer::enhanced(&["hvc1"], false), &[(0, hevc()), (1, opus())], Ok(vec![("hvc1", 0)]), Some("Opus"))]
    #[case::nothing_in_common(Peer::default(), &[(0, hevc()), (1, opus())], Err("HEVC"), None)]
    #[case::the_first_that_fits(Peer::default(), &[(0, hevc()), (1, opus()), (2, h264()), (3, aac())], Ok(vec![("avc1", 0), ("mp4a", 0)]), Some("HEVC, Opus"))]
    #[case::three_tracks(Peer::enhanced(&["*"], true), &[(0, h264()), (1, aac()), (3, opus()), (5, aac())], Ok(vec![("avc1", 0), ("mp4a", 0), ("Opus", 1), ("mp4a", 2)]), None)]
    #[case::three_tracks_where_one_is_taken(Peer::enhanced(&["*"], false), &[(0, h264()), (1, aac()), (3, opus()), (5, aac())], Ok(vec![("avc1", 0), ("mp4a", 0)]), Some("Opus, AAC"))]
    fn a_peer_gets_what_it_takes(
        #[case] mut peer: Peer,
        #[case] source: &[(u8, CodecParameters)],
        #[case] expected: Result<Vec<(&str, u8)>, &str>,
        #[case] left_out: Option<&str>,
    ) {
        let tracks = Arc::new(testing::tracks(source.iter().map(|(id, codec)| (TrackId(*id), codec.clone()))));
        let mut sink = begun();
        let outcome = sink.send(&mut peer, &entry(VIDEO, 0, true, &tracks));
        for id in
            [AUDIO, TrackId(2), THIRD, FIFTH].into_iter().filter(|id| outcome.is_ok() && tracks.get(*id).is_some())
        {
            sink.send(&mut peer, &entry(id, 0, true, &tracks)).unwrap();
        }
        match expected {
            Err(codecs) => assert_eq!(outcome, Err(SinkError::NoCommonCodec { codecs: codecs.to_owned() })),
            Ok(expected) => {
                let frames = peer.got.iter().filter(|(_, part)| matches!(part.content, TagContent::Frame { .. }));
                let mut frames: Vec<_> = frames.map(|(_, part)| (part.codec.letters().unwrap(), part.track)).collect();
                let expected: Vec<_> =
                    expected.iter().map(|(name, track)| (name.as_bytes().try_into().unwrap(), *track)).collect();
                frames.sort_by_key(|frame| expected.iter().position(|expected| expected == frame));
                assert_eq!(frames, expected);
            }
        }
        let told = left_out.map(|codecs| format!("not sent, since it does not take it: {codecs}"));
        assert_eq!(sink.note().filter(|_| outcome.is_ok()), told.as_deref());
    }

    #[test]
    fn the_sound_can_be_chosen_anew_without_another_connection() {
        let tracks = Arc::new(testing::tracks([(VIDEO, h264()), (AUDIO, aac()), (THIRD, aac())]));
        let (mut peer, mut sink) = (Peer::default(), begun());
        sink.send(&mut peer, &entry(VIDEO, 0, true, &tracks)).unwrap();
        let choose = |text: &str| SinkRules {
            audio: AudioChoice { pick: text.parse().ok(), ..AudioChoice::default() },
            ..SinkRules::default()
        };
        sink.set_rules(choose("number:2"));
        for (track, millis) in [(AUDIO, 20), (THIRD, 20), (VIDEO, 33), (AUDIO, 40), (THIRD, 40)] {
            sink.send(&mut peer, &entry(track, millis, false, &tracks)).unwrap();
        }
        let (avc, aac) = (TagCodec::Avc, TagCodec::Aac);
        let after: Vec<_> = peer.heard().split_off(3);
        assert_eq!(after, [(20, avc, 'c'), (20, aac, 'c'), (20, aac, 'k'), (33, avc, 'f'), (40, aac, 'k')]);
        sink.set_rules(choose("number:3"));
        assert!(sink.poll_note());
        sink.send(&mut peer, &entry(VIDEO, 66, false, &tracks)).unwrap();
        assert!(sink.poll_note() && !sink.poll_note());
        assert_eq!(sink.note(), Some("there is no sound `number:3`; the first track is sent"));
    }

    #[test]
    fn another_track_of_pictures_begins_with_its_keyframe() {
        let second = TrackId(2);
        let tracks = Arc::new(testing::tracks([(VIDEO, h264()), (AUDIO, aac()), (second, h264())]));
        let (mut peer, mut sink) = (Peer::default(), begun());
        sink.send(&mut peer, &entry(VIDEO, 0, true, &tracks)).unwrap();
        sink.set_rules(SinkRules { video_track: Some(2), ..SinkRules::default() });
        for (track, millis, keyframe) in
            [(second, 33, false), (AUDIO, 40, true), (VIDEO, 66, true), (second, 66, true), (AUDIO, 70, true)]
        {
            sink.send(&mut peer, &entry(track, millis, keyframe, &tracks)).unwrap();
        }
        let (avc, aac) = (TagCodec::Avc, TagCodec::Aac);
        let after: Vec<_> = peer.heard().split_off(3);
        assert_eq!(after, [(66, avc, 'c'), (66, aac, 'c'), (66, avc, 'k'), (70, aac, 'k')]);
    }

    #[test]
    fn silence_is_sent_where_there_is_no_sound() {
        let tracks = Arc::new(testing::tracks([(VIDEO, h264())]));
        let (mut peer, mut sink) = (Peer::default(), begun());
        sink.set_rules(SinkRules { adds_silence: true, ..SinkRules::default() });
        for (millis, keyframe) in [(0, true), (33, false)] {
            sink.send(&mut peer, &entry(VIDEO, millis, keyframe, &tracks)).unwrap();
        }
        let (avc, aac) = (TagCodec::Avc, TagCodec::Aac);
        let expected = [(0, avc, 'c'), (0, aac, 'c'), (0, avc, 'k'), (0, aac, 'k'), (21, aac, 'k'), (33, avc, 'f')];
        assert_eq!(peer.heard(), expected);
    }

    #[test]
    fn a_codec_on_the_limits_sheet_is_sent_unasked() {
        let tracks = Arc::new(testing::tracks([(VIDEO, hevc()), (AUDIO, aac())]));
        let (mut peer, mut sink) = (Peer::default(), begun());
        sink.set_rules(SinkRules { takes: vec!["hevc".to_owned()], ..SinkRules::default() });
        sink.send(&mut peer, &entry(VIDEO, 0, true, &tracks)).unwrap();
        assert_eq!(peer.heard()[0].1.letters(), Some(*b"hvc1"));
    }

    #[test]
    fn colour_metadata_goes_to_those_who_know_letters() {
        for (peer, expected) in [(Peer::enhanced(&["hvc1", "avc1"], false), true), (Peer::default(), false)] {
            let mut peer = peer;
            let colour_info = Some(Bytes::from_static(b"\x02\x00\x09colorInfo\x05"));
            let mut tracks = Tracks::new();
            tracks.set(Track { colour_info: colour_info.clone(), ..Track::new(VIDEO, h264()) });
            let tracks = Arc::new(tracks);
            begun().send(&mut peer, &entry(VIDEO, 0, true, &tracks)).unwrap();
            let passed = peer.got.iter().find_map(|(_, part)| match &part.content {
                TagContent::ColourInfo(raw) => Some(raw.clone()),
                _ => None,
            });
            assert_eq!(passed, colour_info.filter(|_| expected));
        }
    }
}
