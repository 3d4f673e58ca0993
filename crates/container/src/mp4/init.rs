//! The head of a fragmented file: `ftyp` and `moov`.

use waverant_media::{AudioSpecificConfig, AvcDecoderConfig, CodecParameters};

use super::boxes::BoxWriter;

/// Ticks per second of durations in the movie header and edit lists.
pub(super) const MOVIE_TIMESCALE: u32 = 90_000;

/// `und` in the packed form: three letters of five bits.
const LANGUAGE_UNDETERMINED: u16 = 0x55c4;

const UNITY_MATRIX: [u32; 9] = [0x0001_0000, 0, 0, 0, 0x0001_0000, 0, 0, 0, 0x4000_0000];

/// Descriptor tags.
///
/// Source: ISO/IEC 14496-1, 7.2.2.1
const ES_DESCRIPTOR: u8 = 3;
const DECODER_CONFIG_DESCRIPTOR: u8 = 4;
const DECODER_SPECIFIC_INFO: u8 = 5;
const SL_CONFIG_DESCRIPTOR: u8 = 6;

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
        write_movie_header(out, tracks.len());
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

fn write_movie_header(out: &mut BoxWriter, track_count: usize) {
    out.full_box(b"mvhd", 0, 0, |out| {
        out.u32(0).u32(0).u32(MOVIE_TIMESCALE).u32(0);
        out.u32(0x0001_0000).u16(0x0100).zeros(10);
        for value in UNITY_MATRIX {
            out.u32(value);
        }
        out.zeros(24).u32(u32::try_from(track_count).unwrap_or(u32::MAX).saturating_add(1));
    });
}

fn write_track(out: &mut BoxWriter, track: &InitTrack<'_>) {
    let (width, height, volume) = match track.codec {
        CodecParameters::H264(config) => (config.sequence().width, config.sequence().height, 0),
        _ => (0, 0, 0x0100),
    };
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
    let video = matches!(track.codec, CodecParameters::H264(_));
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
            match codec {
                CodecParameters::H264(config) => write_avc1(out, config),
                CodecParameters::Aac(config) => write_mp4a(out, config),
                _ => {}
            }
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

/// Source: ISO/IEC 14496-12, 12.1.3.2 and ISO/IEC 14496-15, 5.4.2.1
fn write_avc1(out: &mut BoxWriter, config: &AvcDecoderConfig) {
    let side = |value: u32| u16::try_from(value).unwrap_or(u16::MAX);
    out.boxed(b"avc1", |out| {
        out.zeros(6).u16(1).zeros(16);
        out.u16(side(config.sequence().width)).u16(side(config.sequence().height));
        out.u32(0x0048_0000).u32(0x0048_0000).u32(0).u16(1).zeros(32).u16(0x18).u16(0xffff);
        out.boxed(b"avcC", |out| {
            out.bytes(config.raw());
        });
    });
}

/// Source: ISO/IEC 14496-12, 12.2.3.2 and ISO/IEC 14496-14, 6.7
fn write_mp4a(out: &mut BoxWriter, config: &AudioSpecificConfig) {
    // The field holds 16.16 bits; higher rates are told by the decoder configuration alone.
    let rate = u16::try_from(config.sample_rate()).unwrap_or(0);
    out.boxed(b"mp4a", |out| {
        out.zeros(6).u16(1).zeros(8);
        out.u16(u16::from(config.channel_count().max(1))).u16(16).zeros(4).u16(rate).u16(0);
        out.full_box(b"esds", 0, 0, |out| {
            out.bytes(&elementary_stream_descriptor(config.raw()));
        });
    });
}

/// Source: ISO/IEC 14496-1, 7.2.6.5 and 7.2.6.6
fn elementary_stream_descriptor(decoder_specific: &[u8]) -> Vec<u8> {
    // Object type 0x40 is MPEG-4 audio; stream type 5 is audio, with the reserved bit set.
    let mut decoder = vec![0x40, 5 << 2 | 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    decoder.extend(descriptor(DECODER_SPECIFIC_INFO, decoder_specific));
    let mut stream = vec![0, 0, 0];
    stream.extend(descriptor(DECODER_CONFIG_DESCRIPTOR, &decoder));
    stream.extend(descriptor(SL_CONFIG_DESCRIPTOR, &[2]));
    descriptor(ES_DESCRIPTOR, &stream)
}

/// A descriptor with its size in four bytes of seven bits.
fn descriptor(tag: u8, content: &[u8]) -> Vec<u8> {
    let size = content.len();
    let septet = |shift: usize, more: u8| u8::try_from(size >> shift & 0x7f).unwrap_or(0) | more;
    let mut out = vec![tag, septet(21, 0x80), septet(14, 0x80), septet(7, 0x80), septet(0, 0)];
    out.extend_from_slice(content);
    out
}
