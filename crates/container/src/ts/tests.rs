use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;
use waverant_media::testing::{AC3_FRAME_START, EAC3_FRAME_START, h264, hevc, opus};
use waverant_media::{
    Ac3Config, AudioSpecificConfig, CodecParameters, MediaTime, Mp3Config, Packet, Track, TrackId, TrackKind, Tracks,
};

use super::packet::TsPacket;
use super::tables::{StreamCodec, WrittenStream, parse_pat, parse_pmt, write_pat, write_pmt};
use super::{TsReader, TsTimingCheck, TsWriter};
use crate::StreamEvent;

const PACKET: usize = 188;

fn aac() -> CodecParameters {
    CodecParameters::Aac(AudioSpecificConfig::parse(Bytes::from_static(&[0x11, 0x90])).unwrap())
}

fn mpeg(frame: &[u8]) -> CodecParameters {
    CodecParameters::Mp3(Mp3Config::parse(frame).unwrap())
}

fn ac3(frame: &[u8]) -> CodecParameters {
    CodecParameters::Ac3(Ac3Config::parse(frame).unwrap())
}

/// A picture with two slices, and something before them.
fn picture(keyframe: bool, number: u32, length: usize) -> Bytes {
    let kind = if keyframe { 5 } else { 1 };
    let mut first = vec![0x60 | kind, 0x88];
    first.extend(number.to_be_bytes().map(|byte| byte | 0x11));
    first.resize(length, 0x5a);
    let units: [&[u8]; 3] = [&[6, 5, 1, 0x77, 0x80], &first, &[0x60 | kind, 0x44, 0x77]];
    let with_length = |unit: &&[u8]| [&u32::try_from(unit.len()).unwrap().to_be_bytes()[..], unit].concat();
    units.iter().map(with_length).collect::<Vec<_>>().concat().into()
}

fn frame(codec: &CodecParameters, number: u8, start: &[u8]) -> Bytes {
    let length = match codec {
        CodecParameters::Mp3(config) => config.frame_length(start).unwrap(),
        CodecParameters::Ac3(config) => config.frame_length().unwrap(),
        _ => 300 + usize::from(number),
    };
    let mut raw = start.to_vec();
    raw.resize(length, number & 0x3f);
    raw.into()
}

struct Show {
    tracks: Tracks,
    packets: Vec<Packet>,
}

/// Two seconds of pictures, with pictures shown out of order, and of sound in each of `sounds`.
fn show(video: Option<CodecParameters>, sounds: &[(CodecParameters, &[u8])], picture_length: usize) -> Show {
    let mut tracks = Tracks::new();
    let mut packets = Vec::new();
    if let Some(codec) = video {
        tracks.set(Track::new(TrackId::VIDEO, codec));
        for number in 0..50_i64 {
            let dts = MediaTime::from_ticks(number * 3_600);
            let keyframe = number % 25 == 0;
            let late = if keyframe { 1 } else { [4, 1, 1][usize::try_from(number % 3).unwrap()] };
            packets.push(Packet {
                track: TrackId::VIDEO,
                kind: TrackKind::Video,
                dts,
                pts: dts + MediaTime::from_ticks(late * 3_600),
                random_access: keyframe,
                payload: picture(keyframe, u32::try_from(number).unwrap(), picture_length),
            });
        }
    }
    for (place, (codec, start)) in (0..).zip(sounds) {
        let track = TrackId::at(TrackKind::Audio, place).unwrap();
        let labelled = Track {
            language: Some(["en", "de", "fr"][usize::from(place) % 3].into()),
            name: Some(format!("Sound {place} – Fluß").into()),
            ..Track::new(track, codec.clone())
        };
        tracks.set(labelled);
        let sound = codec.sound().unwrap();
        for number in 0..60_u8 {
            let samples = i64::from(number) * i64::from(sound.samples_per_frame);
            let dts = MediaTime::from_ticks(samples * 90_000 / i64::from(sound.sample_rate));
            let payload = frame(codec, number, start);
            packets.push(Packet { track, kind: TrackKind::Audio, dts, pts: dts, random_access: true, payload });
        }
    }
    packets.sort_by_key(|packet| packet.dts);
    Show { tracks, packets }
}

fn written(show: &Show) -> Vec<u8> {
    let mut writer = TsWriter::new();
    writer.set_tracks(&show.tracks);
    let mut out = Vec::new();
    for packet in &show.packets {
        writer.write(packet, &mut out);
    }
    assert_eq!(out.len() % PACKET, 0);
    check_timing(&out);
    // One more of each, so that the last pictures end.
    for track in show.tracks.iter() {
        let last = show.packets.iter().rfind(|packet| packet.track == track.id).unwrap();
        let dts = last.dts + MediaTime::from_millis(100);
        writer.write(&Packet { dts, pts: dts, ..last.clone() }, &mut out);
    }
    out
}

/// Every stream that a test writes keeps the times of the standard.
fn check_timing(raw: &[u8]) {
    let mut check = TsTimingCheck::default();
    raw.chunks(1316).for_each(|piece| check.handle_bytes(piece));
    assert_eq!(check.faults(), [""; 0]);
    assert!(check.clock_count() > 10);
}

/// The same show as it comes from an encoder whose sound is `late` behind its pictures, in packets
/// of `batch` frames.
fn interleaved(show: &Show, late: i64, batch: usize) -> Vec<u8> {
    let mut order: Vec<(MediaTime, &Packet)> = show
        .packets
        .iter()
        .enumerate()
        .map(|(place, packet)| match packet.kind {
            TrackKind::Video => (packet.dts, packet),
            TrackKind::Audio => {
                let waits = MediaTime::from_millis(21 * i64::try_from(place % batch).unwrap());
                (packet.dts + MediaTime::from_millis(late) + waits, packet)
            }
        })
        .collect();
    order.sort_by_key(|(at, packet)| (*at, packet.dts));
    let (mut writer, mut out) = (TsWriter::new(), Vec::new());
    writer.set_tracks(&show.tracks);
    order.into_iter().for_each(|(_, packet)| writer.write(packet, &mut out));
    out
}

/// The clock swung back with every sound that came behind a picture of a later time.
#[rstest]
#[case::together(0, 1)]
#[case::sound_behind_a_picture(68, 1)]
#[case::sound_in_bursts(90, 4)]
#[case::sound_far_behind(300, 1)]
#[case::pictures_behind(-250, 1)]
fn the_clock_only_rises_however_tracks_come(#[case] late: i64, #[case] batch: usize) {
    let sounds: [(CodecParameters, &[u8]); 3] = [(aac(), &[0x21]), (aac(), &[0x21]), (aac(), &[0x21])];
    check_timing(&interleaved(&show(Some(h264()), &sounds, 9_000), late, batch));
    check_timing(&interleaved(&show(Some(hevc()), &sounds[..1], 100), late, batch));
}

#[test]
fn the_clock_goes_on_where_nothing_is_written() {
    let show = show(Some(h264()), &[], 500);
    let (mut writer, mut out) = (TsWriter::new(), Vec::new());
    writer.set_tracks(&show.tracks);
    // Four pictures a second.
    for (number, packet) in (0..).zip(&show.packets) {
        let dts = MediaTime::from_millis(250 * number);
        writer.write(&Packet { dts, pts: dts, ..packet.clone() }, &mut out);
    }
    check_timing(&out);
}

#[test]
fn the_check_finds_what_it_is_for() {
    let raw = written(&show(Some(h264()), &[(aac(), &[0x21])], 900));
    let faults = |raw: &[u8]| {
        let mut check = TsTimingCheck::default();
        check.handle_bytes(raw);
        check.faults().join("\n")
    };
    let half = raw.len() / PACKET / 2 * PACKET;
    assert!(faults(&[&raw[half..], &raw[..half]].concat()).contains("the clock goes back"));
    assert!(faults(&[&raw[..half], &raw[half + 40 * PACKET..]].concat()).contains("counts"));
    assert!(faults(&raw.repeat(2)).contains("goes back"));
}

fn read(raw: &[u8], cut: usize) -> (Vec<StreamEvent>, TsReader) {
    let mut reader = TsReader::new();
    let mut events = Vec::new();
    for piece in raw.chunks(cut) {
        reader.push(piece, &mut events);
    }
    (events, reader)
}

fn frames_of(events: &[StreamEvent], wanted: u16) -> Vec<(i64, i64, bool, Bytes)> {
    let frames = events.iter().filter_map(|event| match event {
        StreamEvent::Frame { number, pts, dts, random_access, payload } if *number == wanted => {
            Some((pts.ticks(), dts.ticks(), *random_access, payload.clone()))
        }
        _ => None,
    });
    frames.collect()
}

/// What went in comes out; all times are moved by the same.
fn compare(show: &Show, events: &[StreamEvent]) {
    for track in show.tracks.iter() {
        let pid = 0x100 + u16::from(track.id.0);
        let found = frames_of(events, pid);
        let expected: Vec<_> = show.packets.iter().filter(|packet| packet.track == track.id).collect();
        assert!(found.len() >= expected.len(), "{} of {} of {track:?}", found.len(), expected.len());
        for (found, packet) in found.iter().zip(&expected) {
            let (pts, dts, random_access, payload) = found;
            assert_eq!(payload, &packet.payload, "{track:?} at {:?}", packet.dts);
            assert!((pts - 315_000 - packet.pts.ticks()).abs() <= 1, "{pts} {:?}", packet.pts);
            assert!((dts - 315_000 - packet.dts.ticks()).abs() <= 1);
            assert_eq!(*random_access, packet.random_access);
        }
        let config = events.iter().find_map(|event| match event {
            StreamEvent::Config { number: found, codec } if *found == pid => Some(codec),
            _ => None,
        });
        match (config, &track.codec) {
            // The record is made anew, and the pre-skip of Opus is not told.
            (Some(CodecParameters::Hevc(found)), CodecParameters::Hevc(given)) => {
                assert_eq!(found.parameter_sets(), given.parameter_sets());
            }
            (found, given) => assert_eq!(found, Some(given)),
        }
    }
}

const MP3: &[u8] = &[0xff, 0xfb, 0x90, 0x00];
const MP2: &[u8] = &[0xff, 0xfd, 0xa4, 0x00];

#[rstest]
#[case::avc_and_three_of_aac(Some(h264()), vec![(aac(), &[0x21][..]), (aac(), &[0x22]), (aac(), &[0x23])])]
#[case::hevc_and_opus(Some(hevc()), vec![(opus(), &[0xfc][..])])]
#[case::mp3_and_mp2(None, vec![(mpeg(MP3), MP3), (mpeg(MP2), MP2)])]
#[case::dolby(Some(h264()), vec![(ac3(AC3_FRAME_START), AC3_FRAME_START), (ac3(EAC3_FRAME_START), EAC3_FRAME_START)])]
fn what_is_written_is_read(
    #[case] video: Option<CodecParameters>,
    #[case] sounds: Vec<(CodecParameters, &'static [u8])>,
    #[values(1, 100, 1316, 100_000)] cut: usize,
) {
    let mut show = show(video, &sounds, 3_000);
    if show.tracks.first(TrackKind::Video).is_some_and(|track| track.codec.name() == "HEVC") {
        // The same pictures with units as HEVC has them.
        for packet in show.packets.iter_mut().filter(|packet| packet.kind == TrackKind::Video) {
            let kind = if packet.random_access { 19 << 1 } else { 1 << 1 };
            let unit = [kind, 1, 0x80 | 0x11, packet.dts.ticks().to_be_bytes()[6] | 1, 0x33];
            packet.payload = [&[0, 0, 0, 5][..], &unit].concat().into();
        }
    }
    let (events, reader) = read(&written(&show), cut);
    compare(&show, &events);
    let counters = reader.counters();
    assert_eq!((counters.lost_packets, counters.damaged_units, counters.skipped_bytes), (0, 0, 0), "{counters:?}");
    let Some(StreamEvent::Program(streams)) = events.first() else { panic!("no program first") };
    for (stream, track) in streams.iter().zip(show.tracks.iter()) {
        assert_eq!((stream.kind, &stream.language), (track.id.kind(), &track.language.as_deref().map(str::to_owned)));
        assert_eq!(stream.name.as_deref(), track.name.as_deref());
    }
}

fn one_show() -> (Show, Vec<u8>) {
    let show = show(Some(h264()), &[(aac(), &[0x21])], 3_000);
    let raw = written(&show);
    (show, raw)
}

#[rstest]
#[case::with_time_stamps_before(4, 0)]
#[case::with_check_sums_behind(0, 16)]
fn longer_packets_are_read(#[case] before: usize, #[case] behind: usize, #[values(7, 204, 1344)] cut: usize) {
    let (show, raw) = one_show();
    let longer: Vec<u8> = raw
        .chunks(PACKET)
        .flat_map(|packet| [vec![0x11; before], packet.to_vec(), vec![0x22; behind]].concat())
        .collect();
    let (events, reader) = read(&longer, cut);
    compare(&show, &events);
    assert_eq!(reader.counters().lost_sync, 0);
}

/// Garbage costs the frames that it hits, and no others.
#[test]
fn packets_are_found_again_behind_garbage() {
    let (show, mut raw) = one_show();
    let middle = raw.len() / 2 / PACKET * PACKET + 50;
    raw.splice(middle..middle, [0x47, 0, 0x47, 1, 2, 3, 0xff]);
    let (events, reader) = read(&raw, 1316);
    assert!(reader.counters().lost_sync >= 1);
    let found = frames_of(&events, 0x100);
    let known: Vec<&Bytes> = show.packets.iter().map(|packet| &packet.payload).collect();
    assert!(found.iter().all(|(_, _, _, payload)| known.contains(&payload)), "a damaged picture came through");
    assert!(found.len() >= 48, "{}", found.len());
}

#[test]
fn a_lost_packet_is_counted_and_its_picture_left_out() {
    let (show, raw) = one_show();
    let lost = (raw.len() / 3 / PACKET..).find(|place| raw[place * PACKET + 1] == 0x01 && raw[place * PACKET + 2] == 0);
    let lost = lost.unwrap() * PACKET;
    let without = [&raw[..lost], &raw[lost + PACKET..]].concat();
    let (events, reader) = read(&without, 1316);
    assert_eq!(reader.counters().lost_packets, 1);
    let found = frames_of(&events, 0x100);
    let known: Vec<&Bytes> = show.packets.iter().map(|packet| &packet.payload).collect();
    assert!(found.iter().all(|(_, _, _, payload)| known.contains(&payload)));
    // One more is written behind the fifty.
    assert_eq!(found.len(), 50);
}

/// A packet may come twice (2.4.3.3).
#[test]
fn a_repeated_packet_is_taken_once() {
    let (show, raw) = one_show();
    let twice: Vec<u8> = raw.chunks(PACKET).flat_map(|packet| [packet, packet].concat()).collect();
    let (events, reader) = read(&twice, 1316);
    compare(&show, &events);
    assert_eq!(reader.counters().lost_packets, 0);
}

#[test]
fn times_wrap_after_33_bits() {
    let show = show(Some(h264()), &[(aac(), &[0x21])], 200);
    // The writer begins at three seconds and a half; so the wrap is 26.5 hours later.
    let jump = MediaTime::from_ticks((1 << 33) - 90_000 * 9 / 2);
    let mut first = show.packets[0].clone();
    first.dts = MediaTime::ZERO - jump;
    first.pts = first.dts;
    let mut writer = TsWriter::new();
    writer.set_tracks(&show.tracks);
    let mut out = Vec::new();
    writer.write(&first, &mut out);
    out.clear();
    show.packets.iter().for_each(|packet| writer.write(packet, &mut out));
    let (events, _) = read(&out, 1316);
    let times: Vec<i64> = frames_of(&events, 0x100).iter().map(|(_, dts, _, _)| *dts).collect();
    assert!(times.windows(2).all(|pair| pair[1] - pair[0] == 3_600), "{times:?}");
    assert!(times.iter().any(|time| *time >= 1 << 33));
}

#[test]
fn tracks_change_in_mid_stream() {
    let (show, _) = one_show();
    let mut writer = TsWriter::new();
    let mut raw = Vec::new();
    writer.set_tracks(&show.tracks);
    show.packets.iter().take(60).for_each(|packet| writer.write(packet, &mut raw));
    let mut more = show.tracks.clone();
    more.set(Track::new(TrackId(3), aac()));
    writer.set_tracks(&more);
    for packet in show.packets.iter().skip(60) {
        writer.write(packet, &mut raw);
        if packet.kind == TrackKind::Audio {
            writer.write(&Packet { track: TrackId(3), ..packet.clone() }, &mut raw);
        }
    }
    let (events, reader) = read(&raw, 1316);
    let programs: Vec<usize> = events
        .iter()
        .filter_map(|event| match event {
            StreamEvent::Program(streams) => Some(streams.len()),
            _ => None,
        })
        .collect();
    assert_eq!(programs, [2, 3]);
    assert_eq!(reader.counters().lost_packets, 0, "what stays is not disturbed");
    assert!(frames_of(&events, 0x103).len() > 20);
    assert_eq!(frames_of(&events, 0x101).len(), 60);
}

/// Pictures in the stream of others: start codes of three bytes, zeros behind, several pictures
/// in one PES packet, parameter sets that change.
#[test]
fn foreign_pictures_are_parted_right() {
    use super::streams::{Found, PictureCodec, Pictures};
    let CodecParameters::H264(config) = h264() else { panic!("no H.264") };
    let sets = config.parameter_sets();
    let three = [0, 0, 1];
    let stream = [
        &[0, 0, 0, 1, 9, 0xf0][..],
        &three,
        sets[0],
        &three,
        sets[1],
        &three,
        &[0x65, 0x88, 1, 2],
        &three,
        &[0x65, 0x40, 3, 0, 0],
        &[0, 0, 0, 1],
        &[0x41, 0x9a, 5],
        &three,
        &[0x41, 0x9a, 6],
    ]
    .concat();
    let mut found = Vec::new();
    let mut pictures = Pictures::new(PictureCodec::Avc);
    pictures.push((9_000, 6_000), (&stream[..]).into(), &mut found);
    let frames: Vec<_> = found
        .iter()
        .filter_map(|found| match found {
            Found::Frame { pts, dts, random_access, payload } => Some((*pts, *dts, *random_access, &payload[..])),
            _ => None,
        })
        .collect();
    let expected: [(i64, i64, bool, &[u8]); 3] = [
        (9_000, 6_000, true, &[0, 0, 0, 4, 0x65, 0x88, 1, 2, 0, 0, 0, 3, 0x65, 0x40, 3]),
        (12_000, 9_000, false, &[0, 0, 0, 3, 0x41, 0x9a, 5]),
        (15_000, 12_000, false, &[0, 0, 0, 3, 0x41, 0x9a, 6]),
    ];
    assert_eq!(frames, expected);
    assert_eq!(found[0], Found::Config(h264()));
    // The same sets again are no news; another one is.
    found.clear();
    let again = [&three[..], sets[1], &three, &[0x65, 0x88, 7]].concat();
    pictures.push((18_000, 18_000), (&again[..]).into(), &mut found);
    assert_eq!(found.len(), 1);
    found.clear();
    let changed = [&three[..], &[0x68, 0xce, 0x3c, 0x90], &three, &[0x65, 0x88, 7]].concat();
    pictures.push((21_000, 21_000), (&changed[..]).into(), &mut found);
    assert!(matches!(found[..], [Found::Config(_), Found::Frame { random_access: true, .. }]), "{found:?}");
    // An open group of pictures: a recovery point with nothing to wait for.
    found.clear();
    let open = [&three[..], &[6, 6, 1, 0x84, 0x80], &three, &[0x41, 0x88, 7]].concat();
    pictures.push((24_000, 24_000), (&open[..]).into(), &mut found);
    assert!(matches!(found[..], [Found::Frame { random_access: true, .. }]), "{found:?}");
}

/// Interlaced shows: the two fields of a frame, each with a delimiter of its own, stay together;
/// two frames in one PES packet do not.
#[test]
fn fields_of_a_frame_are_one_picture() {
    use super::streams::{Found, PictureCodec, Pictures};
    // Main profile, 720 x 576, four bits of frame_num, frame_mbs_only_flag 0.
    let sps = [0x67, 77, 0, 30, 0b1101_1001, 0b0100_0000, 0b1011_0100, 0b0010_0100, 0b1100_1000];
    let start: &[u8] = &[0, 0, 0, 1];
    let delimiter = [start, &[9, 0x10]].concat();
    // Macroblock 0 (1), slice type 7 (0001000), set 0 (1), frame_num, field_pic_flag 1, bottom_field_flag.
    let field = |kind: u8, frame: u8, bottom: u8| {
        let bits = 0b1_0001_0001_u32 << 6 | u32::from(frame) << 2 | 0b10 | u32::from(bottom);
        let [_, high, low, _] = (bits << 9).to_be_bytes();
        [&delimiter[..], start, &[0x60 | kind, high, low, 0x80, 0x77]].concat()
    };
    let mut pictures = Pictures::new(PictureCodec::Avc);
    let mut read = |payload: Vec<u8>, time: i64| -> Vec<(i64, bool, usize)> {
        let mut found = Vec::new();
        pictures.push((time, time), (&payload[..]).into(), &mut found);
        let frames = found.into_iter().filter_map(|found| match found {
            Found::Frame { dts, random_access, payload, .. } => Some((dts, random_access, payload.len())),
            _ => None,
        });
        frames.collect()
    };
    let sets = [&delimiter[..], start, &sps, start, &[0x68, 0xce, 0x3c, 0x80]].concat();
    // The first field of a keyframe is IDR, the second is predicted from it.
    let key = [&sets[..], &field(5, 0, 0), &field(1, 0, 1)].concat();
    assert_eq!(read(key, 0), [(0, true, 18)]);
    assert_eq!(read([field(1, 1, 0), field(1, 1, 1)].concat(), 3_600), [(3_600, false, 18)]);
    let four = [field(1, 2, 1), field(1, 2, 0), field(1, 3, 1), field(1, 3, 0)].concat();
    assert_eq!(read(four, 7_200), [(7_200, false, 18), (10_800, false, 18)]);
    assert_eq!(read([field(1, 4, 0), field(1, 5, 1)].concat(), 14_400).len(), 2, "a field is missing");
}

/// Frames over the ends of PES packets, and rubbish between them.
#[test]
fn foreign_sound_is_parted_right() {
    use super::streams::{Found, SoundCodec, Sounds};
    let adts = |number: u8| {
        let header = [0xff, 0xf1, 0x4c, 0x80, 0x02, 0x1f, 0xfc];
        [&header[..], &[number; 9]].concat()
    };
    let stream: Vec<u8> = (1..=6).flat_map(adts).collect();
    let mut sounds = Sounds::new(SoundCodec::AacAdts);
    let mut found = Vec::new();
    sounds.push(Some(90_000), (&stream[..20]).into(), &mut found);
    // The second frame began in the packet before; the time told is the third's.
    sounds.push(Some(93_900), (&stream[20..70]).into(), &mut found);
    sounds.push(None, (&stream[70..]).into(), &mut found);
    let times = |found: &[Found]| -> Vec<(i64, u8)> {
        let frames = found.iter().filter_map(|found| match found {
            Found::Frame { pts, payload, .. } => Some((*pts, payload[0])),
            _ => None,
        });
        frames.collect()
    };
    assert_eq!(times(&found), [(90_000, 1), (91_920, 2), (93_900, 3), (95_820, 4), (97_740, 5), (99_660, 6)]);
    found.clear();
    let dirty = [&[0xff, 0xf1, 9, 9, 9][..], &adts(7), &adts(8)].concat();
    sounds.push(Some(180_000), (&dirty[..]).into(), &mut found);
    assert_eq!(times(&found), [(180_000, 7), (181_920, 8)]);
    assert!(found.iter().any(|found| matches!(found, Found::Damaged(_))));
}

/// ISO/IEC 14496-3, 1.7: AudioMuxElement with a configuration, then one without.
#[test]
fn aac_in_latm_is_read() {
    use super::streams::{Found, SoundCodec, Sounds};
    fn bits(fields: &[(u32, usize)]) -> Vec<u8> {
        let all: Vec<bool> =
            fields.iter().flat_map(|(value, count)| (0..*count).rev().map(move |bit| value >> bit & 1 == 1)).collect();
        all.chunks(8)
            .map(|byte| byte.iter().enumerate().fold(0, |sum, (at, bit)| sum | u8::from(*bit) << (7 - at)))
            .collect()
    }
    fn framed(element: Vec<u8>) -> Vec<u8> {
        let [high, low] = u16::try_from(element.len()).unwrap().to_be_bytes();
        let head = [0x56, 0xe0 | high, low];
        [&head[..], &element].concat()
    }
    let config = [(0, 1), (0, 1), (1, 1), (0, 6), (0, 4), (0, 3)];
    // AAC-LC, 48 kHz, stereo; three bits of the general configuration.
    let specific = [(2, 5), (3, 4), (2, 4), (0, 3)];
    let rest = [(0, 3), (0xff, 8), (0, 1), (0, 1)];
    let payload = [(3, 8), (0xab, 8), (0xcd, 8), (0xef, 8)];
    let first = framed(bits(&[&config[..], &specific, &rest, &payload].concat()));
    let second = framed(bits(&[&[(1, 1)][..], &[(2, 8), (0x12, 8), (0x34, 8)]].concat()));
    let mut found = Vec::new();
    let mut sounds = Sounds::new(SoundCodec::AacLatm);
    sounds.push(Some(0), (&[first, second].concat()[..]).into(), &mut found);
    let payloads: Vec<_> = found
        .iter()
        .filter_map(|found| match found {
            Found::Frame { pts, payload, .. } => Some((*pts, payload.to_vec())),
            _ => None,
        })
        .collect();
    assert_eq!(payloads, [(0, vec![0xab, 0xcd, 0xef]), (1_920, vec![0x12, 0x34])]);
    assert_eq!(found[0], Found::Config(aac()));
}

/// ISO/IEC 13818-1, 2.4.4.5 and 2.4.4.9, written by hand.
#[test]
fn tables_are_read() {
    let pat = [
        0x00, 0xb0, 0x11, 0x00, 0x01, 0xc1, 0x00, 0x00, // table 0, 17 bytes, stream 1, version 0, current
        0x00, 0x00, 0xe0, 0x10, // the network's
        0x00, 0x01, 0xf0, 0x00, // program 1 at 0x1000
        0, 0, 0, 0,
    ];
    assert_eq!(parse_pat(&pat), Some(vec![(1, 0x1000)]));
    let mut later = pat;
    later[5] = 0xc0;
    assert_eq!(parse_pat(&later), None, "not in force yet");
    let pmt = [
        0x02, 0xb0, 0x3a, 0x00, 0x01, 0xc3, 0x00, 0x00, // table 2, program 1, version 1
        0xe1, 0x00, 0xf0, 0x00, // clock at 0x100, no descriptors
        0x1b, 0xe1, 0x00, 0xf0, 0x00, // H.264
        0x0f, 0xe1, 0x01, 0xf0, 0x06, 0x0a, 0x04, b'g', b'e', b'r', 0x00, // AAC, German
        0x06, 0xe1, 0x02, 0xf0, 0x0a, 0x05, 0x04, b'O', b'p', b'u', b's', 0x7f, 0x02, 0x80, 0x02, // Opus
        0x06, 0xe1, 0x03, 0xf0, 0x06, 0x05, 0x04, b'K', b'L', b'V', b'A', // something private
        0x02, 0xe1, 0x04, 0xf0, 0x00, // MPEG-2 video
        0, 0, 0, 0,
    ];
    let map = parse_pmt(&pmt).unwrap();
    assert_eq!((map.program, map.version, map.pcr_pid), (1, 1, 0x100));
    let streams: Vec<_> = map.streams.iter().map(|stream| (stream.pid, &stream.codec)).collect();
    assert_eq!(
        streams,
        [
            (0x100, &StreamCodec::Avc),
            (0x101, &StreamCodec::AacAdts),
            (0x102, &StreamCodec::Opus(2)),
            (0x103, &StreamCodec::Other("private data `KLVA`".to_owned())),
            (0x104, &StreamCodec::Other("MPEG-2 video".to_owned())),
        ]
    );
    assert_eq!(map.streams[1].language.as_deref(), Some("de"));
    assert_eq!(parse_pmt(&pmt[..40]), None, "cut");
}

/// Encoders over RTMP send delimiters too; each picture had two then, and was two to a receiver.
#[rstest]
#[case::avc(h264(), &[9, 0x10], &[0x65, 0x88, 1])]
#[case::hevc(hevc(), &[0x46, 1, 0x50], &[0x26, 1, 0x80])]
fn pictures_have_one_delimiter(#[case] codec: CodecParameters, #[case] delimiter: &[u8], #[case] slice: &[u8]) {
    let units =
        [delimiter, slice].map(|unit| [&[0, 0, 0, u8::try_from(unit.len()).unwrap()][..], unit].concat()).concat();
    let (track, kind, dts) = (TrackId::VIDEO, TrackKind::Video, MediaTime::ZERO);
    let mut writer = TsWriter::new();
    let mut tracks = Tracks::new();
    tracks.set(Track::new(track, codec));
    writer.set_tracks(&tracks);
    let mut raw = Vec::new();
    writer.write(&Packet { track, kind, dts, pts: dts, random_access: true, payload: units.into() }, &mut raw);
    let count = |unit: &[u8]| raw.windows(unit.len()).filter(|window| *window == unit).count();
    assert_eq!(count(&[&[0, 0, 1], &delimiter[..1]].concat()), 1);
    assert_eq!(count(&[&[0, 0, 1], slice].concat()), 1);
}

/// A map of one packet, of several, and one whose names would not fit a section.
#[rstest]
#[case::short(1, 0)]
#[case::several_packets(8, 60)]
#[case::too_long_with_names(15, 100)]
fn maps_of_any_length_are_read(#[case] count: u8, #[case] name_length: usize) {
    let mut show = show(Some(h264()), &vec![(aac(), &[0x21][..]); count.into()], 100);
    let sounds: Vec<Track> = show.tracks.iter().filter(|track| track.id.kind() == TrackKind::Audio).cloned().collect();
    for track in sounds {
        show.tracks.set(Track { language: Some("en".into()), name: Some("n".repeat(name_length).into()), ..track });
    }
    let raw = written(&show);
    let (events, reader) = read(&raw, 1316);
    let Some(StreamEvent::Program(streams)) = events.first() else { panic!("no program") };
    assert_eq!((streams.len(), reader.damage_count()), (usize::from(count) + 1, 0));
    assert!(streams.iter().skip(1).all(|stream| stream.language.as_deref() == Some("en")));
    assert_eq!(streams[1].name.is_some(), (1..100).contains(&name_length));
    // Each PID counts its packets with payload for itself (2.4.3.3).
    let mut counters = std::collections::BTreeMap::new();
    for packet in raw.chunks(PACKET).map(|raw| TsPacket::parse(raw.try_into().unwrap()).unwrap()) {
        let last = counters.insert(packet.pid, packet.continuity);
        let step = u8::from(packet.payload.is_some());
        assert!(last.is_none_or(|last| (last + step) & 0xf == packet.continuity), "{:#x} after {last:?}", packet.pid);
    }
}

/// Pictures that go on in PES packets without a time, since one can tell no more than 64 KiB.
#[test]
fn pictures_over_several_pes_packets_are_joined() {
    let packet = |continuity: &mut u8, pid: u16, starts: bool, payload: &[u8]| {
        let [high, low] = pid.to_be_bytes();
        let stuffing = PACKET - 4 - payload.len();
        let mut raw = vec![0x47, high | if starts { 0x40 } else { 0 }, low, 0x30 | *continuity];
        *continuity = (*continuity + 1) & 0xf;
        raw.push(u8::try_from(stuffing - 1).unwrap());
        raw.extend(if stuffing > 1 { vec![0] } else { Vec::new() });
        raw.resize(PACKET - payload.len(), 0xff);
        raw.extend_from_slice(payload);
        raw
    };
    let (mut pictures, mut tables) = (0, 0);
    let table = |continuity: &mut u8, pid, section: Vec<u8>| {
        *continuity = 0;
        packet(continuity, pid, true, &[&[0][..], &section].concat())
    };
    let mut raw = table(&mut tables, 0, write_pat(1, 0x1000, 0));
    let streams = [WrittenStream { kind: 0x1b, pid: 0x100, descriptors: Vec::new() }];
    raw.extend(table(&mut tables, 0x1000, write_pmt(1, 0, 0x100, &streams)));
    let mut clock = 900_000;
    for number in 0..5_u8 {
        // An IDR slice, whose second half comes by itself.
        let first = [&[0, 0, 1, 0x65, 0x88, number][..], &[7; 90]].concat();
        let mut timed = vec![0, 0, 1, 0xe0, 0, 0, 0x80, 0x80, 5];
        let pts = |shift: u32| u8::try_from(clock >> shift & 0xff).unwrap();
        timed.extend([0x21 | pts(30) << 1 & 0xe, pts(22), pts(14) | 1, pts(7), pts(0) << 1 | 1]);
        raw.extend(packet(&mut pictures, 0x100, true, &[timed, first].concat()));
        let untimed = [&[0, 0, 1, 0xe0, 0, 0, 0x80, 0, 0][..], &[9; 80]].concat();
        raw.extend(packet(&mut pictures, 0x100, true, &untimed));
        clock += 3_600;
    }
    let (mut events, mut reader) = read(&raw, 1316);
    reader.finish(&mut events);
    let frames = frames_of(&events, 0x100);
    // How it is with this encoder is learned from the first.
    assert_eq!(reader.counters().damaged_units, 1);
    assert_eq!(frames.len(), 5, "{frames:?}");
    for (number, (pts, _, _, payload)) in (1..).zip(&frames[1..]) {
        assert_eq!((payload[6], payload.len()), (number, 4 + 3 + 90 + 80));
        assert_eq!(pts - frames[0].0, i64::from(number) * 3_600);
    }
}

/// What is not carried is named, and its packets are counted.
#[test]
fn streams_that_are_not_carried_are_counted() {
    let packet = |pid: u16, payload: &[u8]| {
        let [high, low] = pid.to_be_bytes();
        let mut raw = vec![0x47, high | 0x40, low, 0x10];
        raw.extend_from_slice(payload);
        raw.resize(PACKET, 0xff);
        raw
    };
    let table = |pid: u16, section: Vec<u8>| packet(pid, &[&[0][..], &section].concat());
    let stream = |kind, pid| WrittenStream { kind, pid, descriptors: Vec::new() };
    let streams = [stream(0x1b, 0x100), stream(0x02, 0x104), stream(0x06, 0x105)];
    let mut raw = [table(0, write_pat(1, 0x1000, 0)), table(0x1000, write_pmt(1, 0, 0x100, &streams))].concat();
    for number in 0..9 {
        raw.extend(packet(if number % 3 == 0 { 0x105 } else { 0x104 }, &[number]));
    }
    let (_, reader) = read(&raw, 1316);
    let uncarried = reader.counters().uncarried;
    let told: Vec<_> = uncarried.iter().map(|(pid, stream)| (*pid, stream.name.as_str(), stream.packets)).collect();
    assert_eq!(told, [(0x104, "MPEG-2 video", 6), (0x105, "private data", 3)]);
}

proptest! {
    #[test]
    fn any_bytes_do_no_harm(raw in prop::collection::vec(any::<u8>(), 0..3_000), cut in 1..400_usize) {
        let _ = read(&raw, cut);
    }

    /// A stream in which any bytes are changed.
    #[test]
    fn any_damage_does_no_harm(hits in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..60)) {
        let (_, mut raw) = one_show();
        for (place, byte) in hits {
            let place = place.index(raw.len());
            raw[place] = byte;
        }
        let (events, _) = read(&raw, 1316);
        prop_assert!(events.len() < 1_000);
    }
}
