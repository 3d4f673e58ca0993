use bytes::{Bytes, BytesMut};
use waverant_media::{Ac3Config, AdtsHeader, CodecParameters, Mp3Config, OpusConfig, TICKS_PER_SECOND};

use super::frame_head::{At, Head, HeadPayload};
use super::latm::Latm;
use super::{Found, latm};

/// What is kept of bytes among which no frame is found.
const MAX_REST: usize = 64 * 1024;

/// Opus headers in a PES packet begin with these eleven bits.
const OPUS_PREFIX: u16 = 0x3ff;

/// Samples that an Opus decoder throws away at the start, where the stream does not tell: 6.5 ms.
const OPUS_PRE_SKIP: [u8; 2] = [0x38, 0x01];

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) enum SoundCodec {
    AacAdts,
    AacLatm,
    MpegAudio,
    Ac3,
    /// With its channel configuration code.
    Opus(u8),
}

/// Finds frames in the payloads of a stream of sound, wherever they begin and end.
#[derive(Debug)]
pub(in super::super) struct Sounds {
    codec: SoundCodec,
    rest: BytesMut,
    config: Option<CodecParameters>,
    latm: Latm,
    /// The time of the first frame since a time was told, and the samples since then.
    base: Option<i64>,
    samples: i64,
    in_step: bool,
}

impl Sounds {
    pub(in super::super) fn new(codec: SoundCodec) -> Self {
        let (rest, latm) = (BytesMut::new(), Latm::default());
        Self { codec, rest, config: None, latm, base: None, samples: 0, in_step: false }
    }

    /// Something between the payloads is lost.
    pub(in super::super) fn reset(&mut self) {
        self.rest.clear();
        self.in_step = false;
    }

    /// Takes the payload of a PES packet. Its time is that of the first frame that begins in it.
    pub(in super::super) fn push(&mut self, mut time: Option<i64>, payload: BytesMut, out: &mut Vec<Found>) {
        // Frames that begin in what was left over have a time already.
        let mut before = self.rest.len();
        let mut buffer = payload;
        if before > 0 {
            let mut joined = std::mem::take(&mut self.rest);
            joined.extend_from_slice(&buffer);
            buffer = joined;
        }
        let mut skipped = 0;
        let mut at = 0;
        loop {
            match self.frame_at(&buffer[at..]) {
                At::Frame(head) => {
                    if at >= before
                        && let Some(time) = time.take()
                    {
                        (self.base, self.samples) = (Some(time), 0);
                    }
                    // What is before the frame is done with; the frame itself is not copied.
                    let _ = buffer.split_to(at);
                    let frame = buffer.split_to(head.length).freeze();
                    before = before.saturating_sub(at + head.length);
                    at = 0;
                    self.in_step = true;
                    self.emit(*head, frame, out);
                }
                At::Cut => break,
                At::Nothing => {
                    at += 1;
                    skipped += 1;
                    self.in_step = false;
                }
            }
        }
        if skipped > 0 {
            out.push(Found::Damaged(format!("{skipped} bytes between frames of {}", self.name())));
        }
        let _ = buffer.split_to(at);
        if buffer.len() <= MAX_REST {
            self.rest = buffer;
        }
    }

    fn emit(&mut self, head: Head, frame: Bytes, out: &mut Vec<Found>) {
        if self.config.as_ref() != Some(&head.config) {
            self.config = Some(head.config.clone());
            out.push(Found::Config(head.config.clone()));
            // Samples of another rate cannot be added up.
            self.base = self.base.map(|base| base + self.elapsed(&head.config));
            self.samples = 0;
        }
        let Some(base) = self.base else { return };
        let time = base + self.elapsed(&head.config);
        self.samples += i64::from(head.samples);
        let payload = match head.payload {
            HeadPayload::From(offset) => frame.slice(offset..),
            HeadPayload::Moved(payload) => payload,
            HeadPayload::Nothing => return,
        };
        out.push(Found::Frame { pts: time, dts: time, random_access: true, payload });
    }

    /// How long the samples since the last told time take.
    fn elapsed(&self, config: &CodecParameters) -> i64 {
        let rate = config.sound().map_or(0, |sound| i64::from(sound.sample_rate)).max(1);
        self.samples * TICKS_PER_SECOND / rate
    }

    fn frame_at(&mut self, bytes: &[u8]) -> At {
        let found = match self.codec {
            SoundCodec::AacAdts => adts_at(bytes),
            SoundCodec::AacLatm => self.latm.frame_at(bytes),
            SoundCodec::MpegAudio => mpeg_at(bytes),
            SoundCodec::Ac3 => ac3_at(bytes),
            SoundCodec::Opus(channels) => opus_at(bytes, channels),
        };
        // Out of step, two frames must stand one behind the other; any bytes may look like one.
        match &found {
            At::Frame(head) if !self.in_step && self.has_sync_word() => match bytes.get(head.length..) {
                Some([]) | None => found,
                Some(next) if self.looks_like_start(next) => found,
                _ => At::Nothing,
            },
            _ => found,
        }
    }

    fn has_sync_word(&self) -> bool {
        !matches!(self.codec, SoundCodec::Opus(_))
    }

    fn looks_like_start(&self, bytes: &[u8]) -> bool {
        let starts = |word: u16, mask: u16| match bytes {
            [high, low, ..] => u16::from_be_bytes([*high, *low]) & mask == word,
            [high] => u16::from(*high) == word >> 8,
            [] => true,
        };
        match self.codec {
            SoundCodec::AacAdts => starts(0xfff0, 0xfff6),
            SoundCodec::AacLatm => starts(latm::SYNC_WORD << 5, 0xffe0),
            SoundCodec::MpegAudio => starts(0xffe0, 0xffe0),
            SoundCodec::Ac3 => starts(0x0b77, 0xffff),
            SoundCodec::Opus(_) => true,
        }
    }

    fn name(&self) -> &'static str {
        match self.codec {
            SoundCodec::AacAdts | SoundCodec::AacLatm => "AAC",
            SoundCodec::MpegAudio => "MPEG audio",
            SoundCodec::Ac3 => "AC-3",
            SoundCodec::Opus(_) => "Opus",
        }
    }
}

/// A frame of `length` bytes if they are all there.
fn whole(bytes: &[u8], length: usize, offset: usize, config: CodecParameters, samples: u32) -> At {
    if bytes.len() < length {
        return At::Cut;
    }
    At::Frame(Box::new(Head { length, payload: HeadPayload::From(offset), config, samples }))
}

/// More may come that makes a header of it.
fn cut_or_nothing(bytes: &[u8], needed: usize, start: &[u8]) -> At {
    let is_start = bytes.iter().zip(start).all(|(byte, expected)| byte == expected);
    if bytes.len() < needed && is_start { At::Cut } else { At::Nothing }
}

/// ISO/IEC 14496-3, 1.A.2.
fn adts_at(bytes: &[u8]) -> At {
    let Some(header) = AdtsHeader::parse(bytes) else { return cut_or_nothing(bytes, AdtsHeader::NEEDED, &[0xff]) };
    match header.config() {
        Ok(config) if header.block_count == 1 => {
            let samples = config.samples_per_frame();
            whole(bytes, header.frame_length, header.length, CodecParameters::Aac(config), samples)
        }
        _ => At::Nothing,
    }
}

/// ISO/IEC 11172-3, 2.4.1.
fn mpeg_at(bytes: &[u8]) -> At {
    let Ok(config) = Mp3Config::parse(bytes) else { return cut_or_nothing(bytes, 4, &[0xff]) };
    match config.frame_length(bytes) {
        Some(length) => whole(bytes, length, 0, CodecParameters::Mp3(config), config.samples_per_frame()),
        None => cut_or_nothing(bytes, 3, &[0xff]),
    }
}

/// ETSI TS 102 366, 4.3.
fn ac3_at(bytes: &[u8]) -> At {
    let Ok(config) = Ac3Config::parse(bytes) else { return cut_or_nothing(bytes, 8, &[0x0b, 0x77]) };
    match config.frame_length() {
        Some(length) => whole(bytes, length, 0, CodecParameters::Ac3(config), config.samples_per_frame()),
        None => At::Nothing,
    }
}

/// An Opus packet behind its control header (the mapping of Opus into MPEG-TS, 4.2).
fn opus_at(bytes: &[u8], channels: u8) -> At {
    let [first, second, rest @ ..] = bytes else { return cut_or_nothing(bytes, 2, &[0x7f]) };
    let head = u16::from_be_bytes([*first, *second]);
    if head >> 5 != OPUS_PREFIX {
        return At::Nothing;
    }
    let (mut size, mut offset) = (0, 2);
    let mut rest = rest.iter();
    loop {
        let Some(byte) = rest.next() else { return At::Cut };
        size += usize::from(*byte);
        offset += 1;
        if *byte != 0xff {
            break;
        }
    }
    offset += if head & 0x10 != 0 { 2 } else { 0 } + if head & 0x08 != 0 { 2 } else { 0 };
    if head & 0x04 != 0 {
        let Some(length) = bytes.get(offset) else { return At::Cut };
        offset += 1 + usize::from(*length);
    }
    let length = offset + size;
    let (Some(packet), Ok(config)) = (bytes.get(offset..length), opus_config(channels)) else {
        return if bytes.len() < length { At::Cut } else { At::Nothing };
    };
    let samples = OpusConfig::samples_in(packet).unwrap_or(960);
    whole(bytes, length, offset, CodecParameters::Opus(config), samples)
}

fn opus_config(channels: u8) -> Result<OpusConfig, waverant_media::ConfigError> {
    // Codes above 2 are arrangements for more loudspeakers, streams and pairs by the usual rule.
    let channels = if channels == 0 { 2 } else { channels.min(8) };
    let mut raw = b"OpusHead\x01".to_vec();
    raw.push(channels);
    raw.extend(OPUS_PRE_SKIP);
    raw.extend(48_000_u32.to_le_bytes());
    raw.extend([0, 0, 0]);
    if channels > 2 {
        const LAYOUTS: [(u8, u8, &[u8]); 6] = [
            (2, 1, &[0, 2, 1]),
            (2, 2, &[0, 1, 2, 3]),
            (3, 2, &[0, 4, 1, 2, 3]),
            (4, 2, &[0, 4, 1, 2, 3, 5]),
            (4, 3, &[0, 4, 1, 2, 3, 5, 6]),
            (5, 3, &[0, 6, 1, 2, 3, 4, 5, 7]),
        ];
        let (streams, coupled, places) = LAYOUTS[usize::from(channels) - 3];
        let last = raw.len() - 1;
        raw[last] = 1;
        raw.extend([streams, coupled]);
        raw.extend(places);
    }
    OpusConfig::parse(raw.into())
}
