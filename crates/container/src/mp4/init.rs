//! The head of a fragmented file: `ftyp` and `moov`.

use waverant_media::CodecParameters;

use super::boxes::BoxWriter;
use super::sample_entry::{is_video, write_sample_entry};

/// Ticks per second of durations in the movie header and edit lists.
pub(super) const MOVIE_TIMESCALE: u32 = 90_000;

/// `und` in the packed form: three letters of five bits.
const LANGUAGE_UNDETERMINED: u16 = 0x55c4;

const UNITY_MATRIX: [u32; 9] = [0x0001_0000, 0, 0, 0, 0x0001_0000, 0, 0, 0, 0x4000_0000];

/// One track of the head.
pub(super) struct InitTrack<'a> {
    pub(super) number: u32,
    pub(super) timescale: u32,
    pub(super) codec: &'a CodecParameters,
    /// Where on the track's own clock the presentation begins.
    pub(super) edit_start: i64,
}

/// Writes the head; returns it with the place of the 64-bit `fragment_duration`.
pub(super) fn write_init(tracks: &[InitTrack<'_>]) -> (Vec<u8>, usize) {
    let mut out = BoxWriter::new();
    out.boxed(b"ftyp", |out| {
        out.bytes(b"iso6").u32(1).bytes(b"iso6iso5mp41avc1");
    });
    let mut duration_at = 0;
    out.boxed(b"moov", |out| {
        write_movie_header(out, tracks.iter().map(|track| track.number).max().unwrap_or(0));
        for track in tracks {
            write_track(out, track);
        }
        out.boxed(b"mvex", |out| {
            out.full_box(b"mehd", 1, 0, |out| {
                duration_at = out.len();
                out.u64(0);
            });
            for track in tracks {
                out.full_box(b"trex", 0, 0, |out| {
                    out.u32(track.number).u32(1).u32(0).u32(0).u32(0);
                });
            }
        });
    });
    (out.into_bytes(), duration_at)
}

fn write_movie_header(out: &mut BoxWriter, last_number: u32) {
    out.full_box(b"mvhd", 0, 0, |out| {
        out.u32(0).u32(0).u32(MOVIE_TIMESCALE).u32(0);
        out.u32(0x0001_0000).u16(0x0100).zeros(10);
        for value in UNITY_MATRIX {
            out.u32(value);
        }
        out.zeros(24).u32(last_number.saturating_add(1));
    });
}

fn write_track(out: &mut BoxWriter, track: &InitTrack<'_>) {
    let (width, height) = track.codec.picture_size().unwrap_or_default();
    let volume = if is_video(track.codec) { 0 } else { 0x0100 };
    out.boxed(b"trak", |out| {
        // Flags: enabled, in the movie, in the preview.
        out.full_box(b"tkhd", 0, 7, |out| {
            out.u32(0).u32(0).u32(track.number).u32(0).u32(0);
            out.zeros(8).u16(0).u16(0).u16(volume).u16(0);
            for value in UNITY_MATRIX {
                out.u32(value);
            }
            out.u32(width << 16).u32(height << 16);
        });
        write_edit_list(out, track.edit_start);
        out.boxed(b"mdia", |out| write_media(out, track));
    });
}

/// In a fragmented file a duration of 0 makes the edit reach to the end.
///
/// Source: ISO/IEC 14496-12, 8.6.6.1
fn write_edit_list(out: &mut BoxWriter, edit_start: i64) {
    if edit_start == 0 {
        return;
    }
    out.boxed(b"edts", |out| {
        out.full_box(b"elst", 1, 0, |out| {
            out.u32(1).u64(0).bytes(&edit_start.to_be_bytes()).u16(1).u16(0);
        });
    });
}

fn write_media(out: &mut BoxWriter, track: &InitTrack<'_>) {
    let video = is_video(track.codec);
    out.full_box(b"mdhd", 0, 0, |out| {
        out.u32(0).u32(0).u32(track.timescale).u32(0).u16(LANGUAGE_UNDETERMINED).u16(0);
    });
    out.full_box(b"hdlr", 0, 0, |out| {
        out.u32(0).bytes(if video { b"vide" } else { b"soun" }).zeros(12);
        out.bytes(if video { b"picture\0" } else { b"sound\0" });
    });
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
        write_sample_table(out, track.codec);
    });
}

/// All sample counts are zero: the samples are in the fragments.
fn write_sample_table(out: &mut BoxWriter, codec: &CodecParameters) {
    out.boxed(b"stbl", |out| {
        out.full_box(b"stsd", 0, 0, |out| {
            out.u32(1);
            write_sample_entry(out, codec, codec.picture_size().unwrap_or_default());
        });
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
    });
}
