use bytes::Bytes;
use waverant_media::{Track, TrackKind};

use super::{CmafSample, CmafTimeline};
use crate::mp4::{BoxWriter, DEPENDENT_SAMPLE, Init, InitTrack, SYNC_SAMPLE, write_live_init};

/// Brands of a header: CMAF tracks without edits, in files that begin with `moof`.
///
/// Source: ISO/IEC 23000-19, 7.2
const BRANDS: &[&[u8; 4]] = &[b"cmf2", b"iso6", b"cmfc", b"cmf2"];

/// A file with one track numbers it so.
const TRACK_NUMBER: u32 = 1;

/// Flags of `tfhd`: what the samples have in common, and that offsets count from the `moof`.
///
/// Source: ISO/IEC 14496-12, 8.8.7.1
const DEFAULT_DURATION: u32 = 0x08;
const DEFAULT_FLAGS: u32 = 0x20;
const BASE_IS_MOOF: u32 = 0x02_0000;

/// Flags of `trun`: what it says of itself and of each sample.
///
/// Source: ISO/IEC 14496-12, 8.8.8.1
const DATA_OFFSET: u32 = 0x01;
const FIRST_FLAGS: u32 = 0x04;
const OWN_DURATION: u32 = 0x100;
const OWN_SIZE: u32 = 0x200;
const OWN_FLAGS: u32 = 0x400;
const OWN_OFFSET: u32 = 0x800;

/// Bytes in front of the payloads in `mdat`.
const MDAT_HEAD: usize = 8;

/// A run of samples as it is sent: `moof`, the head of `mdat`, and the payloads, which are the packets' own memory.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CmafPiece {
    /// What is sent, in order.
    pub segments: Vec<Bytes>,
    /// Sum of the segments' lengths.
    pub size_bytes: u64,
}

/// Writes the header of a track (`ftyp` and `moov`).
///
/// `picture_size` is that of the pictures where the codec parameters tell none.
pub fn write_cmaf_header(track: &Track, timeline: &CmafTimeline, picture_size: Option<(u32, u32)>) -> Bytes {
    let init_track = InitTrack {
        number: TRACK_NUMBER,
        timescale: timeline.timescale(),
        codec: &track.codec,
        picture_size: track.codec.picture_size().or(picture_size).unwrap_or_default(),
        language: track.language.as_deref(),
        name: track.name.as_deref(),
        is_default: true,
        edit_start: 0,
        sets_in_stream: false,
        tables: None,
    };
    write_live_init(&Init { began_ms: None, tracks: vec![init_track], brands: BRANDS, duration: 0 }).into()
}

/// Writes a piece of `samples`, the `sequence`th of its track, counted from 1. Without samples it is empty.
///
/// Source: ISO/IEC 23000-19, 7.3.2.3
pub fn write_cmaf_piece(kind: TrackKind, sequence: u32, samples: &[CmafSample]) -> CmafPiece {
    let Some(first) = samples.first() else { return CmafPiece::default() };
    let mut out = BoxWriter::new();
    let mut offset_at = 0;
    out.boxed(b"moof", |out| {
        out.full_box(b"mfhd", 0, 0, |out| {
            out.u32(sequence);
        });
        out.boxed(b"traf", |out| {
            let common = Common::of(kind, samples);
            out.full_box(b"tfhd", 0, BASE_IS_MOOF | DEFAULT_DURATION | DEFAULT_FLAGS, |out| {
                out.u32(TRACK_NUMBER).u32(first.duration).u32(common.flags);
            });
            out.full_box(b"tfdt", 1, 0, |out| {
                out.u64(first.decode_time);
            });
            offset_at = write_run(out, &common, samples);
        });
    });
    let payload: usize = samples.iter().map(|sample| sample.payload.len()).sum();
    let offset = out.len() + MDAT_HEAD;
    out.set_u32(offset_at, u32::try_from(offset).unwrap_or(u32::MAX));
    out.u32(u32::try_from(payload + MDAT_HEAD).unwrap_or(u32::MAX)).bytes(b"mdat");
    let head = Bytes::from(out.into_bytes());
    let size_bytes = (head.len() + payload) as u64;
    let segments = std::iter::once(head).chain(samples.iter().map(|sample| sample.payload.clone())).collect();
    CmafPiece { segments, size_bytes }
}

/// What the samples of a piece have in common, and so need not say each for itself.
struct Common {
    /// The flags of all samples but, it may be, the first.
    flags: u32,
    /// The flags of `trun`.
    run: u32,
}

impl Common {
    fn of(kind: TrackKind, samples: &[CmafSample]) -> Self {
        let flags = if kind == TrackKind::Audio { SYNC_SAMPLE } else { DEPENDENT_SAMPLE };
        let differs = |flag: u32, differs: bool| if differs { flag } else { 0 };
        let of = |sample: &CmafSample| flags_of(sample) == flags;
        let duration = samples.first().map_or(0, |first| first.duration);
        let rest_is_common = samples.iter().skip(1).all(of);
        let run = DATA_OFFSET
            | OWN_SIZE
            | differs(OWN_DURATION, samples.iter().any(|sample| sample.duration != duration))
            | differs(FIRST_FLAGS, rest_is_common && !samples.first().is_none_or(of))
            | differs(OWN_FLAGS, !rest_is_common)
            | differs(OWN_OFFSET, samples.iter().any(|sample| sample.composition_offset != 0));
        Self { flags, run }
    }
}

fn flags_of(sample: &CmafSample) -> u32 {
    if sample.sync { SYNC_SAMPLE } else { DEPENDENT_SAMPLE }
}

/// Writes a `trun`; returns the place of its data offset.
fn write_run(out: &mut BoxWriter, common: &Common, samples: &[CmafSample]) -> usize {
    let mut offset_at = 0;
    let has = |flag: u32| common.run & flag != 0;
    out.full_box(b"trun", 1, common.run, |out| {
        out.u32(u32::try_from(samples.len()).unwrap_or(u32::MAX));
        offset_at = out.len();
        out.u32(0);
        if let Some(first) = samples.first().filter(|_| has(FIRST_FLAGS)) {
            out.u32(flags_of(first));
        }
        for sample in samples {
            if has(OWN_DURATION) {
                out.u32(sample.duration);
            }
            out.u32(u32::try_from(sample.payload.len()).unwrap_or(u32::MAX));
            if has(OWN_FLAGS) {
                out.u32(flags_of(sample));
            }
            if has(OWN_OFFSET) {
                out.i32(sample.composition_offset);
            }
        }
    });
    offset_at
}
