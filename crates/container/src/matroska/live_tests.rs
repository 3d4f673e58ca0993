use proptest::prelude::*;
use rstest::rstest;
use waverant_media::testing;

use super::super::codec::{codec_id, codec_private};
use super::super::ebml::{Elements, UNKNOWN_SIZE};
use super::*;

const VIDEO: u64 = 1;
const MIX: u64 = 2;
const COMMENTARY: u64 = 3;

/// A document up to its first cluster, with a segment that has no length.
fn head() -> Vec<u8> {
    let mut out = Elements::default();
    out.master(ids::EBML, |document| {
        document.text(ids::DOC_TYPE, "matroska").uint(ids::DOC_TYPE_READ_VERSION, 2);
    });
    out.id(ids::SEGMENT).raw(&UNKNOWN_SIZE).void(40);
    out.master(ids::INFO, |info| {
        info.uint(ids::INFO_TIMESTAMP_SCALE, 1_000_000);
    });
    out.master(ids::TRACKS, |tracks| {
        for (number, codec, name) in
            [(VIDEO, testing::h264(), ""), (MIX, testing::aac(), "Mix"), (COMMENTARY, testing::aac(), "Commentary")]
        {
            tracks.master(ids::TRACK_ENTRY, |entry| {
                entry.uint(ids::TRACK_NUMBER, number).text(ids::CODEC_ID, codec_id(&codec).unwrap());
                entry.binary(ids::CODEC_PRIVATE, &codec_private(&codec).unwrap());
                entry.text(ids::LANGUAGE_BCP47, "cy").text(ids::NAME, name);
            });
        }
        tracks.master(ids::TRACK_ENTRY, |entry| {
            entry.uint(ids::TRACK_NUMBER, 9).text(ids::CODEC_ID, "S_TEXT/UTF8");
        });
    });
    out.into_bytes()
}

fn block(track: u64, offset: i16, flags: u8, content: &[u8]) -> Vec<u8> {
    let mut block = Elements::default();
    block.size(track).raw(&offset.to_be_bytes()).raw(&[flags]).raw(content);
    block.into_bytes()
}

/// A cluster without a length: three laced sounds, one in a group, a keyframe, and pictures that are
/// not in the order of being shown.
fn cluster(timestamp: u64) -> Vec<u8> {
    let mut out = Elements::default();
    out.id(ids::CLUSTER).raw(&UNKNOWN_SIZE).uint(ids::TIMESTAMP, timestamp);
    // Lengths of 3 and 4 bytes are told, the last follows.
    out.binary(ids::SIMPLE_BLOCK, &block(MIX, 0, 0x82, b"\x02\x03\x04onetwo.three"));
    out.master(ids::BLOCK_GROUP, |group| {
        group.binary(ids::BLOCK, &block(COMMENTARY, 10, 0, b"said")).uint(ids::BLOCK_DURATION, 21);
    });
    out.binary(ids::SIMPLE_BLOCK, &block(9, 0, 0x80, b"a caption"));
    for (offset, flags) in [(0, 0x80), (120, 0), (40, 0), (80, 0), (240, 0), (160, 0), (200, 0)] {
        out.binary(ids::SIMPLE_BLOCK, &block(VIDEO, offset, flags, format!("picture {offset}").as_bytes()));
    }
    out.into_bytes()
}

fn document(clusters: u64) -> Vec<u8> {
    let clusters = (0..clusters).flat_map(|number| cluster(number * 280));
    head().into_iter().chain(clusters).collect()
}

fn read(raw: &[u8], cut: usize) -> (Vec<StreamEvent>, MatroskaReader) {
    let (mut reader, mut events) = (MatroskaReader::new(), Vec::new());
    raw.chunks(cut).for_each(|piece| reader.push(piece, &mut events));
    reader.finish(&mut events);
    (events, reader)
}

/// Presentation and decode times in milliseconds, keyframe or not, and what the frame holds.
fn frames(events: &[StreamEvent], wanted: u64) -> Vec<(i64, i64, bool, String)> {
    let frames = events.iter().filter_map(|event| match event {
        StreamEvent::Frame { number, pts, dts, random_access, payload } if u64::from(*number) == wanted => {
            let text = String::from_utf8_lossy(payload).into_owned();
            Some((pts.millis(), dts.millis(), *random_access, text))
        }
        _ => None,
    });
    frames.collect()
}

#[rstest]
#[case::whole(100_000)]
#[case::as_datagrams(1316)]
#[case::byte_by_byte(1)]
fn a_stream_without_lengths_is_read(#[case] cut: usize) {
    let (events, reader) = read(&document(3), cut);
    assert_eq!((reader.damage_count(), reader.last_problem()), (0, None));
    let Some(StreamEvent::Program(streams)) = events.first() else { panic!("no tracks first") };
    let told: Vec<_> = streams.iter().map(|stream| (stream.number, stream.kind, stream.name.as_deref())).collect();
    let sound = TrackKind::Audio;
    assert_eq!(told, [(1, TrackKind::Video, None), (2, sound, Some("Mix")), (3, sound, Some("Commentary"))]);
    assert!(streams.iter().all(|stream| stream.language.as_deref() == Some("cy")));
    assert_eq!(reader.uncarried().get(&9).map(String::as_str), Some("S_TEXT/UTF8"));
    let configs = events.iter().filter(|event| matches!(event, StreamEvent::Config { .. })).count();
    assert_eq!(configs, 3);
    let pictures = frames(&events, VIDEO);
    assert_eq!(pictures.len(), 21);
    assert_eq!(pictures[7], (280, 240, true, "picture 0".to_owned()));
    let shown: Vec<i64> = pictures.iter().map(|(pts, ..)| *pts).collect();
    assert_eq!(shown[..7], [0, 120, 40, 80, 240, 160, 200]);
    let decoded: Vec<i64> = pictures.iter().map(|(_, dts, ..)| *dts).collect();
    assert!(decoded.iter().zip(&shown).all(|(dts, pts)| dts <= pts), "{decoded:?}");
    assert!(decoded.windows(2).all(|pair| pair[1] - pair[0] == 40), "{decoded:?}");
    let times: Vec<i64> = events
        .iter()
        .filter_map(|event| match event {
            StreamEvent::Frame { dts, .. } => Some(dts.millis()),
            _ => None,
        })
        .collect();
    assert!(times.is_sorted(), "sound and pictures come in turn: {times:?}");
    // Frames of 1024 samples at 48 kHz.
    let sounds = frames(&events, MIX);
    let heard: Vec<_> = sounds.iter().map(|(pts, _, _, text)| (*pts, text.as_str())).collect();
    assert_eq!(heard[..4], [(0, "one"), (21, "two."), (42, "three"), (280, "one")]);
    assert_eq!(frames(&events, COMMENTARY)[1], (290, 290, true, "said".to_owned()));
}

/// Behind a hole reading begins again with the next cluster.
#[test]
fn a_hole_costs_no_more_than_its_cluster() {
    let (before, after) = (document(1), [cluster(280), cluster(560)].concat());
    let mut reader = MatroskaReader::new();
    let mut events = Vec::new();
    reader.push(&before, &mut events);
    reader.push(&after[..33], &mut events);
    reader.lose();
    reader.push(&after[70..], &mut events);
    reader.finish(&mut events);
    assert_eq!(frames(&events, VIDEO).len(), 14);
    assert_eq!((reader.damage_count(), reader.last_problem()), (1, Some("bytes of the stream are missing")));
    // The same hole, that nobody tells of.
    let holed = [&before[..], &after[..33], &after[70..]].concat();
    let (events, reader) = read(&holed, 1316);
    assert!(reader.damage_count() >= 1);
    assert!(frames(&events, VIDEO).iter().any(|(pts, _, key, text)| *pts == 560 && *key && text == "picture 0"));
}

/// An encoder that begins anew on the same connection tells its tracks anew.
#[test]
fn a_document_can_follow_another() {
    let (events, reader) = read(&[document(2), document(1)].concat(), 700);
    assert_eq!(reader.damage_count(), 0);
    assert_eq!(events.iter().filter(|event| matches!(event, StreamEvent::Program(_))).count(), 2);
    assert_eq!(frames(&events, VIDEO).len(), 21);
}

#[rstest]
#[case::foreign_document(&[0x1a, 0x45, 0xdf, 0xa3, 0x87, 0x42, 0x82, 0x84, b'a', b'b', b'c', b'd'], "the document is `abcd`")]
#[case::too_large(&[0xa3, 0x11, 0, 0, 1, 7], "an element a3 with 16777217 bytes")]
#[case::too_large_to_be_true(&[0xec, 0x01, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff], "an element ec with")]
#[case::no_element(&[0x00, 1, 2, 3], "belong to no element")]
#[case::unknown_element(&[0x42, 0x00, 0x81, 7], "an element 4200")]
#[case::no_time(&[0x1f, 0x43, 0xb6, 0x75, 0xff, 0xa3, 0x85, 0x81, 0, 0, 0x80, 1], "before the time of its cluster")]
#[case::no_track(&[0x1f, 0x43, 0xb6, 0x75, 0xff, 0xe7, 0x81, 1, 0xa3, 0x85, 0x87, 0, 0, 0x80, 1], "a block of track 7")]
fn faults_are_told(#[case] raw: &[u8], #[case] expected: &str) {
    let (_, reader) = read(raw, 3);
    let told = reader.last_problem().unwrap_or_default();
    assert!(told.contains(expected), "{told}");
    // What is right afterwards is read.
    let (events, _) = read(&[raw, &document(1)].concat(), 1000);
    assert_eq!(frames(&events, VIDEO).len(), 7);
}

#[test]
fn its_beginning_tells_what_it_is() {
    assert_eq!(MatroskaReader::recognises(&document(0)), Some(true));
    assert_eq!(MatroskaReader::recognises(&[0x1a, 0x45]), None);
    assert_eq!(MatroskaReader::recognises(&[0x47, 0x40, 0]), Some(false));
}

proptest! {
    /// However a stream is cut, the same comes out.
    #[test]
    fn cuts_change_nothing(cuts in proptest::collection::vec(1usize..400, 1..40)) {
        let raw = document(4);
        let (mut reader, mut events, mut rest) = (MatroskaReader::new(), Vec::new(), &raw[..]);
        for cut in cuts.into_iter().cycle() {
            let (piece, after) = rest.split_at(cut.min(rest.len()));
            reader.push(piece, &mut events);
            rest = after;
            if rest.is_empty() {
                break;
            }
        }
        reader.finish(&mut events);
        prop_assert_eq!(events, read(&raw, raw.len()).0);
    }

    /// Nothing panics, and what is held stays bounded.
    #[test]
    fn hostile_bytes_are_borne(
        noise in proptest::collection::vec(any::<u8>(), 0..600),
        at in 0usize..900,
        flips in proptest::collection::vec((0usize..900, any::<u8>()), 0..12),
    ) {
        let mut raw = document(3);
        for (place, value) in flips {
            if let Some(byte) = raw.get_mut(place) {
                *byte = value;
            }
        }
        raw.splice(at.min(raw.len())..at.min(raw.len()), noise);
        let (events, reader) = read(&raw, 97);
        prop_assert!(events.len() < 10_000 && reader.buffer.len() <= raw.len());
    }
}
