use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use waverant_container::{ElementaryStream, MatroskaReader, StreamEvent, TsReader};
use waverant_media::{CodecParameters, Packet, Track, TrackId, TrackKind, Tracks};

use super::SourceCounters;
use super::assembly::{Assembly, Frame};

/// After this many bytes without a program it is said that the container is not known.
const UNKNOWN_AFTER: u64 = 64 * 1024;

/// The container that comes, known by its first bytes.
#[derive(Debug)]
enum Container {
    Unknown(Vec<u8>),
    TransportStream(Box<TsReader>),
    Matroska(Box<MatroskaReader>),
}

impl Container {
    fn push(&mut self, bytes: &[u8], events: &mut Vec<StreamEvent>) {
        match self {
            Self::Unknown(start) => {
                start.extend_from_slice(bytes);
                let start = std::mem::take(start);
                *self = match MatroskaReader::recognises(&start) {
                    None => return *self = Self::Unknown(start),
                    Some(true) => Self::Matroska(Box::new(MatroskaReader::new())),
                    // It finds its packets by itself.
                    Some(false) => Self::TransportStream(Box::default()),
                };
                self.push(&start, events);
            }
            Self::TransportStream(reader) => reader.push(bytes, events),
            Self::Matroska(reader) => reader.push(bytes, events),
        }
    }

    fn finish(&mut self, events: &mut Vec<StreamEvent>) {
        match self {
            Self::Unknown(_) => {}
            Self::TransportStream(reader) => reader.finish(events),
            Self::Matroska(reader) => reader.finish(events),
        }
    }

    fn uncarried(&self) -> BTreeMap<u16, String> {
        match self {
            Self::Unknown(_) => BTreeMap::new(),
            Self::TransportStream(reader) => {
                let uncarried = reader.counters().uncarried.into_iter();
                uncarried.map(|(number, uncarried)| (number, uncarried.name)).collect()
            }
            Self::Matroska(reader) => reader.uncarried().clone(),
        }
    }

    /// What was found damaged, how often, and the newest of it in words.
    fn damage(&self) -> (u64, Option<&str>) {
        match self {
            Self::Unknown(_) => (0, None),
            Self::TransportStream(reader) => (reader.damage_count(), reader.last_problem()),
            Self::Matroska(reader) => (reader.damage_count(), reader.last_problem()),
        }
    }
}

/// Turns a container that comes as a stream of bytes into packets on its publisher's mended clock.
#[derive(Debug)]
pub struct StreamSource {
    assembly: Assembly,
    container: Container,
    events: Vec<StreamEvent>,
    /// The track of each stream.
    places: BTreeMap<u16, TrackId>,
    /// Streams whose codec was told; what comes of others before is of no use.
    known: BTreeSet<u16>,
    streams: Vec<ElementaryStream>,
    received_bytes: u64,
    /// What the reader has counted and was reported.
    reported: u64,
}

impl Default for StreamSource {
    fn default() -> Self {
        Self {
            assembly: Assembly::default(),
            container: Container::Unknown(Vec::new()),
            events: Vec::new(),
            places: BTreeMap::new(),
            known: BTreeSet::new(),
            streams: Vec::new(),
            received_bytes: 0,
            reported: 0,
        }
    }
}

impl StreamSource {
    /// A source at the start of a connection.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes bytes, cut anywhere.
    pub fn handle_bytes(&mut self, bytes: &[u8]) {
        self.received_bytes += bytes.len() as u64;
        self.take_events(|container, events| container.push(bytes, events));
    }

    /// Bytes are missing before those that come next.
    pub fn handle_loss(&mut self) {
        // A transport stream counts its packets and finds holes by itself.
        if let Container::Matroska(reader) = &mut self.container {
            reader.lose();
        }
    }

    /// No more bytes come: what was begun is finished.
    pub fn finish(&mut self) {
        self.take_events(Container::finish);
    }

    fn take_events(&mut self, read: impl FnOnce(&mut Container, &mut Vec<StreamEvent>)) {
        let mut events = std::mem::take(&mut self.events);
        read(&mut self.container, &mut events);
        for event in events.drain(..) {
            self.handle_event(event);
        }
        self.events = events;
        self.report_damage();
        let (streams, known) = (&self.streams, &self.known);
        self.assembly.release(|_, _| streams.iter().all(|stream| known.contains(&stream.number)));
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

    fn handle_event(&mut self, event: StreamEvent) {
        match event {
            StreamEvent::Program(streams) => self.set_program(streams),
            StreamEvent::Config { number, codec } => self.set_codec(number, codec),
            StreamEvent::Frame { number, pts, dts, random_access, payload } => {
                let Some(id) = self.places.get(&number).copied() else { return };
                if !self.known.contains(&number) {
                    self.assembly.counters.headless_count += 1;
                    return;
                }
                let composition = pts - dts;
                self.assembly.push(Frame {
                    track: id,
                    kind: id.kind(),
                    time: dts,
                    composition,
                    random_access,
                    payload,
                });
            }
            _ => {}
        }
    }

    /// Streams keep their tracks; new ones get the next free places, at first those of streams
    /// that are gone: an encoder that moves its pictures to another PID goes on with them.
    fn set_program(&mut self, streams: Vec<ElementaryStream>) {
        let stays = |number: &u16| streams.iter().any(|stream| stream.number == *number);
        self.places.retain(|number, _| stays(number));
        self.known.retain(stays);
        for stream in &streams {
            if self.places.contains_key(&stream.number) {
                continue;
            }
            let is_taken = |id: &TrackId| self.places.values().any(|taken| taken == id);
            let free = (0..=u8::MAX).map_while(|place| TrackId::at(stream.kind, place)).find(|id| !is_taken(id));
            match free.filter(|id| usize::from(id.place()) < super::assembly::MAX_TRACKS) {
                Some(id) => {
                    self.places.insert(stream.number, id);
                }
                None => self.assembly.unsupported("more tracks than are carried".to_owned()),
            }
        }
        self.streams = streams;
        for (number, name) in self.container.uncarried() {
            let instead = "H.264, HEVC, AAC, MP3, AC-3 or Opus";
            self.assembly.unsupported(format!("stream {number} ({name}) is not carried; {instead} would be"));
        }
        let known: Vec<Track> = self.assembly.tracks().iter().cloned().collect();
        known.into_iter().for_each(|track| self.label(track));
    }

    fn set_codec(&mut self, number: u16, codec: CodecParameters) {
        let Some(id) = self.places.get(&number).copied() else { return };
        if codec.kind() != id.kind() || !self.assembly.has_room_for(id) {
            return self.assembly.unsupported(format!("stream {number} is one too many"));
        }
        self.known.insert(number);
        self.label(Track::new(id, codec));
    }

    /// Sets a track with the language and name that the program tells.
    fn label(&mut self, track: Track) {
        let number = self.places.iter().find(|(_, id)| **id == track.id).map(|(number, _)| *number);
        let told = self.streams.iter().find(|stream| Some(stream.number) == number);
        let language = told.and_then(|stream| stream.language.as_deref()).map(Into::into);
        let name = told.and_then(|stream| stream.name.as_deref()).map(Into::into);
        let is_sound = track.id.kind() == TrackKind::Audio;
        self.assembly.set_track(if is_sound { Track { language, name, ..track } } else { track });
    }

    /// Says what the reader found damaged since the last time.
    fn report_damage(&mut self) {
        if self.streams.is_empty() && self.received_bytes > UNKNOWN_AFTER && self.reported == 0 {
            self.reported = 1;
            let problem = "neither MPEG-TS nor Matroska was found in what came; set the encoder's output to MPEG-TS";
            return self.assembly.damaged(problem.to_owned());
        }
        let (damage, text) = self.container.damage();
        if damage > self.reported {
            let text = text.unwrap_or("packets of the transport stream are missing or damaged").to_owned();
            self.assembly.counters.damaged_count += damage - self.reported - 1;
            self.reported = damage;
            self.assembly.damaged(text);
        }
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use waverant_container::TsWriter;
    use waverant_media::testing::{AAC_CONFIG, h264};
    use waverant_media::{AudioSpecificConfig, MediaTime};

    use super::*;

    fn aac() -> CodecParameters {
        CodecParameters::Aac(AudioSpecificConfig::parse(Bytes::from_static(AAC_CONFIG)).unwrap())
    }

    fn show_tracks() -> Tracks {
        let mut tracks = Tracks::new();
        tracks.set(Track::new(TrackId::VIDEO, h264()));
        for (place, language) in (0..).zip(["en", "de", "fr"]) {
            let id = TrackId::at(TrackKind::Audio, place).unwrap();
            tracks.set(Track { language: Some(language.into()), name: Some("Mix".into()), ..Track::new(id, aac()) });
        }
        tracks
    }

    fn packet(track: TrackId, millis: i64, random_access: bool) -> Packet {
        let payload = match track.kind() {
            TrackKind::Video => Bytes::from_static(&[0, 0, 0, 4, 0x65, 0x88, 0x84, 0x21]),
            TrackKind::Audio => Bytes::from_static(&[0x21, 0x10, 0x05]),
        };
        let dts = MediaTime::from_millis(millis);
        Packet { track, kind: track.kind(), dts, pts: dts, random_access, payload }
    }

    fn written(tracks: &Tracks, packets: &[Packet]) -> Vec<u8> {
        let mut writer = TsWriter::new();
        writer.set_tracks(tracks);
        let mut raw = Vec::new();
        packets.iter().for_each(|packet| writer.write(packet, &mut raw));
        raw
    }

    fn take(source: &mut StreamSource, raw: &[u8]) -> Vec<(Packet, Arc<Tracks>)> {
        let mut out = Vec::new();
        for piece in raw.chunks(1316) {
            source.handle_bytes(piece);
            out.extend(std::iter::from_fn(|| source.poll_packet()));
        }
        out
    }

    fn run(packets: &[Packet]) -> (StreamSource, Vec<(Packet, Arc<Tracks>)>) {
        let mut source = StreamSource::new();
        let out = take(&mut source, &written(&show_tracks(), packets));
        (source, out)
    }

    #[test]
    fn all_tracks_are_there_from_the_first_packet_on() {
        // The third sound comes late, and the first sound begins before the pictures.
        let mut packets = vec![packet(TrackId::VIDEO, 200, true), packet(TrackId(1), 0, true)];
        for step in 0..10 {
            packets.push(packet(TrackId::VIDEO, 240 + step * 40, false));
            packets.push(packet(TrackId(1), 40 + step * 40, true));
            packets.push(packet(TrackId(3), 100 + step * 40, true));
            if step > 5 {
                packets.push(packet(TrackId(5), 300 + step * 40, true));
            }
        }
        let (source, out) = run(&packets);
        assert!(out.iter().all(|(_, tracks)| tracks.len() == 4), "{:?}", out[0].1);
        assert_eq!(out.iter().map(|(packet, _)| packet.dts).min(), Some(MediaTime::ZERO));
        let first = |track| out.iter().find(|(packet, _)| packet.track == track).unwrap().0.dts.millis();
        assert_eq!((first(TrackId::VIDEO), first(TrackId(1)), first(TrackId(3))), (200, 0, 100));
        let languages: Vec<_> = source.tracks().iter().filter_map(|track| track.language.as_deref()).collect();
        assert_eq!(languages, ["en", "de", "fr"]);
        assert_eq!(source.counters(), SourceCounters::default());
    }

    /// A new map in mid-stream: pictures and sound have other PIDs, and go on in their tracks.
    /// What comes of them before their headers is not taken for more of the old ones.
    #[test]
    fn streams_that_move_keep_their_tracks() {
        let steps = |picture: TrackId, sound: TrackId| -> Vec<Packet> {
            let step = |step: i64| [packet(picture, step * 40, step == 2 || step == 0), packet(sound, step * 40, true)];
            (0..10).flat_map(step).collect()
        };
        let mut source = StreamSource::new();
        let mut tracks = Tracks::new();
        tracks.set(Track::new(TrackId::VIDEO, h264()));
        tracks.set(Track::new(TrackId(1), aac()));
        let before = take(&mut source, &written(&tracks, &steps(TrackId::VIDEO, TrackId(1))));
        assert!(before.iter().all(|(packet, _)| [TrackId::VIDEO, TrackId(1)].contains(&packet.track)));
        let mut moved = Tracks::new();
        moved.set(Track::new(TrackId(2), h264()));
        moved.set(Track { language: Some("cy".into()), ..Track::new(TrackId(3), aac()) });
        // The first picture has no headers with it.
        let packets: Vec<Packet> = steps(TrackId(2), TrackId(3))
            .into_iter()
            .map(|packet| match packet.track {
                TrackId(2) => Packet { random_access: packet.dts != MediaTime::ZERO && packet.random_access, ..packet },
                _ => packet,
            })
            .collect();
        let after = take(&mut source, &written(&moved, &packets));
        let of = |track| after.iter().filter(move |(packet, _)| packet.track == track);
        assert!(of(TrackId::VIDEO).count() >= 6 && of(TrackId(1)).count() >= 9);
        assert_eq!(of(TrackId::VIDEO).count() + of(TrackId(1)).count(), after.len());
        // The last pictures of the old stream end with the new map; then comes a keyframe.
        let first = of(TrackId::VIDEO).next().unwrap();
        assert!(first.0.random_access, "{:?}", first.0);
        assert_eq!(source.tracks().get(TrackId(1)).unwrap().language.as_deref(), Some("cy"));
        assert_eq!(source.tracks().len(), 2);
    }

    #[test]
    fn what_is_no_transport_stream_is_said() {
        let mut source = StreamSource::new();
        for _ in 0..100 {
            source.handle_bytes(&[7; 1316]);
        }
        assert!(
            source.last_problem().is_some_and(|problem| problem.contains("MPEG-TS")),
            "{:?}",
            source.last_problem()
        );
        assert_eq!(source.poll_packet(), None);
    }
}
