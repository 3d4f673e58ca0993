use std::collections::BTreeMap;
use std::ops::Range;

use bytes::{BufMut, Bytes, BytesMut};
use memchr::memmem;
use waverant_media::{
    AvcDecoderConfig, CodecParameters, HevcDecoderConfig, SequenceParameters, SliceHead, unescape_rbsp,
};

use super::Found;

/// Parameter sets of one kind that are kept; the standards allow 32 sequences, 256 pictures.
const MAX_SETS: usize = 64;

/// What follows when a second picture stands in one PES packet and no rate is known.
const USUAL_DURATION: i64 = 3_000;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) enum PictureCodec {
    Avc,
    Hevc,
}

/// What a NAL unit is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Role {
    Delimiter,
    /// Video, sequence and picture parameter sets: 0, 1, 2.
    ParameterSet(usize),
    /// Stands before the slices of a picture.
    Prefix {
        recovery_point: bool,
    },
    Slice {
        first: bool,
        random_access: bool,
    },
    Other,
}

#[derive(Clone, Copy, Debug)]
struct Unit {
    /// Where its start code begins.
    code: usize,
    start: usize,
    end: usize,
    role: Role,
}

/// Parts streams of NAL units (ISO/IEC 14496-10, annex B; ITU-T H.265, annex B) into pictures
/// with lengths before their units. Parameter sets and delimiters are left out of the pictures:
/// the track's configuration has them.
#[derive(Debug)]
pub(in super::super) struct Pictures {
    codec: PictureCodec,
    sets: [BTreeMap<u32, Bytes>; 3],
    has_news: bool,
    has_config: bool,
    /// The newest of H.264.
    sequence: Option<SequenceParameters>,
    last_dts: Option<i64>,
    duration: i64,
}

impl Pictures {
    pub(in super::super) fn new(codec: PictureCodec) -> Self {
        let sets = std::array::from_fn(|_| BTreeMap::new());
        let (sequence, last_dts, duration) = (None, None, USUAL_DURATION);
        Self { codec, sets, has_news: false, has_config: false, sequence, last_dts, duration }
    }

    /// Takes the payload of a PES packet with its times.
    pub(in super::super) fn push(&mut self, (pts, dts): (i64, i64), payload: BytesMut, out: &mut Vec<Found>) {
        if let Some(last) = self.last_dts.replace(dts)
            && (1..90_000).contains(&(dts - last))
        {
            self.duration = dts - last;
        }
        let units = self.units(&payload);
        if units.is_empty() {
            out.push(Found::Damaged("a PES packet of pictures without a NAL unit".to_owned()));
            return;
        }
        let pictures = self.join_fields(&payload, &units, split(&units));
        let count = pictures.len();
        let mut rest = payload;
        let mut passed = 0;
        for (number, picture) in (0..).zip(pictures) {
            let units = &units[picture];
            // All but the last end where the next begins.
            let end = units.last().map_or(passed, |unit| unit.end);
            let piece = if number + 1 == count { rest.split() } else { rest.split_to(end - passed) };
            let moved: Vec<Unit> = units.iter().map(|unit| unit.moved(passed)).collect();
            passed = end;
            // A second picture in a packet has no time of its own.
            let late = self.duration * i64::try_from(number).unwrap_or_default();
            self.finish((pts + late, dts + late), &moved, piece, out);
        }
    }

    /// Both fields of a frame are one picture to whoever comes behind: they are shown at once.
    fn join_fields(&mut self, payload: &[u8], units: &[Unit], pictures: Vec<Range<usize>>) -> Vec<Range<usize>> {
        if self.codec != PictureCodec::Avc {
            return pictures;
        }
        let sets = units.iter().filter(|unit| unit.role == Role::ParameterSet(1));
        let told = sets.filter_map(|unit| SequenceParameters::parse(&payload[unit.start..unit.end]).ok()).next_back();
        self.sequence = told.or(self.sequence.take());
        let Some(sequence) = self.sequence.as_ref().filter(|sequence| !sequence.progressive) else { return pictures };
        let head_of = |picture: &Range<usize>| {
            let slice = units[picture.clone()].iter().find(|unit| matches!(unit.role, Role::Slice { .. }))?;
            SliceHead::parse(&payload[slice.start..slice.end], sequence).ok()
        };
        let mut joined: Vec<Range<usize>> = Vec::with_capacity(pictures.len());
        let mut open: Option<SliceHead> = None;
        for picture in pictures {
            let head = head_of(&picture);
            let completes = head.zip(open).is_some_and(|(head, open)| head.completes(&open));
            match joined.last_mut() {
                Some(first) if completes => (first.end, open) = (picture.end, None),
                _ => {
                    open = head;
                    joined.push(picture);
                }
            }
        }
        joined
    }

    fn finish(&mut self, (pts, dts): (i64, i64), units: &[Unit], piece: BytesMut, out: &mut Vec<Found>) {
        for unit in units {
            if let Role::ParameterSet(kind) = unit.role {
                self.take_set(kind, &piece[unit.start..unit.end]);
            }
        }
        if std::mem::take(&mut self.has_news) {
            match self.config() {
                Some(Ok(config)) => {
                    self.has_config = true;
                    out.push(Found::Config(config));
                }
                Some(Err(error)) => out.push(Found::Damaged(error)),
                None => {}
            }
        }
        let has_slice = units.iter().any(|unit| matches!(unit.role, Role::Slice { .. }));
        if !has_slice {
            return;
        }
        let random_access = units.iter().any(|unit| match unit.role {
            Role::Slice { random_access, .. } => random_access,
            Role::Prefix { recovery_point } => recovery_point,
            _ => false,
        });
        let kept: Vec<Unit> = units.iter().filter(|unit| unit.is_kept()).copied().collect();
        let payload = with_lengths(&kept, piece);
        // The transport stream's own mark is not asked: encoders put it on any picture.
        let random_access = self.has_config && random_access;
        out.push(Found::Frame { pts, dts, random_access, payload });
    }

    fn units(&self, payload: &[u8]) -> Vec<Unit> {
        let mut units: Vec<Unit> = Vec::new();
        for code in memmem::find_iter(payload, &[0, 0, 1]) {
            let start = code + 3;
            // The longer start code has one zero more.
            let code = if code > 0 && payload[code - 1] == 0 { code - 1 } else { code };
            if let Some(last) = units.last_mut() {
                last.end = code;
            }
            units.push(Unit { code, start, end: payload.len(), role: Role::Other });
        }
        for unit in &mut units {
            let body = &payload[unit.start..unit.end.max(unit.start)];
            unit.end = unit.start + body.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
            unit.role = self.role(&payload[unit.start..unit.end]);
        }
        units.retain(|unit| unit.end > unit.start);
        units
    }

    fn role(&self, unit: &[u8]) -> Role {
        let Some(first) = unit.first() else { return Role::Other };
        match self.codec {
            PictureCodec::Avc => avc_role(first & 0x1f, unit),
            PictureCodec::Hevc => hevc_role(first >> 1 & 0x3f, unit),
        }
    }

    fn take_set(&mut self, kind: usize, unit: &[u8]) {
        let Some(id) = self.set_id(kind, unit) else { return };
        let sets = &mut self.sets[kind];
        if sets.get(&id).is_some_and(|known| known == unit) || (sets.len() >= MAX_SETS && !sets.contains_key(&id)) {
            return;
        }
        sets.insert(id, Bytes::copy_from_slice(unit));
        self.has_news = true;
    }

    /// The number of a parameter set, which one with the same number replaces.
    fn set_id(&self, kind: usize, unit: &[u8]) -> Option<u32> {
        let head = &unit[..unit.len().min(64)];
        let rbsp = unescape_rbsp(head);
        let mut reader = waverant_media::BitReader::new(&rbsp);
        match (self.codec, kind) {
            (PictureCodec::Avc, 1) => reader.skip(8 + 24).ok()?,
            (PictureCodec::Avc, _) => reader.skip(8).ok()?,
            (PictureCodec::Hevc, 0) => {
                reader.skip(16).ok()?;
                return reader.bits(4).ok();
            }
            // Behind a part of its own length; there is one in practice.
            (PictureCodec::Hevc, 1) => return Some(0),
            (PictureCodec::Hevc, _) => reader.skip(16).ok()?,
        }
        reader.unsigned_golomb().ok()
    }

    /// None while a set is missing.
    fn config(&self) -> Option<Result<CodecParameters, String>> {
        let [videos, sequences, pictures] =
            self.sets.each_ref().map(|sets| -> Vec<&[u8]> { sets.values().map(|set| &set[..]).collect() });
        if sequences.is_empty() || pictures.is_empty() {
            return None;
        }
        Some(match self.codec {
            PictureCodec::Avc => AvcDecoderConfig::from_parameter_sets(&sequences, &pictures)
                .map(CodecParameters::H264)
                .map_err(|error| format!("H.264 parameter sets: {error}")),
            PictureCodec::Hevc => HevcDecoderConfig::from_parameter_sets(&videos, &sequences, &pictures)
                .map(CodecParameters::Hevc)
                .map_err(|error| format!("HEVC parameter sets: {error}")),
        })
    }
}

impl Unit {
    fn is_kept(&self) -> bool {
        !matches!(self.role, Role::Delimiter | Role::ParameterSet(_))
    }

    fn moved(&self, by: usize) -> Self {
        Self { code: self.code - by, start: self.start - by, end: self.end - by, ..*self }
    }
}

/// ISO/IEC 14496-10, table 7-1.
fn avc_role(kind: u8, unit: &[u8]) -> Role {
    // The first slice of a picture begins with macroblock 0: a single set bit.
    let first = unit.get(1).is_some_and(|byte| byte & 0x80 != 0);
    match kind {
        1 | 2 => Role::Slice { first: first && kind == 1, random_access: false },
        3 | 4 => Role::Slice { first: false, random_access: false },
        5 => Role::Slice { first, random_access: true },
        6 => Role::Prefix { recovery_point: is_recovery_point(unit) },
        7 => Role::ParameterSet(1),
        8 => Role::ParameterSet(2),
        9 => Role::Delimiter,
        14..=18 => Role::Prefix { recovery_point: false },
        _ => Role::Other,
    }
}

/// ITU-T H.265, table 7-1.
fn hevc_role(kind: u8, unit: &[u8]) -> Role {
    let first = unit.get(2).is_some_and(|byte| byte & 0x80 != 0);
    match kind {
        0..=31 => Role::Slice { first, random_access: (16..=23).contains(&kind) },
        32 => Role::ParameterSet(0),
        33 => Role::ParameterSet(1),
        34 => Role::ParameterSet(2),
        35 => Role::Delimiter,
        39 | 41..=44 | 48..=55 => Role::Prefix { recovery_point: false },
        _ => Role::Other,
    }
}

/// True if decoding can begin here, as in an open group of pictures: a recovery point with no
/// picture to wait for (ISO/IEC 14496-10, D.1.8).
fn is_recovery_point(unit: &[u8]) -> bool {
    let rbsp = unescape_rbsp(&unit[..unit.len().min(128)]);
    let mut rest = rbsp.get(1..).unwrap_or_default();
    loop {
        let (Some(kind), Some(length)) = (take_sei_number(&mut rest), take_sei_number(&mut rest)) else { return false };
        let Some((body, after)) = rest.split_at_checked(length) else { return false };
        // recovery_frame_cnt is 0: a set bit.
        if kind == 6 && body.first().is_some_and(|byte| byte & 0x80 != 0) {
            return true;
        }
        rest = after;
    }
}

fn take_sei_number(rest: &mut &[u8]) -> Option<usize> {
    let mut number = 0;
    loop {
        let (first, after) = rest.split_first()?;
        *rest = after;
        number += usize::from(*first);
        if *first != 0xff {
            return Some(number);
        }
    }
}

/// The units of each picture (ISO/IEC 14496-10, 7.4.1.2.3).
fn split(units: &[Unit]) -> Vec<Range<usize>> {
    let mut pictures = Vec::new();
    let (mut start, mut has_slice) = (0, false);
    for (place, unit) in units.iter().enumerate() {
        let begins = match unit.role {
            Role::Delimiter | Role::ParameterSet(_) | Role::Prefix { .. } => true,
            Role::Slice { first, .. } => first,
            Role::Other => false,
        };
        if begins && has_slice {
            pictures.push(start..place);
            (start, has_slice) = (place, false);
        }
        has_slice |= matches!(unit.role, Role::Slice { .. });
    }
    pictures.push(start..units.len());
    pictures
}

/// Puts lengths in the place of start codes: where they stand if all are four bytes long and
/// nothing is between the units, else into a copy.
fn with_lengths(units: &[Unit], mut piece: BytesMut) -> Bytes {
    let (Some(first), Some(last)) = (units.first(), units.last()) else { return Bytes::new() };
    let is_tight = units.windows(2).all(|pair| pair[0].end == pair[1].code);
    if is_tight && units.iter().all(|unit| unit.start - unit.code == 4) {
        let (start, end) = (first.code, last.end);
        for unit in units {
            piece[unit.code..unit.start].copy_from_slice(&length_of(unit));
        }
        return piece.freeze().slice(start..end);
    }
    let mut out = BytesMut::with_capacity(units.iter().map(|unit| unit.end - unit.start + 4).sum());
    for unit in units {
        out.put_slice(&length_of(unit));
        out.put_slice(&piece[unit.start..unit.end]);
    }
    out.freeze()
}

fn length_of(unit: &Unit) -> [u8; 4] {
    u32::try_from(unit.end - unit.start).unwrap_or(u32::MAX).to_be_bytes()
}
