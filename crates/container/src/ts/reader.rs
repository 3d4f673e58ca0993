use std::collections::BTreeMap;

use waverant_media::{MediaTime, TrackKind};

use super::alignment::Alignment;
use super::packet::{NULL_PID, PACKET_LENGTH, TsPacket};
use super::pes::{DamagedPes, Pes, PesAssembler, TimeUnwrapper};
use super::section::SectionAssembler;
use super::streams::{Found, PictureCodec, Pictures, SoundCodec, Sounds};
use super::tables::{ProgramMap, StreamCodec, StreamEntry, parse_pat, parse_pmt};
use crate::stream::{ElementaryStream, StreamEvent};

/// The longest picture.
const MAX_PICTURE: usize = 16 * 1024 * 1024;

/// Streams of a program that are read.
const MAX_STREAMS: usize = 32;

/// A stream of the program that is not carried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Uncarried {
    /// What it is.
    pub name: String,
    /// Its packets so far.
    pub packets: u64,
}

/// What a transport stream was found to do wrong.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TsCounters {
    /// Packets.
    pub packets: u64,
    /// Packets that were lost before one that came.
    pub lost_packets: u64,
    /// Packets that the sender marked as damaged.
    pub damaged_packets: u64,
    /// Bytes that belong to no packet.
    pub skipped_bytes: u64,
    /// Times when no packet was where one had to be.
    pub lost_sync: u64,
    /// Sections and PES packets that could not be read.
    pub damaged_units: u64,
    /// Packets that are scrambled.
    pub scrambled_packets: u64,
    /// Streams that are not carried, by their PIDs.
    pub uncarried: BTreeMap<u16, Uncarried>,
}

#[derive(Debug)]
enum Content {
    Pictures(Pictures),
    Sounds(Sounds),
}

#[derive(Debug)]
struct Stream {
    entry: StreamEntry,
    continuity: Option<u8>,
    pes: PesAssembler,
    content: Content,
    /// Pictures go on in PES packets without a time: some encoders keep to the 64 KiB that a PES
    /// packet can tell. Where they do, each is held until it is known to be whole.
    goes_on: bool,
    held: Option<Pes>,
}

/// Reads a transport stream of one program, of bytes that may be cut anywhere
/// (ISO/IEC 13818-1). Of several programs the first is read.
#[derive(Debug, Default)]
pub struct TsReader {
    alignment: Alignment,
    inner: Inner,
}

#[derive(Debug, Default)]
struct Inner {
    pat: SectionAssembler,
    map_pid: Option<u16>,
    pmt: SectionAssembler,
    map: Option<ProgramMap>,
    streams: Vec<Stream>,
    last_stream: Option<usize>,
    times: TimeUnwrapper,
    found: Vec<Found>,
    events: Vec<StreamEvent>,
    counters: TsCounters,
    last_problem: Option<String>,
}

impl TsReader {
    /// A reader at the start of a stream.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes bytes; what they tell is added to `events`.
    pub fn push(&mut self, bytes: &[u8], events: &mut Vec<StreamEvent>) {
        let inner = &mut self.inner;
        self.alignment.push(bytes, |packet| match packet {
            Some(packet) => inner.take_packet(packet),
            None => inner.distrust_last(),
        });
        events.append(&mut self.inner.events);
    }

    /// The stream is at its end: what was begun is finished.
    pub fn finish(&mut self, events: &mut Vec<StreamEvent>) {
        let inner = &mut self.inner;
        for place in 0..inner.streams.len() {
            let last = inner.streams[place].pes.finish();
            inner.take_pes(place, last);
            if let Some(held) = inner.streams[place].held.take() {
                inner.take_whole(place, held);
            }
        }
        events.append(&mut inner.events);
    }

    /// What the stream does wrong.
    pub fn counters(&self) -> TsCounters {
        let (skipped_bytes, lost_sync) = (self.alignment.skipped_bytes, self.alignment.lost_count);
        TsCounters { skipped_bytes, lost_sync, ..self.inner.counters.clone() }
    }

    /// Packets lost or damaged, and units that could not be read.
    pub fn damage_count(&self) -> u64 {
        let TsCounters { lost_packets, damaged_packets, damaged_units, scrambled_packets, .. } = &self.inner.counters;
        lost_packets + damaged_packets + damaged_units + scrambled_packets + self.alignment.lost_count
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        self.inner.last_problem.as_deref()
    }
}

impl Inner {
    fn take_packet(&mut self, raw: &[u8; PACKET_LENGTH]) {
        self.counters.packets += 1;
        let Some(packet) = TsPacket::parse(raw) else {
            self.counters.damaged_packets += 1;
            return;
        };
        if packet.is_damaged {
            self.counters.damaged_packets += 1;
            return;
        }
        if packet.pid == NULL_PID {
            return;
        }
        if packet.pid == 0 {
            return self.take_pat(&packet);
        }
        if Some(packet.pid) == self.map_pid {
            return self.take_pmt(&packet);
        }
        if let Some(place) = self.streams.iter().position(|stream| stream.entry.pid == packet.pid) {
            self.last_stream = Some(place);
            self.take_stream(place, &packet);
        } else if let Some(uncarried) = self.counters.uncarried.get_mut(&packet.pid) {
            uncarried.packets += 1;
        }
    }

    /// Something was in or behind the last packet that does not belong there.
    fn distrust_last(&mut self) {
        if let Some(stream) = self.last_stream.take().and_then(|place| self.streams.get_mut(place)) {
            stream.lose();
        }
    }

    fn take_pat(&mut self, packet: &TsPacket<'_>) {
        let Some(payload) = packet.payload else { return };
        let mut programs = None;
        self.counters.damaged_units += self.pat.push(packet.starts_unit, payload, |section| {
            programs = parse_pat(section).or_else(|| programs.take());
        });
        let first = programs.and_then(|programs: Vec<(u16, u16)>| programs.first().copied());
        if let Some((_, pid)) = first
            && self.map_pid != Some(pid)
        {
            self.map_pid = Some(pid);
            self.pmt.reset();
        }
    }

    fn take_pmt(&mut self, packet: &TsPacket<'_>) {
        let Some(payload) = packet.payload else { return };
        let mut map = None;
        self.counters.damaged_units += self.pmt.push(packet.starts_unit, payload, |section| {
            map = parse_pmt(section).or_else(|| map.take());
        });
        if let Some(map) = map
            && self.map.as_ref() != Some(&map)
        {
            self.take_map(map);
        }
    }

    /// Keeps the streams that stay as they were.
    fn take_map(&mut self, map: ProgramMap) {
        let known = std::mem::take(&mut self.counters.uncarried);
        let mut old = std::mem::take(&mut self.streams);
        for entry in &map.streams {
            let place =
                old.iter().position(|stream| stream.entry.pid == entry.pid && stream.entry.codec == entry.codec);
            if let Some(place) = place {
                let stream = old.swap_remove(place);
                self.streams.push(Stream { entry: entry.clone(), ..stream });
                continue;
            }
            match content_of(&entry.codec) {
                Ok(content) if self.streams.len() < MAX_STREAMS => {
                    let (continuity, pes) = (None, PesAssembler::default());
                    self.streams.push(Stream {
                        entry: entry.clone(),
                        continuity,
                        pes,
                        content,
                        goes_on: false,
                        held: None,
                    });
                }
                Ok(_) => {}
                Err(name) => {
                    let packets = known.get(&entry.pid).map_or(0, |uncarried| uncarried.packets);
                    self.counters.uncarried.insert(entry.pid, Uncarried { name, packets });
                }
            }
        }
        self.map = Some(map);
        let streams = self.streams.iter().map(|stream| ElementaryStream {
            number: stream.entry.pid,
            kind: match stream.content {
                Content::Pictures(_) => TrackKind::Video,
                Content::Sounds(_) => TrackKind::Audio,
            },
            language: stream.entry.language.clone(),
            name: stream.entry.name.clone(),
        });
        self.events.push(StreamEvent::Program(streams.collect()));
    }

    fn take_stream(&mut self, place: usize, packet: &TsPacket<'_>) {
        let stream = &mut self.streams[place];
        let Some(payload) = packet.payload else { return };
        if packet.is_scrambled {
            self.counters.scrambled_packets += 1;
            return;
        }
        if let Some(last) = stream.continuity.replace(packet.continuity) {
            let expected = last.wrapping_add(1) & 0xf;
            // A packet may be sent twice (2.4.3.3).
            if packet.continuity == last && !packet.adaptation.discontinuity {
                return;
            }
            if packet.continuity != expected && !packet.adaptation.discontinuity {
                let lost = packet.continuity.wrapping_sub(expected) & 0xf;
                self.counters.lost_packets += u64::from(lost);
                stream.lose();
            }
        }
        let finished = if packet.starts_unit { stream.pes.begin(payload) } else { stream.pes.append(payload) };
        self.take_pes(place, finished);
        if packet.starts_unit {
            let whole = self.streams[place].pes.finish_if_whole();
            self.take_pes(place, whole);
        }
    }

    fn take_pes(&mut self, place: usize, pes: Option<Result<Pes, DamagedPes>>) {
        let Some(Ok(pes)) = pes else {
            self.counters.damaged_units += u64::from(pes.is_some());
            return;
        };
        if let Some(pes) = self.streams[place].join(pes) {
            self.take_whole(place, pes);
        }
    }

    fn take_whole(&mut self, place: usize, pes: Pes) {
        let stream = &mut self.streams[place];
        // The decoding time is what goes on evenly.
        let dts = pes.dts.or(pes.pts).map(|dts| self.times.unwrap(dts));
        let offset = match (pes.pts, pes.dts) {
            (Some(pts), Some(dts)) => i64::try_from(pts.wrapping_sub(dts) & 0x1_ffff_ffff).unwrap_or_default(),
            _ => 0,
        };
        // Decoding after showing is a fault of the sender.
        let offset = if offset > 90_000 * 60 { 0 } else { offset };
        match (&mut stream.content, dts) {
            (Content::Pictures(pictures), Some(dts)) => {
                pictures.push((dts + offset, dts), pes.payload, &mut self.found);
            }
            (Content::Pictures(_), None) => {
                self.counters.damaged_units += 1;
                self.last_problem = Some("pictures without a time".to_owned());
            }
            (Content::Sounds(sounds), time) => sounds.push(time, pes.payload, &mut self.found),
        }
        let number = stream.entry.pid;
        for found in self.found.drain(..) {
            match found {
                Found::Config(codec) => self.events.push(StreamEvent::Config { number, codec }),
                Found::Frame { pts, dts, random_access, payload } => {
                    let (pts, dts) = (MediaTime::from_ticks(pts), MediaTime::from_ticks(dts));
                    self.events.push(StreamEvent::Frame { number, pts, dts, random_access, payload });
                }
                Found::Damaged(problem) => {
                    self.counters.damaged_units += 1;
                    self.last_problem = Some(problem);
                }
            }
        }
    }
}

impl Stream {
    /// Joins a picture that goes on with its beginning; returns what is whole.
    fn join(&mut self, pes: Pes) -> Option<Pes> {
        let is_timed = pes.pts.is_some();
        if !matches!(self.content, Content::Pictures(_)) || (is_timed && !self.goes_on) {
            return Some(pes);
        }
        if is_timed {
            return self.held.replace(pes);
        }
        self.goes_on = true;
        match &mut self.held {
            Some(held) if held.payload.len() + pes.payload.len() <= MAX_PICTURE => {
                held.payload.extend_from_slice(&pes.payload);
                None
            }
            // The beginning of the first one is gone already.
            _ => Some(pes),
        }
    }

    /// Something of the stream is lost.
    fn lose(&mut self) {
        self.pes.reset();
        self.held = None;
        if let Content::Sounds(sounds) = &mut self.content {
            sounds.reset();
        }
    }
}

fn content_of(codec: &StreamCodec) -> Result<Content, String> {
    Ok(match codec {
        StreamCodec::Avc => Content::Pictures(Pictures::new(PictureCodec::Avc)),
        StreamCodec::Hevc => Content::Pictures(Pictures::new(PictureCodec::Hevc)),
        StreamCodec::AacAdts => Content::Sounds(Sounds::new(SoundCodec::AacAdts)),
        StreamCodec::AacLatm => Content::Sounds(Sounds::new(SoundCodec::AacLatm)),
        StreamCodec::MpegAudio => Content::Sounds(Sounds::new(SoundCodec::MpegAudio)),
        StreamCodec::Ac3 => Content::Sounds(Sounds::new(SoundCodec::Ac3)),
        StreamCodec::Opus(channels) => Content::Sounds(Sounds::new(SoundCodec::Opus(*channels))),
        StreamCodec::Other(name) => return Err(name.clone()),
    })
}
