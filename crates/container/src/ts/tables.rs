use super::section::crc;
use crate::language;

/// A program association section holds this table (2.4.4.5).
const PAT: u8 = 0x00;
/// A program map section holds this one (2.4.4.9).
const PMT: u8 = 0x02;

/// Descriptor tags (2.6.1, and ETSI EN 300 468, 6.1).
mod descriptor {
    pub(super) const REGISTRATION: u8 = 0x05;
    pub(super) const LANGUAGE: u8 = 0x0a;
    pub(super) const COMPONENT: u8 = 0x50;
    pub(super) const AC3: u8 = 0x6a;
    pub(super) const ENHANCED_AC3: u8 = 0x7a;
    pub(super) const EXTENSION: u8 = 0x7f;
    pub(super) const OPUS: u8 = 0x80;
}

/// Stream types (2.4.4.9, table 2-34, and those that others added).
pub(super) mod stream_type {
    pub(crate) const MPEG1_AUDIO: u8 = 0x03;
    pub(crate) const MPEG2_AUDIO: u8 = 0x04;
    pub(crate) const PRIVATE: u8 = 0x06;
    pub(crate) const AAC_ADTS: u8 = 0x0f;
    pub(crate) const AAC_LATM: u8 = 0x11;
    pub(crate) const AVC: u8 = 0x1b;
    pub(crate) const HEVC: u8 = 0x24;
    pub(crate) const AC3: u8 = 0x81;
    pub(crate) const ENHANCED_AC3: u8 = 0x87;
}

/// What an elementary stream carries.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum StreamCodec {
    Avc,
    Hevc,
    AacAdts,
    AacLatm,
    MpegAudio,
    Ac3,
    /// With the channel configuration code of its descriptor.
    Opus(u8),
    /// Not carried; named for people.
    Other(String),
}

/// One elementary stream of a program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct StreamEntry {
    pub(super) pid: u16,
    pub(super) codec: StreamCodec,
    pub(super) language: Option<String>,
    pub(super) name: Option<String>,
}

/// A program map: where the clock is, and what streams there are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct ProgramMap {
    pub(super) program: u16,
    pub(super) version: u8,
    pub(super) pcr_pid: u16,
    pub(super) streams: Vec<StreamEntry>,
}

/// Programs and the PIDs of their maps; None if it is no such table, or not in force yet.
pub(super) fn parse_pat(section: &[u8]) -> Option<Vec<(u16, u16)>> {
    let body = body_of(section, PAT)?;
    let entries = body
        .chunks_exact(4)
        .map(|raw| (u16::from_be_bytes([raw[0], raw[1]]), u16::from_be_bytes([raw[2], raw[3]]) & 0x1fff));
    // Program 0 is the network's.
    Some(entries.filter(|(program, _)| *program != 0).collect())
}

/// None if it is no program map, damaged, or not in force yet.
pub(super) fn parse_pmt(section: &[u8]) -> Option<ProgramMap> {
    let body = body_of(section, PMT)?;
    let pcr_pid = half(body, 0)? & 0x1fff;
    let mut rest = body.get(4 + usize::from(half(body, 2)? & 0x0fff)..)?;
    let mut streams = Vec::new();
    while let [kind, ..] = rest {
        let pid = half(rest, 1)? & 0x1fff;
        let length = usize::from(half(rest, 3)? & 0x0fff);
        let descriptors = rest.get(5..5 + length)?;
        streams.push(parse_stream(*kind, pid, descriptors));
        rest = &rest[5 + length..];
    }
    let version = section.get(5)? >> 1 & 0x1f;
    Some(ProgramMap { program: half(section, 3)?, version, pcr_pid, streams })
}

/// What is between the fixed fields of a section and its check sum.
fn body_of(section: &[u8], table: u8) -> Option<&[u8]> {
    let is_current = section.get(5)? & 1 == 1;
    let end = section.len().checked_sub(4)?;
    (*section.first()? == table && is_current).then(|| section.get(8..end))?
}

fn half(raw: &[u8], place: usize) -> Option<u16> {
    Some(u16::from_be_bytes([*raw.get(place)?, *raw.get(place + 1)?]))
}

fn parse_stream(kind: u8, pid: u16, mut descriptors: &[u8]) -> StreamEntry {
    let (mut language, mut name, mut described, mut registration) = (None, None, None, None);
    while let [tag, length, rest @ ..] = descriptors {
        let Some((body, rest)) = rest.split_at_checked(usize::from(*length)) else { break };
        match *tag {
            descriptor::REGISTRATION => registration = body.first_chunk::<4>().copied(),
            descriptor::LANGUAGE => language = body.get(..3).and_then(read_language),
            descriptor::COMPONENT => name = body.get(6..).and_then(component_text).or(name),
            descriptor::AC3 | descriptor::ENHANCED_AC3 => described = Some(StreamCodec::Ac3),
            descriptor::EXTENSION if body.first() == Some(&descriptor::OPUS) => {
                described = Some(StreamCodec::Opus(body.get(1).copied().unwrap_or(2)));
            }
            _ => {}
        }
        descriptors = rest;
    }
    let described = described.or_else(|| registration.as_ref().and_then(registered));
    StreamEntry { pid, codec: codec_of(kind, described, registration), language, name }
}

fn codec_of(kind: u8, described: Option<StreamCodec>, registration: Option<[u8; 4]>) -> StreamCodec {
    let other = |name: &str| StreamCodec::Other(name.to_owned());
    match kind {
        stream_type::AVC => StreamCodec::Avc,
        stream_type::HEVC => StreamCodec::Hevc,
        stream_type::AAC_ADTS => StreamCodec::AacAdts,
        stream_type::AAC_LATM => StreamCodec::AacLatm,
        stream_type::MPEG1_AUDIO | stream_type::MPEG2_AUDIO => StreamCodec::MpegAudio,
        stream_type::AC3 | stream_type::ENHANCED_AC3 => StreamCodec::Ac3,
        stream_type::PRIVATE => described.unwrap_or_else(|| {
            let letters = registration.map(|letters| String::from_utf8_lossy(&letters).into_owned());
            StreamCodec::Other(letters.map_or("private data".to_owned(), |letters| format!("private data `{letters}`")))
        }),
        0x01 => other("MPEG-1 video"),
        0x02 => other("MPEG-2 video"),
        0x05 => other("private sections"),
        0x10 => other("MPEG-4 Visual"),
        0x15 => other("timed metadata"),
        0x21 => other("JPEG 2000"),
        0x33 => other("VVC"),
        0x86 => other("splice information"),
        kind => described.unwrap_or_else(|| StreamCodec::Other(format!("stream type {kind:#04x}"))),
    }
}

fn registered(letters: &[u8; 4]) -> Option<StreamCodec> {
    match letters {
        b"HEVC" => Some(StreamCodec::Hevc),
        b"AC-3" | b"EAC3" => Some(StreamCodec::Ac3),
        b"Opus" => Some(StreamCodec::Opus(2)),
        _ => None,
    }
}

fn read_language(raw: &[u8]) -> Option<String> {
    language::tag(&std::str::from_utf8(raw).ok()?.to_ascii_lowercase())
}

/// Text of DVB: a first byte below 0x20 names its alphabet; 0x15 is UTF-8 (EN 300 468, annex A).
fn component_text(raw: &[u8]) -> Option<String> {
    let text = match raw.split_first()? {
        (0x15, text) => String::from_utf8_lossy(text).into_owned(),
        (first, _) if *first >= 0x20 => raw.iter().map(|byte| char::from(*byte)).collect(),
        _ => return None,
    };
    let text: String = text.chars().filter(|letter| !letter.is_control()).take(64).collect();
    (!text.is_empty()).then_some(text)
}

pub(super) fn write_pat(program: u16, map_pid: u16, version: u8) -> Vec<u8> {
    let mut body = program.to_be_bytes().to_vec();
    body.extend((0xe000 | map_pid).to_be_bytes());
    section(PAT, 1, version, &body)
}

/// A stream as it is written into a program map.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct WrittenStream {
    pub(super) kind: u8,
    pub(super) pid: u16,
    pub(super) descriptors: Vec<u8>,
}

pub(super) fn write_pmt(program: u16, version: u8, pcr_pid: u16, streams: &[WrittenStream]) -> Vec<u8> {
    let mut body = (0xe000 | pcr_pid).to_be_bytes().to_vec();
    body.extend([0xf0, 0]);
    for stream in streams {
        body.push(stream.kind);
        body.extend((0xe000 | stream.pid).to_be_bytes());
        let length = u16::try_from(stream.descriptors.len()).unwrap_or_default();
        body.extend((0xf000 | length).to_be_bytes());
        body.extend(&stream.descriptors);
    }
    section(PMT, program, version, &body)
}

pub(super) fn registration_descriptor(letters: &[u8; 4]) -> Vec<u8> {
    [&[descriptor::REGISTRATION, 4], &letters[..]].concat()
}

pub(super) fn opus_descriptors(channels: u8) -> Vec<u8> {
    let mut out = registration_descriptor(b"Opus");
    out.extend([descriptor::EXTENSION, 2, descriptor::OPUS, channels]);
    out
}

/// The language, and the name as a component's text.
pub(super) fn label_descriptors(language: Option<&str>, name: Option<&str>) -> Vec<u8> {
    let letters = language::bibliographic(language).as_bytes();
    let mut out = Vec::new();
    if language.is_some() {
        out.extend([descriptor::LANGUAGE, 4]);
        out.extend(letters);
        out.push(0);
    }
    if let Some(name) = name {
        let end = name.floor_char_boundary(100);
        let length = u8::try_from(7 + end).unwrap_or(7);
        // Stream content 2, sound; no particular type; tag 0.
        out.extend([descriptor::COMPONENT, length, 0xf2, 0, 0]);
        out.extend(letters);
        out.push(0x15);
        out.extend(&name.as_bytes()[..end]);
    }
    out
}

fn section(table: u8, id: u16, version: u8, body: &[u8]) -> Vec<u8> {
    let length = u16::try_from(body.len() + 9).unwrap_or_default();
    let mut out = vec![table];
    out.extend((0xb000 | length).to_be_bytes());
    out.extend(id.to_be_bytes());
    out.extend([0xc1 | version << 1, 0, 0]);
    out.extend(body);
    out.extend(crc(&out).to_be_bytes());
    out
}
