//! The head of a file, with fragments or without: `ftyp` and `moov`.

use waverant_media::CodecParameters;

use super::boxes::BoxWriter;
use super::plain_tables::PlainTables;
use super::sample_entry::{is_video, write_sample_entry};
use crate::language;

/// Ticks per second of durations in the movie header and edit lists.
pub(crate) const MOVIE_TIMESCALE: u32 = 90_000;

/// What stands for the name of a track without one.
pub(super) const HANDLER_PICTURE: &str = "picture";
pub(super) const HANDLER_SOUND: &str = "sound";

/// Seconds from 1904, where the clock of MP4 begins, to 1970.
///
/// Source: ISO/IEC 14496-12, 8.2.2.3
const EPOCH_OFFSET: i64 = 2_082_844_800;

/// All sound tracks are one group, of which one is played at a time.
const SOUND_GROUP: u16 = 1;

const UNITY_MATRIX: [u32; 9] = [0x0001_0000, 0, 0, 0, 0x0001_0000, 0, 0, 0, 0x4000_0000];

/// One track of the head.
pub(crate) struct InitTrack<'a> {
    pub(crate) number: u32,
    pub(crate) timescale: u32,
    pub(crate) codec: &'a CodecParameters,
    pub(crate) picture_size: (u32, u32),
    pub(crate) language: Option<&'a str>,
    pub(crate) name: Option<&'a str>,
    /// Whether it is played where nobody chooses.
    pub(crate) is_default: bool,
    /// Where on the track's own clock the presentation begins; negative if it begins before the track.
    pub(crate) edit_start: i64,
    /// Whether pictures may bring parameter sets along, or the head alone has them.
    pub(crate) sets_in_stream: bool,
    /// For a plain file: where the samples are.
    pub(crate) tables: Option<&'a PlainTables>,
}

/// The head as a whole.
pub(crate) struct Init<'a> {
    /// When the first packet came, in milliseconds since 1970.
    pub(crate) began_ms: Option<i64>,
    pub(crate) tracks: Vec<InitTrack<'a>>,
    /// Major and compatible brands of the `ftyp` box.
    pub(crate) brands: &'a [&'a [u8; 4]],
    /// Length of a plain file; one with fragments has it in `mehd`.
    pub(crate) duration: u64,
}

/// The brands of a file with fragments.
pub(super) const FRAGMENTED: &[&[u8; 4]] = &[b"iso6", b"iso6", b"iso5", b"mp41", b"avc1"];

/// Writes the head of a file with fragments; returns it with the place of the 64-bit
/// `fragment_duration`.
pub(super) fn write_init(init: &Init<'_>) -> (Vec<u8>, usize) {
    let mut out = BoxWriter::new();
    write_file_type(&mut out, init.brands);
    let mut duration_at = 0;
    out.boxed(b"moov", |out| {
        write_movie(out, init);
        out.boxed(b"mvex", |out| {
            out.full_box(b"mehd", 1, 0, |out| {
                duration_at = out.len();
                out.u64(0);
            });
            write_track_defaults(out, init);
        });
    });
    (out.into_bytes(), duration_at)
}

/// Writes the head of a stream of fragments that nobody knows the length of.
pub(crate) fn write_live_init(init: &Init<'_>) -> Vec<u8> {
    let mut out = BoxWriter::new();
    write_file_type(&mut out, init.brands);
    out.boxed(b"moov", |out| {
        write_movie(out, init);
        out.boxed(b"mvex", |out| write_track_defaults(out, init));
    });
    out.into_bytes()
}

fn write_track_defaults(out: &mut BoxWriter, init: &Init<'_>) {
    for track in &init.tracks {
        out.full_box(b"trex", 0, 0, |out| {
            out.u32(track.number).u32(1).u32(0).u32(0).u32(0);
        });
    }
}

/// Writes the head of a plain file.
pub(crate) fn write_plain_init(init: &Init<'_>) -> Vec<u8> {
    let mut out = BoxWriter::new();
    write_file_type(&mut out, init.brands);
    out.boxed(b"moov", |out| write_movie(out, init));
    out.into_bytes()
}

fn write_file_type(out: &mut BoxWriter, brands: &[&[u8; 4]]) {
    out.boxed(b"ftyp", |out| {
        for (place, brand) in brands.iter().enumerate() {
            out.bytes(*brand);
            if place == 0 {
                out.u32(1);
            }
        }
    });
}

fn write_movie(out: &mut BoxWriter, init: &Init<'_>) {
    let created = init.began_ms.map_or(0, |began| u64::try_from(began.div_euclid(1000) + EPOCH_OFFSET).unwrap_or(0));
    let last_number = init.tracks.iter().map(|track| track.number).max().unwrap_or(0);
    out.full_box(b"mvhd", 1, 0, |out| {
        out.u64(created).u64(created).u32(MOVIE_TIMESCALE).u64(init.duration);
        out.u32(0x0001_0000).u16(0x0100).zeros(10);
        for value in UNITY_MATRIX {
            out.u32(value);
        }
        out.zeros(24).u32(last_number.saturating_add(1));
    });
    for track in &init.tracks {
        write_track(out, track, created, init.duration);
    }
}

fn write_track(out: &mut BoxWriter, track: &InitTrack<'_>, created: u64, duration: u64) {
    let (width, height) = track.picture_size;
    let video = is_video(track.codec);
    let (volume, group) = if video { (0, 0) } else { (0x0100, SOUND_GROUP) };
    // Flags: enabled, in the movie, in the preview.
    let flags = if track.is_default { 7 } else { 6 };
    out.boxed(b"trak", |out| {
        out.full_box(b"tkhd", 1, flags, |out| {
            out.u64(created).u64(created).u32(track.number).u32(0).u64(duration);
            out.zeros(8).u16(0).u16(group).u16(volume).u16(0);
            for value in UNITY_MATRIX {
                out.u32(value);
            }
            out.u32(width << 16).u32(height << 16);
        });
        write_edit_list(out, track, duration);
        out.boxed(b"mdia", |out| write_media(out, track, created));
    });
}

/// In a file with fragments a duration of 0 makes the edit reach to the end.
///
/// Source: ISO/IEC 14496-12, 8.6.6.1
fn write_edit_list(out: &mut BoxWriter, track: &InitTrack<'_>, duration: u64) {
    let delay = u128::try_from(track.edit_start.saturating_neg()).unwrap_or(0);
    let delay = delay * u128::from(MOVIE_TIMESCALE) / u128::from(track.timescale.max(1));
    let delay = u64::try_from(delay).unwrap_or(u64::MAX);
    if track.edit_start == 0 {
        return;
    }
    out.boxed(b"edts", |out| {
        out.full_box(b"elst", 1, 0, |out| {
            out.u32(if delay > 0 { 2 } else { 1 });
            if delay > 0 {
                // An empty edit: nothing is presented.
                out.u64(delay).bytes(&(-1i64).to_be_bytes()).u16(1).u16(0);
            }
            out.u64(duration.saturating_sub(delay)).bytes(&track.edit_start.max(0).to_be_bytes()).u16(1).u16(0);
        });
    });
}

fn write_media(out: &mut BoxWriter, track: &InitTrack<'_>, created: u64) {
    let video = is_video(track.codec);
    let duration = track.tables.map_or(0, PlainTables::duration);
    out.full_box(b"mdhd", 1, 0, |out| {
        out.u64(created).u64(created).u32(track.timescale).u64(duration);
        out.u16(packed_language(language::three_letters(track.language))).u16(0);
    });
    out.full_box(b"hdlr", 0, 0, |out| {
        out.u32(0).bytes(if video { b"vide" } else { b"soun" }).zeros(12);
        let plain = if video { HANDLER_PICTURE } else { HANDLER_SOUND };
        out.text(track.name.unwrap_or(plain));
    });
    if let Some(tag) = track.language {
        out.full_box(b"elng", 0, 0, |out| {
            out.text(tag);
        });
    }
    out.boxed(b"minf", |out| {
        if video {
            out.full_box(b"vmhd", 0, 1, |out| {
                out.zeros(8);
            });
        } else {
            out.full_box(b"smhd", 0, 0, |out| {
                out.zeros(4);
            });
        }
        out.boxed(b"dinf", |out| {
            out.full_box(b"dref", 0, 0, |out| {
                out.u32(1).full_box(b"url ", 0, 1, |_| {});
            });
        });
        out.boxed(b"stbl", |out| write_sample_table(out, track));
    });
}

/// Three letters of five bits.
///
/// Source: ISO/IEC 14496-12, 8.4.2.3
fn packed_language(letters: &str) -> u16 {
    letters.bytes().fold(0, |packed, letter| packed << 5 | u16::from(letter.wrapping_sub(0x60) & 0x1f))
}

/// In a file with fragments all counts are zero: the samples are there.
fn write_sample_table(out: &mut BoxWriter, track: &InitTrack<'_>) {
    out.full_box(b"stsd", 0, 0, |out| {
        out.u32(1);
        write_sample_entry(out, track.codec, track.picture_size, track.sets_in_stream);
    });
    if let Some(tables) = track.tables {
        return tables.write(out);
    }
    for name in [b"stts", b"stsc"] {
        out.full_box(name, 0, 0, |out| {
            out.u32(0);
        });
    }
    out.full_box(b"stsz", 0, 0, |out| {
        out.u32(0).u32(0);
    });
    out.full_box(b"stco", 0, 0, |out| {
        out.u32(0);
    });
}
