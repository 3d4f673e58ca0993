//! The writer's bytes against the specification; the reader against files of other shapes.

use bytes::Bytes;
use proptest::prelude::*;
use waverant_media::testing::{self, h264_and_aac};
use waverant_media::{MediaTime, Packet, Track, TrackId, Tracks};

use super::ebml::{Elements, children, read_text, read_uint};
use super::{ClusterWriter, ids};
use crate::file::FileReader;
use crate::parts::{FileError, FileHead, MatroskaError};

fn packet(track: TrackId, millis: i64, random_access: bool) -> Packet {
    let kind = track.kind();
    let time = MediaTime::from_millis(millis);
    let payload = Bytes::from(format!("{kind:?} {millis}"));
    Packet { track, kind, dts: time, pts: time, random_access, payload }
}

fn written() -> Vec<u8> {
    let head = FileHead { began_ms: Some(1_779_033_849_250), title: Some("finish-line".to_owned()) };
    let mut tracks = h264_and_aac();
    let spoken = Track {
        language: Some("de".into()),
        name: Some("Commentary".into()),
        ..Track::new(TrackId(3), testing::aac())
    };
    tracks.set(spoken);
    let mut writer = ClusterWriter::new(&tracks, &head).unwrap();
    let mut file = Vec::new();
    for millis in (0..3000).step_by(40) {
        for (track, key) in [(TrackId::VIDEO, millis % 1000 == 0), (TrackId::AUDIO, true), (TrackId(3), true)] {
            if let Some(cluster) = writer.push(&packet(track, millis, key)).unwrap() {
                file.extend(cluster.segments.concat());
            }
        }
    }
    let (last, patches) = writer.finish();
    file.extend(last.unwrap().segments.concat());
    for patch in patches {
        let at = usize::try_from(patch.offset).unwrap();
        file[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
    }
    file
}

fn child(content: &[u8], id: u32) -> Vec<u8> {
    children(content).find(|(found, _)| *found == id).map(|(_, content)| content.to_vec()).unwrap_or_default()
}

#[test]
fn the_head_is_as_the_specification_has_it() {
    let file = written();
    assert_eq!(file[..4], [0x1a, 0x45, 0xdf, 0xa3]);
    let document = child(&file, ids::EBML);
    assert_eq!(read_text(&child(&document, ids::DOC_TYPE)), "matroska");
    let segment = child(&file, ids::SEGMENT);
    let names: Vec<u32> = children(&segment).map(|(id, _)| id).filter(|id| *id != ids::CLUSTER).collect();
    assert_eq!(names, [ids::SEEK_HEAD, ids::VOID, ids::INFO, ids::TRACKS, ids::VOID, ids::CUES]);
    let info = child(&segment, ids::INFO);
    // 2026-05-17 16:04:09.250 UTC, from 2001.
    let nanoseconds = u64::from_be_bytes(child(&info, ids::DATE_UTC).try_into().unwrap());
    assert_eq!(nanoseconds, (1_779_033_849_250 - 978_307_200_000) * 1_000_000);
    let seeks = child(&segment, ids::SEEK_HEAD);
    let found = children(&seeks).map(|(_, seek)| {
        let at = usize::try_from(read_uint(&child(seek, ids::SEEK_POSITION))).unwrap();
        segment[at..].starts_with(&child(seek, ids::SEEK_ID))
    });
    assert_eq!(found.collect::<Vec<_>>(), [true, true, true], "positions lead to what they name");
}

#[test]
fn cues_lead_to_clusters_that_begin_with_keyframes() {
    let file = written();
    let segment = child(&file, ids::SEGMENT);
    let cues = child(&segment, ids::CUES);
    let times: Vec<u64> = children(&cues)
        .map(|(_, point)| {
            let place = child(point, ids::CUE_TRACK_POSITIONS);
            let at = usize::try_from(read_uint(&child(&place, ids::CUE_CLUSTER_POSITION))).unwrap();
            let cluster = child(&segment[at..], ids::CLUSTER);
            assert_eq!(read_uint(&child(&cluster, ids::TIMESTAMP)), read_uint(&child(point, ids::CUE_TIME)));
            read_uint(&child(point, ids::CUE_TIME))
        })
        .collect();
    assert_eq!(times, [0, 1000, 2000]);
}

/// A live stream as an encoder writes it: nothing has a length, frames are laced, groups refer.
fn live() -> Vec<u8> {
    let mut out = Elements::default();
    out.master(ids::EBML, |out| {
        out.text(ids::DOC_TYPE, "matroska");
    });
    let unknown = super::ebml::UNKNOWN_SIZE;
    out.id(ids::SEGMENT).raw(&unknown);
    out.master(ids::TRACKS, |out| {
        out.master(ids::TRACK_ENTRY, |out| {
            out.uint(ids::TRACK_NUMBER, 1).uint(ids::TRACK_TYPE, 1).text(ids::CODEC_ID, "V_MPEG4/ISO/AVC");
            out.binary(ids::CODEC_PRIVATE, testing::AVC_RECORD);
        });
        out.master(ids::TRACK_ENTRY, |out| {
            out.uint(ids::TRACK_NUMBER, 2).uint(ids::TRACK_TYPE, 2).text(ids::CODEC_ID, "A_AAC");
            out.binary(ids::CODEC_PRIVATE, testing::AAC_CONFIG).text(ids::LANGUAGE, "ger");
        });
        out.master(ids::TRACK_ENTRY, |out| {
            out.uint(ids::TRACK_NUMBER, 3).uint(ids::TRACK_TYPE, 17).text(ids::CODEC_ID, "S_TEXT/UTF8");
        });
        out.master(ids::TRACK_ENTRY, |out| {
            out.uint(ids::TRACK_NUMBER, 4).uint(ids::TRACK_TYPE, 2).text(ids::CODEC_ID, "A_AC3");
        });
    });
    for start in [0u64, 1000] {
        out.id(ids::CLUSTER).raw(&unknown);
        out.uint(ids::TIMESTAMP, start);
        out.binary(ids::SIMPLE_BLOCK, b"\x81\0\0\x80key");
        out.binary(ids::SIMPLE_BLOCK, b"\x83\0\0\x80text");
        // Two frames of three bytes each, with equal lengths.
        out.binary(ids::SIMPLE_BLOCK, b"\x82\0\x0a\x84\x01oneTWO");
        out.binary(ids::SIMPLE_BLOCK, &[b"\x84\0\0\x80", testing::AC3_FRAME_START].concat());
        out.master(ids::BLOCK_GROUP, |out| {
            out.binary(ids::BLOCK, b"\x81\0\x28\0dependent")
                .uint(ids::BLOCK_DURATION, 40)
                .uint(ids::REFERENCE_BLOCK, 1);
        });
    }
    out.into_bytes()
}

#[test]
fn a_live_stream_is_read() {
    let bytes = Bytes::from(live());
    let mut reader = FileReader::open(bytes.clone()).unwrap();
    let names: Vec<&str> = reader.tracks().iter().map(|track| track.track.codec.name()).collect();
    assert_eq!(names, ["H.264", "AAC", "AC-3"], "text is not carried");
    assert_eq!(reader.tracks()[1].track.language.as_deref(), Some("de"));
    let mut samples = Vec::new();
    while let Some(group) = reader.next_group().unwrap() {
        samples.extend(group);
    }
    let of = |place: usize| -> Vec<(i64, bool, String)> {
        let own = samples.iter().filter(|sample| sample.track == place);
        own.map(|sample| {
            let start = usize::try_from(sample.offset).unwrap();
            let payload = &bytes[start..start + sample.size as usize];
            (sample.pts.millis(), sample.sync, String::from_utf8_lossy(payload).into_owned())
        })
        .collect()
    };
    let pictures = [(0, true, "key"), (40, false, "dependent"), (1000, true, "key"), (1040, false, "dependent")];
    assert_eq!(of(0), pictures.map(|(at, sync, text)| (at, sync, text.to_owned())));
    let sound = [(10, "one"), (31, "TWO"), (1010, "one"), (1031, "TWO")];
    assert_eq!(of(1), sound.map(|(at, text)| (at, true, text.to_owned())));
    assert!(!reader.is_truncated());
}

#[test]
fn foreign_documents_are_refused_with_their_name() {
    let mut out = Elements::default();
    out.master(ids::EBML, |out| {
        out.text(ids::DOC_TYPE, "other");
    });
    let error = FileReader::open(Bytes::from(out.into_bytes())).unwrap_err();
    assert!(matches!(error, FileError::Matroska(MatroskaError::DocType { found }) if found == "other"));
}

#[test]
fn a_file_needs_tracks() {
    assert!(ClusterWriter::new(&Tracks::new(), &FileHead::default()).is_err());
    let error = FileReader::open(Bytes::from(live()[..60].to_vec())).unwrap_err();
    assert!(matches!(error, FileError::Matroska(MatroskaError::Missing("tracks"))), "{error}");
}

proptest! {
    #[test]
    fn a_flipped_bit_never_panics(at in 0usize..10_000, bit in 0u8..8, from_live in any::<bool>()) {
        let mut bytes = if from_live { live() } else { written() };
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        if let Ok(mut reader) = FileReader::open(Bytes::from(bytes)) {
            while let Ok(Some(_)) = reader.next_group() {}
        }
    }
}
