use bytes::Bytes;
use waverant_media::{AdtsHeader, CodecParameters, MediaTime, NalUnits, Packet, Track, TrackId, TrackKind, Tracks};

use super::SYNC_BYTE;
use super::clock::ProgramClock;
use super::packet::{PACKET_LENGTH, write_pcr};
use super::pes::write_header;
use super::tables::{
    WrittenStream, label_descriptors, opus_descriptors, registration_descriptor, stream_type, write_pat, write_pmt,
};

const MAP_PID: u16 = 0x1000;
const FIRST_PID: u16 = 0x100;
const PROGRAM: u16 = 1;

/// Tables are repeated this often, and before every keyframe, so that a receiver can begin.
const TABLE_INTERVAL: MediaTime = MediaTime::from_millis(100);

/// Times begin here, so that the clock is never before 0.
const FIRST_TIME: MediaTime = MediaTime::from_millis(3_500);

/// A section of a map has at most so many bytes (2.4.4.9: a length of 1021).
const MAX_SECTION: usize = 1024;

/// PES stream numbers (table 2-22).
const VIDEO_STREAM: u8 = 0xe0;
const AUDIO_STREAM: u8 = 0xc0;
const PRIVATE_STREAM: u8 = 0xbd;

#[derive(Debug)]
struct Stream {
    track: Track,
    pid: u16,
    continuity: u8,
    /// What stands before the units of a picture where decoding can begin.
    parameter_sets: Bytes,
}

/// Writes packets of tracks as a transport stream of one program.
#[derive(Debug, Default)]
pub struct TsWriter {
    streams: Vec<Stream>,
    version: u8,
    clock_pid: u16,
    /// Of PAT and PMT.
    table_continuity: [u8; 2],
    first_dts: Option<MediaTime>,
    tables_at: Option<MediaTime>,
    clock: ProgramClock,
    /// Kept for its memory.
    body: Vec<u8>,
}

/// True if a track's codec can stand in a transport stream.
pub fn is_writable(codec: &CodecParameters) -> bool {
    match codec {
        CodecParameters::Aac(config) => AdtsHeader::of(config, 0).is_some(),
        CodecParameters::H264(_)
        | CodecParameters::Hevc(_)
        | CodecParameters::Mp3(_)
        | CodecParameters::Ac3(_)
        | CodecParameters::Opus(_) => true,
        _ => false,
    }
}

impl TsWriter {
    /// A writer at the start of a stream.
    pub fn new() -> Self {
        Self::default()
    }

    /// Sets the tracks, in mid-stream too. Tracks that cannot be written are left out.
    pub fn set_tracks(&mut self, tracks: &Tracks) {
        let mut old = std::mem::take(&mut self.streams);
        for (place, track) in (0..).zip(tracks.iter().filter(|track| is_writable(&track.codec))) {
            let pid = FIRST_PID + u16::from(track.id.0);
            let known = old.iter().position(|stream| stream.pid == pid).map(|place| old.swap_remove(place));
            let continuity = known.map_or(0, |stream| stream.continuity);
            let parameter_sets = parameter_sets(&track.codec);
            self.streams.push(Stream { track: track.clone(), pid, continuity, parameter_sets });
            let is_first_picture = track.id.kind() == TrackKind::Video
                && self.streams.iter().filter(|stream| stream.track.id.kind() == TrackKind::Video).count() == 1;
            if place == 0 || is_first_picture {
                self.clock_pid = pid;
            }
        }
        self.version = (self.version + 1) & 0x1f;
        self.tables_at = None;
    }

    /// Writes a packet; whole transport packets are added to `out`.
    pub fn write(&mut self, packet: &Packet, out: &mut Vec<u8>) {
        let Some(place) = self.streams.iter().position(|stream| stream.track.id == packet.track) else { return };
        let first = *self.first_dts.get_or_insert(packet.dts);
        let since = |time: MediaTime| time - first + FIRST_TIME;
        let (pts, dts) = (since(packet.pts), since(packet.dts).max(MediaTime::ZERO));
        let pts = pts.max(dts);
        let is_due = |at: Option<MediaTime>, interval| at.is_none_or(|at| dts - at >= interval || dts < at);
        if is_due(self.tables_at, TABLE_INTERVAL) || packet.is_keyframe() {
            self.tables_at = Some(dts);
            self.write_tables(out);
        }
        let stream = &self.streams[place];
        let carries_clock = stream.pid == self.clock_pid;
        let mut told = self.clock.before(dts, carries_clock && packet.is_keyframe());
        // Elsewhere the clock has packets of its own.
        let clock = if carries_clock { told.pop() } else { None };
        told.into_iter().for_each(|clock| self.write_clock(clock, out));
        let mut body = std::mem::take(&mut self.body);
        body.clear();
        let stream = &mut self.streams[place];
        write_body(&stream.track.codec, &stream.parameter_sets, packet, &mut body);
        let ticks = |time: MediaTime| u64::try_from(time.ticks()).unwrap_or_default() & 0x1_ffff_ffff;
        let number = stream_number(&stream.track.codec, stream.track.id);
        let header = write_header(number, ticks(pts), ticks(dts), body.len());
        let random_access = packet.kind == TrackKind::Video && packet.random_access;
        write_packets(stream.pid, &mut stream.continuity, (clock, random_access), &header, &body, out);
        self.body = body;
    }

    fn write_tables(&mut self, out: &mut Vec<u8>) {
        let tables = [(0, write_pat(PROGRAM, MAP_PID, 0)), (MAP_PID, self.program_map())];
        // Each PID counts for itself, and a long map takes several packets.
        for ((pid, section), counter) in tables.into_iter().zip(&mut self.table_continuity) {
            let mut continuity = *counter;
            let mut rest = &section[..];
            let mut is_first = true;
            while !rest.is_empty() {
                let pointer: &[u8] = if is_first { &[0] } else { &[] };
                let room = PACKET_LENGTH - 4 - pointer.len();
                let (piece, after) = rest.split_at(room.min(rest.len()));
                write_head(pid, is_first, continuity, false, out);
                out.extend_from_slice(pointer);
                out.extend_from_slice(piece);
                out.resize(out.len() + room - piece.len(), 0xff);
                continuity = (continuity + 1) & 0xf;
                (rest, is_first) = (after, false);
            }
            *counter = continuity;
        }
    }

    /// The map with what each sound is called, or without where many names do not fit a section.
    fn program_map(&self) -> Vec<u8> {
        let map = |is_named: bool| {
            let streams: Vec<WrittenStream> =
                self.streams.iter().map(|stream| written_stream(stream, is_named)).collect();
            write_pmt(PROGRAM, self.version, self.clock_pid, &streams)
        };
        let named = map(true);
        if named.len() <= MAX_SECTION { named } else { map(false) }
    }

    fn write_clock(&self, clock: MediaTime, out: &mut Vec<u8>) {
        let continuity = self.streams.iter().find(|stream| stream.pid == self.clock_pid);
        // Without payload the counter does not move: it is the one of the packet before.
        let continuity = continuity.map_or(0, |stream| stream.continuity.wrapping_sub(1) & 0xf);
        let [high, low] = self.clock_pid.to_be_bytes();
        out.extend([SYNC_BYTE, high, low, 0x20 | continuity, 183, 0x10]);
        out.extend(write_pcr(u64::try_from(clock.ticks()).unwrap_or_default() * 300));
        out.resize(out.len() + 176, 0xff);
    }
}

fn write_head(pid: u16, starts_unit: bool, continuity: u8, has_adaptation: bool, out: &mut Vec<u8>) {
    let [high, low] = pid.to_be_bytes();
    let start = if starts_unit { 0x40 } else { 0 };
    let control = if has_adaptation { 0x30 } else { 0x10 };
    out.extend([SYNC_BYTE, high | start, low, control | continuity]);
}

/// Cuts a PES packet into transport packets. The last one is filled up in its adaptation field.
fn write_packets(
    pid: u16,
    continuity: &mut u8,
    (clock, random_access): (Option<MediaTime>, bool),
    header: &[u8],
    body: &[u8],
    out: &mut Vec<u8>,
) {
    let (mut header, mut body) = (header, body);
    let mut is_first = true;
    while !header.is_empty() || !body.is_empty() {
        let clock = clock.filter(|_| is_first);
        let has_flags = is_first && (clock.is_some() || random_access);
        let fields = if has_flags { 2 } else { 0 } + if clock.is_some() { 6 } else { 0 };
        let left = header.len() + body.len();
        let room = PACKET_LENGTH - 4 - fields;
        let stuffing = room.saturating_sub(left);
        write_head(pid, is_first, *continuity, has_flags || stuffing > 0, out);
        *continuity = (*continuity + 1) & 0xf;
        write_adaptation(has_flags, random_access && is_first, clock, stuffing, out);
        let from_header = header.len().min(room - stuffing);
        let from_body = room - stuffing - from_header;
        out.extend_from_slice(&header[..from_header]);
        out.extend_from_slice(&body[..from_body]);
        (header, body) = (&header[from_header..], &body[from_body..]);
        is_first = false;
    }
}

fn write_adaptation(
    has_flags: bool,
    random_access: bool,
    clock: Option<MediaTime>,
    stuffing: usize,
    out: &mut Vec<u8>,
) {
    let start = out.len();
    let total = if has_flags { 2 } else { 0 } + if clock.is_some() { 6 } else { 0 } + stuffing;
    if total == 0 {
        return;
    }
    out.push(u8::try_from(total - 1).unwrap_or_default());
    if total > 1 {
        out.push(if random_access { 0x40 } else { 0 } | if clock.is_some() { 0x10 } else { 0 });
    }
    if let Some(clock) = clock {
        out.extend(write_pcr(u64::try_from(clock.ticks()).unwrap_or_default() * 300));
    }
    out.resize(start + total, 0xff);
}

/// A packet's payload as it stands in a PES packet.
fn write_body(codec: &CodecParameters, parameter_sets: &[u8], packet: &Packet, out: &mut Vec<u8>) {
    match codec {
        CodecParameters::H264(config) => {
            out.extend([0, 0, 0, 1, 9, 0xf0]);
            let is_delimiter = |first: u8| first & 0x1f == 9;
            write_units(config.length_size(), parameter_sets, packet, is_delimiter, out);
        }
        CodecParameters::Hevc(config) => {
            out.extend([0, 0, 0, 1, 0x46, 1, 0x50]);
            let is_delimiter = |first: u8| first >> 1 & 0x3f == 35;
            write_units(config.length_size(), parameter_sets, packet, is_delimiter, out);
        }
        CodecParameters::Aac(config) => {
            if let Some(header) = AdtsHeader::of(config, packet.payload.len()) {
                out.extend(header.to_bytes());
            }
            out.extend_from_slice(&packet.payload);
        }
        CodecParameters::Opus(_) => {
            out.extend([0x7f, 0xe0]);
            let mut left = packet.payload.len();
            while left >= 255 {
                out.push(255);
                left -= 255;
            }
            out.push(u8::try_from(left).unwrap_or_default());
            out.extend_from_slice(&packet.payload);
        }
        _ => out.extend_from_slice(&packet.payload),
    }
}

/// A delimiter of the encoder's own is left out: a second one would begin another picture
/// (ISO/IEC 14496-10, 7.4.1.2.3).
fn write_units(
    length_size: u8,
    parameter_sets: &[u8],
    packet: &Packet,
    is_delimiter: impl Fn(u8) -> bool,
    out: &mut Vec<u8>,
) {
    if packet.random_access {
        out.extend_from_slice(parameter_sets);
    }
    let units = NalUnits::new(&packet.payload, length_size);
    for unit in units.filter(|unit| !unit.first().is_some_and(|first| is_delimiter(*first))) {
        out.extend([0, 0, 0, 1]);
        out.extend_from_slice(unit);
    }
}

fn parameter_sets(codec: &CodecParameters) -> Bytes {
    let sets = match codec {
        CodecParameters::H264(config) => config.parameter_sets(),
        CodecParameters::Hevc(config) => config.parameter_sets(),
        _ => Vec::new(),
    };
    let mut out = Vec::new();
    for set in sets {
        out.extend([0, 0, 0, 1]);
        out.extend_from_slice(set);
    }
    out.into()
}

fn stream_number(codec: &CodecParameters, track: TrackId) -> u8 {
    match codec {
        CodecParameters::H264(_) | CodecParameters::Hevc(_) => VIDEO_STREAM | track.place() & 0xf,
        CodecParameters::Opus(_) | CodecParameters::Ac3(_) => PRIVATE_STREAM,
        _ => AUDIO_STREAM | track.place() & 0x1f,
    }
}

fn written_stream(stream: &Stream, is_named: bool) -> WrittenStream {
    let (kind, mut descriptors) = match &stream.track.codec {
        CodecParameters::H264(_) => (stream_type::AVC, Vec::new()),
        CodecParameters::Hevc(_) => (stream_type::HEVC, registration_descriptor(b"HEVC")),
        CodecParameters::Aac(_) => (stream_type::AAC_ADTS, Vec::new()),
        CodecParameters::Mp3(config) if config.sample_rate() < 32_000 => (stream_type::MPEG2_AUDIO, Vec::new()),
        CodecParameters::Mp3(_) => (stream_type::MPEG1_AUDIO, Vec::new()),
        CodecParameters::Ac3(config) if config.is_enhanced() => {
            (stream_type::ENHANCED_AC3, registration_descriptor(b"EAC3"))
        }
        CodecParameters::Ac3(_) => (stream_type::AC3, registration_descriptor(b"AC-3")),
        CodecParameters::Opus(config) => (stream_type::PRIVATE, opus_descriptors(config.channel_count())),
        _ => (stream_type::PRIVATE, Vec::new()),
    };
    let Track { language, name, .. } = &stream.track;
    descriptors.extend(label_descriptors(language.as_deref(), name.as_deref().filter(|_| is_named)));
    WrittenStream { kind, pid: stream.pid, descriptors }
}
