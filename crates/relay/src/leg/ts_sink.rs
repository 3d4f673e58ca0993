use std::sync::Arc;

use waverant_container::{TsWriter, is_writable};
use waverant_media::{Packet, TrackId, TrackKind, Tracks};

use super::peer_clock::PeerClock;
use super::rtmp_sink::{SinkError, SinkOutput};
use super::silent_sound::SilentSound;
use super::track_plan::SinkRules;
use crate::Entry;

/// Writes a session's packets as a transport stream: from a keyframe on, with the tracks that are
/// meant for the peer.
///
/// One sink serves all connections of a leg, so that the times that the peer sees begin at the
/// stream's first and keep rising across redials.
#[derive(Debug, Default)]
pub struct TsSink {
    writer: TsWriter,
    clock: PeerClock,
    rules: SinkRules,
    /// The tracks that are planned for.
    planned: Option<Arc<Tracks>>,
    main_video: Option<TrackId>,
    note: Option<String>,
    note_is_new: bool,
    awaiting_keyframe: bool,
    silence: SilentSound,
}

impl TsSink {
    /// A sink that has sent nothing, for a peer with these rules.
    pub fn new(rules: SinkRules) -> Self {
        Self { rules, awaiting_keyframe: true, ..Self::default() }
    }

    /// A new connection was made: it gets tables and a keyframe first.
    pub fn begin_connection(&mut self) {
        self.planned = None;
        self.awaiting_keyframe = true;
        self.clock.begin_connection();
    }

    /// Another session follows on the same connection: it gets tables and a keyframe first, and times that go on.
    pub fn begin_session(&mut self) {
        self.begin_connection();
        self.clock.begin_session();
    }

    /// Changes what is sent, from the next packet on.
    pub fn set_rules(&mut self, rules: SinkRules) {
        if self.rules != rules {
            self.rules = rules;
            self.planned = None;
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

    /// Adds a packet to `out`, after tables where they are due.
    ///
    /// # Errors
    /// [`SinkError::NotCarried`] if no video codec of the stream can stand in MPEG-TS.
    pub fn send(&mut self, entry: &Entry, out: &mut Vec<u8>) -> Result<SinkOutput, SinkError> {
        if !self.rules.wants_silence(&entry.tracks) {
            return self.send_as_it_is(entry, out);
        }
        let entries = self.silence.add(entry);
        entries.iter().try_fold(SinkOutput::default(), |sent, entry| Ok(sent + self.send_as_it_is(entry, out)?))
    }

    fn send_as_it_is(&mut self, entry: &Entry, out: &mut Vec<u8>) -> Result<SinkOutput, SinkError> {
        if !self.planned.as_ref().is_some_and(|planned| Arc::ptr_eq(planned, &entry.tracks)) {
            self.plan(&entry.tracks)?;
        }
        let packet = &entry.packet;
        let is_start = |main| packet.track == main && packet.is_keyframe();
        if self.awaiting_keyframe && self.main_video.is_some_and(|main| !is_start(main)) {
            return Ok(SinkOutput::default());
        }
        self.awaiting_keyframe = false;
        let dts = self.clock.time(packet.dts);
        let packet = Packet { dts, pts: dts + (packet.pts - packet.dts), ..packet.clone() };
        let before = out.len();
        self.writer.write(&packet, out);
        if out.len() == before {
            return Ok(SinkOutput::default());
        }
        let video_frame_count = u64::from(Some(packet.track) == self.main_video);
        Ok(SinkOutput { payload_bytes: packet.payload.len() as u64, video_frame_count })
    }

    fn plan(&mut self, tracks: &Arc<Tracks>) -> Result<(), SinkError> {
        let (meant, audio_note) = self.rules.meant_with_note(tracks);
        let left_out: Vec<&str> =
            meant.iter().filter(|track| !is_writable(&track.codec)).map(|track| track.codec.name()).collect();
        let is_main = |id: &TrackId| meant.get(*id).is_some_and(|track| is_writable(&track.codec));
        let before = self.main_video;
        self.main_video = meant.iter().map(|track| track.id).find(|id| id.kind() == TrackKind::Video && is_main(id));
        // What is decoded of one track is of no use for another.
        self.awaiting_keyframe |= before.is_some() && self.main_video != before;
        if self.main_video.is_none() && meant.has(TrackKind::Video) {
            return Err(SinkError::NotCarried { codecs: left_out.join(", ") });
        }
        let left_out =
            (!left_out.is_empty()).then(|| format!("not sent, since MPEG-TS has none: {}", left_out.join(", ")));
        let notes: Vec<String> = left_out.into_iter().chain(audio_note).collect();
        self.note = (!notes.is_empty()).then(|| notes.join("; "));
        self.note_is_new = true;
        self.writer.set_tracks(&meant);
        self.planned = Some(tracks.clone());
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use waverant_container::{StreamEvent, TsReader};
    use waverant_media::testing::{self, aac, av1, h264};
    use waverant_media::{CodecParameters, MediaTime, Track};

    use super::super::AudioChoice;
    use super::*;

    fn sounds(video: CodecParameters) -> Arc<Tracks> {
        let mut tracks = testing::tracks([(TrackId::VIDEO, video)]);
        for (place, name) in (0..).zip(["Programme mix", "Commentary", "Riverbank"]) {
            let id = TrackId::at(TrackKind::Audio, place).unwrap();
            tracks.set(Track { name: Some(name.into()), ..Track::new(id, aac()) });
        }
        Arc::new(tracks)
    }

    fn entry(track: TrackId, millis: i64, keyframe: bool, tracks: &Arc<Tracks>) -> Entry {
        let dts = MediaTime::from_millis(millis);
        let payload = match track.kind() {
            TrackKind::Video => Bytes::from_static(&[0, 0, 0, 4, 0x65, 0x88, 0x84, 0x21]),
            TrackKind::Audio => Bytes::from_static(&[0x21, 0x10, 0x05]),
        };
        let random_access = keyframe || track.kind() == TrackKind::Audio;
        let packet = Packet { track, kind: track.kind(), dts, pts: dts, random_access, payload };
        Entry { packet, tracks: tracks.clone(), origin: crate::Origin::Show, video_frames_before: 0 }
    }

    /// Names of the program's sounds, and times of the frames of each PID, that a receiver finds.
    fn heard(raw: &[u8]) -> (Vec<String>, Vec<(u16, i64)>) {
        let (mut reader, mut events) = (TsReader::new(), Vec::new());
        reader.push(raw, &mut events);
        reader.finish(&mut events);
        let (mut names, mut frames) = (Vec::new(), Vec::new());
        for event in events {
            match event {
                StreamEvent::Program(streams) => names = streams.into_iter().filter_map(|stream| stream.name).collect(),
                StreamEvent::Frame { number, dts, .. } => frames.push((number, dts.millis())),
                _ => {}
            }
        }
        (names, frames)
    }

    #[test]
    fn a_receiver_gets_all_sounds_from_a_keyframe_on() {
        let (tracks, mut sink, mut raw) = (sounds(h264()), TsSink::new(SinkRules::default()), Vec::new());
        for (track, millis, keyframe) in
            [(0, 4960, false), (1, 4980, true), (0, 5000, true), (1, 5001, true), (3, 5002, true), (5, 5003, true)]
        {
            sink.send(&entry(TrackId(track), millis, keyframe, &tracks), &mut raw).unwrap();
        }
        let (names, frames) = heard(&raw);
        assert_eq!(names, ["Programme mix", "Commentary", "Riverbank"]);
        let first = frames.iter().map(|(_, time)| *time).min().unwrap();
        let mut times: Vec<i64> = frames.iter().map(|(_, time)| time - first).collect();
        times.sort_unstable();
        assert_eq!(times, [0, 1, 2, 3]);
        assert_eq!(sink.note(), None);
    }

    #[test]
    fn one_sound_can_be_chosen_and_chosen_anew() {
        let choose = |pick: &str| SinkRules {
            audio: AudioChoice { pick: pick.parse().ok(), ..AudioChoice::default() },
            ..SinkRules::default()
        };
        let (tracks, mut raw) = (sounds(h264()), Vec::new());
        let mut sink = TsSink::new(choose("name:riverbank"));
        let show = |sink: &mut TsSink, begin: i64, raw: &mut Vec<u8>| {
            for (track, millis, keyframe) in [(0, 0, true), (1, 1, true), (3, 2, true), (5, 3, true), (0, 33, false)] {
                sink.send(&entry(TrackId(track), begin + millis, keyframe, &tracks), raw).unwrap();
            }
        };
        show(&mut sink, 0, &mut raw);
        let (names, frames) = heard(&raw);
        assert_eq!((names.as_slice(), frames.len()), (["Riverbank".to_owned()].as_slice(), 3));
        sink.set_rules(choose("number:4"));
        raw.clear();
        show(&mut sink, 66, &mut raw);
        assert_eq!(heard(&raw).0, ["Programme mix"]);
        assert!(sink.poll_note() && !sink.poll_note());
        assert_eq!(sink.note(), Some("there is no sound `number:4`; the first track is sent"));
    }

    #[test]
    fn times_rise_across_connections_even_from_an_older_keyframe() {
        let (tracks, mut sink) = (sounds(h264()), TsSink::new(SinkRules::default()));
        let (mut first, mut second) = (Vec::new(), Vec::new());
        for millis in [5000, 5500, 6000] {
            sink.send(&entry(TrackId::VIDEO, millis, millis == 5000, &tracks), &mut first).unwrap();
        }
        sink.begin_connection();
        for millis in [4900, 5000, 5500] {
            sink.send(&entry(TrackId::VIDEO, millis, millis == 5000, &tracks), &mut second).unwrap();
        }
        let times = |raw: &[u8]| heard(raw).1.iter().map(|(_, time)| *time).collect::<Vec<_>>();
        let (before, after) = (times(&first), times(&second));
        assert_eq!((before.len(), after.len()), (3, 2));
        assert_eq!((after[0] - before[2], after[1] - after[0]), (33, 500));
    }

    #[test]
    fn another_session_goes_on_where_the_last_one_stopped() {
        let (tracks, mut sink, mut raw) = (sounds(h264()), TsSink::new(SinkRules::default()), Vec::new());
        for (begin, times) in [(7000, [7000, 7500]), (0, [0, 40]), (90_000, [90_000, 90_040])] {
            sink.begin_session();
            for millis in times {
                sink.send(&entry(TrackId::VIDEO, millis, millis == begin, &tracks), &mut raw).unwrap();
            }
        }
        let times: Vec<i64> = heard(&raw).1.iter().map(|(_, time)| *time).collect();
        let steps: Vec<i64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
        assert_eq!(steps, [500, 33, 40, 33, 40]);
    }

    #[test]
    fn pictures_that_cannot_stand_in_it_are_told() {
        let mut sink = TsSink::new(SinkRules::default());
        let tracks = sounds(av1());
        let outcome = sink.send(&entry(TrackId::VIDEO, 0, true, &tracks), &mut Vec::new());
        assert_eq!(outcome, Err(SinkError::NotCarried { codecs: "AV1".to_owned() }));
    }
}
