//! What stands before the clusters, and what is filled in there later.

use waverant_media::{Track, TrackKind};

use super::TIMESTAMP_SCALE;
use super::codec::{codec_id, codec_private};
use super::ebml::{Elements, UNKNOWN_SIZE};
use super::ids;
use crate::language;
use crate::parts::{FileHead, FileMark};

/// From 2001, where the clock of Matroska begins, back to 1970.
///
/// Source: RFC 8794, 7.6
const EPOCH_OFFSET_MS: i64 = 978_307_200_000;

/// Room for the seek head: four entries of 21 bytes.
pub(super) const SEEK_ROOM: usize = 128;

/// Room for chapters, so that a mark is in the file as soon as it is made.
pub(super) const CHAPTER_ROOM: usize = 4096;

/// Bytes of a duration with its header, and of what stands for it at first.
const DURATION_LENGTH: usize = 11;

/// Opus needs this long to be right after a jump, in nanoseconds.
///
/// Source: Matroska codec mappings, A_OPUS
const OPUS_SEEK_PRE_ROLL: u64 = 80_000_000;

/// Where in the file things are that are filled in later.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Places {
    pub(super) segment_size: u64,
    /// Positions in the file count from here.
    pub(super) segment_start: u64,
    pub(super) seek_room: u64,
    pub(super) info: u64,
    pub(super) duration: u64,
    pub(super) tracks: u64,
    pub(super) chapter_room: u64,
}

/// A track as the head describes it.
#[derive(Debug)]
pub(super) struct HeadTrack<'a> {
    pub(super) track: &'a Track,
    pub(super) is_default: bool,
    pub(super) picture_size: (u32, u32),
}

pub(super) fn write_head(head: &FileHead, tracks: &[HeadTrack<'_>]) -> (Vec<u8>, Places) {
    let mut out = Elements::default();
    out.master(ids::EBML, |out| {
        out.uint(ids::EBML_VERSION, 1).uint(ids::EBML_READ_VERSION, 1);
        out.uint(ids::EBML_MAX_ID_LENGTH, 4).uint(ids::EBML_MAX_SIZE_LENGTH, 8);
        out.text(ids::DOC_TYPE, "matroska").uint(ids::DOC_TYPE_VERSION, 4).uint(ids::DOC_TYPE_READ_VERSION, 2);
    });
    let mut places = Places::default();
    out.id(ids::SEGMENT);
    places.segment_size = out.len() as u64;
    out.raw(&UNKNOWN_SIZE);
    places.segment_start = out.len() as u64;
    places.seek_room = out.len() as u64;
    out.void(SEEK_ROOM);
    places.info = out.len() as u64;
    out.master(ids::INFO, |out| write_info(out, head));
    // What stands for the duration ends the information.
    places.duration = (out.len() - DURATION_LENGTH) as u64;
    places.tracks = out.len() as u64;
    out.master(ids::TRACKS, |out| {
        for track in tracks {
            out.master(ids::TRACK_ENTRY, |out| write_track(out, track));
        }
    });
    places.chapter_room = out.len() as u64;
    out.void(CHAPTER_ROOM);
    (out.into_bytes(), places)
}

fn write_info(out: &mut Elements, head: &FileHead) {
    out.uint(ids::INFO_TIMESTAMP_SCALE, TIMESTAMP_SCALE);
    if let Some(began) = head.began_ms {
        let nanoseconds = (began - EPOCH_OFFSET_MS).saturating_mul(1_000_000);
        out.binary(ids::DATE_UTC, &nanoseconds.to_be_bytes());
    }
    if let Some(title) = &head.title {
        out.text(ids::TITLE, title);
    }
    let app = concat!("Waverant ", env!("CARGO_PKG_VERSION"));
    out.text(ids::MUXING_APP, app).text(ids::WRITING_APP, app).void(DURATION_LENGTH);
}

fn write_track(out: &mut Elements, track: &HeadTrack<'_>) {
    let HeadTrack { track, is_default, picture_size } = track;
    let number = u64::from(track.id.0) + 1;
    out.uint(ids::TRACK_NUMBER, number).uint(ids::TRACK_UID, number);
    out.uint(ids::TRACK_TYPE, if track.codec.kind() == TrackKind::Video { 1 } else { 2 });
    out.uint(ids::FLAG_DEFAULT, (*is_default).into()).uint(ids::FLAG_LACING, 0);
    out.text(ids::LANGUAGE, language::bibliographic(track.language.as_deref()));
    if let Some(tag) = &track.language {
        out.text(ids::LANGUAGE_BCP47, tag);
    }
    if let Some(name) = &track.name {
        out.text(ids::NAME, name);
    }
    out.text(ids::CODEC_ID, codec_id(&track.codec).unwrap_or_default());
    if let Some(private) = codec_private(&track.codec) {
        out.binary(ids::CODEC_PRIVATE, &private);
    }
    if let waverant_media::CodecParameters::Opus(_) = track.codec {
        out.uint(ids::SEEK_PRE_ROLL, OPUS_SEEK_PRE_ROLL);
    }
    match track.codec.sound() {
        None => {
            out.master(ids::VIDEO, |out| {
                out.uint(ids::PIXEL_WIDTH, picture_size.0.max(1).into());
                out.uint(ids::PIXEL_HEIGHT, picture_size.1.max(1).into());
            });
        }
        Some(sound) => {
            out.master(ids::AUDIO, |out| {
                out.float(ids::SAMPLING_FREQUENCY, sound.sample_rate.into());
                out.uint(ids::CHANNELS, sound.channel_count.max(1).into());
            });
        }
    }
}

/// The duration, as long as what stood for it. `length` is in ticks of the file.
#[expect(clippy::cast_precision_loss, reason = "the format has a float here; 52 bits of milliseconds are enough")]
pub(super) fn write_duration(length: i64) -> Vec<u8> {
    let mut out = Elements::default();
    out.float(ids::DURATION, length.max(1) as f64);
    debug_assert_eq!(out.len(), DURATION_LENGTH);
    out.into_bytes()
}

/// The seek head with the void behind it; positions count from the segment's start.
pub(super) fn write_seek_head(entries: &[(u32, u64)]) -> Vec<u8> {
    let mut out = Elements::default();
    out.master(ids::SEEK_HEAD, |out| {
        for (id, position) in entries {
            out.master(ids::SEEK, |out| {
                let mut name = Elements::default();
                name.id(*id);
                out.binary(ids::SEEK_ID, &name.into_bytes()).binary(ids::SEEK_POSITION, &position.to_be_bytes());
            });
        }
    });
    let room = SEEK_ROOM - out.len();
    out.void(room);
    out.into_bytes()
}

pub(super) fn write_chapters(marks: &[FileMark]) -> Vec<u8> {
    let mut out = Elements::default();
    out.master(ids::CHAPTERS, |out| {
        out.master(ids::EDITION_ENTRY, |out| {
            for (number, mark) in (1..).zip(marks) {
                out.master(ids::CHAPTER_ATOM, |out| {
                    let nanoseconds = u64::try_from(mark.at.millis()).unwrap_or(0).saturating_mul(1_000_000);
                    out.uint(ids::CHAPTER_UID, number).uint(ids::CHAPTER_TIME_START, nanoseconds);
                    out.master(ids::CHAPTER_DISPLAY, |out| {
                        out.text(ids::CHAP_STRING, &mark.title).text(ids::CHAP_LANGUAGE, "und");
                    });
                });
            }
        });
    });
    out.into_bytes()
}

/// The chapters with the void behind them; none if there is not room enough.
pub(super) fn fill_chapter_room(marks: &[FileMark]) -> Option<Vec<u8>> {
    let mut bytes = write_chapters(marks);
    // A void takes two bytes at least, and nine where it is long.
    let room = CHAPTER_ROOM.checked_sub(bytes.len()).filter(|room| *room >= 2)?;
    let mut out = Elements::default();
    out.void(room);
    bytes.extend(out.into_bytes());
    Some(bytes)
}

/// Where a player can start.
#[derive(Clone, Copy, Debug)]
pub(super) struct Cue {
    /// In ticks of the file.
    pub(super) time: u64,
    pub(super) track: u64,
    /// Position of the cluster, from the segment's start.
    pub(super) cluster: u64,
}

pub(super) fn write_cues(cues: &[Cue]) -> Vec<u8> {
    let mut out = Elements::default();
    out.master(ids::CUES, |out| {
        for cue in cues {
            out.master(ids::CUE_POINT, |out| {
                out.uint(ids::CUE_TIME, cue.time);
                out.master(ids::CUE_TRACK_POSITIONS, |out| {
                    out.uint(ids::CUE_TRACK, cue.track).uint(ids::CUE_CLUSTER_POSITION, cue.cluster);
                });
            });
        }
    });
    out.into_bytes()
}
