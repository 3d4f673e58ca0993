//! The writer and the reader against each other.

use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;
use waverant_media::testing::{self, h264_and_aac as tracks};
use waverant_media::{MediaTime, Packet, TrackId, TrackKind, Tracks};

use super::boxes::{BoxWriter, find_box};
use super::{FragmentWriter, Mp4File};
use crate::parts::Mp4Error;
use crate::{FileHead, WriterError};

fn video(dts_ms: i64, composition_ms: i64, keyframe: bool) -> Packet {
    Packet {
        track: TrackId::VIDEO,
        kind: TrackKind::Video,
        dts: MediaTime::from_millis(dts_ms),
        pts: MediaTime::from_millis(dts_ms + composition_ms),
        random_access: keyframe,
        payload: Bytes::from(format!("picture {dts_ms}")),
    }
}

fn audio(dts_ms: i64) -> Packet {
    Packet {
        track: TrackId::AUDIO,
        kind: TrackKind::Audio,
        dts: MediaTime::from_millis(dts_ms),
        pts: MediaTime::from_millis(dts_ms),
        random_access: true,
        payload: Bytes::from(format!("sound {dts_ms}")),
    }
}

/// Writes packets as a recorder would: fragments appended, patches applied at the end.
fn write(packets: &[Packet]) -> Vec<u8> {
    let mut writer = FragmentWriter::new(&tracks(), &FileHead::default()).unwrap();
    let mut file = Vec::new();
    for packet in packets {
        if let Some(fragment) = writer.push(packet).unwrap() {
            file.extend(fragment.segments.concat());
        }
    }
    let (last, patches) = writer.finish();
    file.extend(last.map(|fragment| fragment.segments.concat()).unwrap_or_default());
    for patch in patches {
        let at = usize::try_from(patch.offset).unwrap();
        file[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
    }
    file
}

/// 30 pictures a second with B-frame reordering, and 48 kHz sound with rounded milliseconds.
fn show(seconds: i64) -> Vec<Packet> {
    let pictures = (0..seconds * 30).map(|n| video(1000 + n * 1000 / 30, [66, 133, 33][(n % 3) as usize], n % 60 == 0));
    let sound = (0..seconds * 48_000 / 1024).map(|n| audio(1010 + n * 1024 / 48));
    let mut packets: Vec<Packet> = pictures.chain(sound).collect();
    packets.sort_by_key(|packet| packet.dts);
    packets
}

fn payloads(packets: &[Packet], kind: TrackKind) -> Vec<&Bytes> {
    packets.iter().filter(|packet| packet.kind == kind).map(|packet| &packet.payload).collect()
}

#[test]
fn a_show_comes_back_whole() {
    let packets = show(5);
    let file = Mp4File::parse(&Bytes::from(write(&packets))).unwrap();
    assert!(!file.truncated);
    let [picture, sound] = &file.tracks[..] else { panic!("{} tracks", file.tracks.len()) };
    assert_eq!(picture.codec, tracks().get(TrackId::VIDEO).map(|track| track.codec.clone()));
    assert_eq!(sound.codec, tracks().get(TrackId::AUDIO).map(|track| track.codec.clone()));
    let read = |samples: &[super::Mp4Sample]| samples.iter().map(|sample| sample.payload.clone()).collect::<Vec<_>>();
    assert!(read(&picture.samples).iter().eq(payloads(&packets, TrackKind::Video)));
    assert!(read(&sound.samples).iter().eq(payloads(&packets, TrackKind::Audio)));
}

#[test]
fn the_presentation_starts_at_zero_and_keeps_the_offset_between_tracks() {
    let file = Mp4File::parse(&Bytes::from(write(&show(3)))).unwrap();
    let first = |track: usize| file.tracks[track].samples.iter().map(|sample| sample.pts).min().unwrap();
    // Sound comes first at 1010 ms; the earliest presented picture is that of 1066 ms.
    assert_eq!(first(1), MediaTime::ZERO);
    let offset = first(0).millis();
    assert!((55..=57).contains(&offset), "picture {offset} ms behind the sound");
}

/// An edit on sound is read as the encoder's priming by browsers and container tools, and its sound
/// comes early by what pictures are shown late.
#[rstest]
#[case::no_reordering(0)]
#[case::one_picture(33)]
#[case::two_pictures(67)]
#[case::pyramid(133)]
fn sound_has_no_edit_and_stands_right_against_the_shown_picture(#[case] reordering: i64) {
    // A flash and a beep at 1500 ms.
    let pictures = (0..30).map(|n| video(1000 + n * 100 / 3, reordering, n % 15 == 0));
    let sound = (0..40).map(|n| audio(1000 + reordering + n * 1024 / 48));
    let mut packets: Vec<Packet> = pictures.chain(sound).collect();
    packets.sort_by_key(|packet| packet.dts);
    let raw = write(&packets);
    let places = |name: &[u8]| {
        raw.windows(4).enumerate().filter(|(_, found)| *found == name).map(|(at, _)| at).collect::<Vec<_>>()
    };
    assert_eq!(places(b"elst").len(), usize::from(reordering > 0), "pictures alone have an edit");
    let times: Vec<u64> =
        places(b"tfdt").iter().map(|at| u64::from_be_bytes(raw[at + 8..at + 16].try_into().unwrap())).collect();
    assert_eq!(times[..2], [0, 0], "both begin at once, in their own clocks");
    let file = Mp4File::parse(&Bytes::from(raw)).unwrap();
    let first = |track: usize| file.tracks[track].samples.iter().map(|sample| sample.pts).min().unwrap();
    assert_eq!((first(0), first(1)), (MediaTime::ZERO, MediaTime::ZERO));
}

#[test]
fn sound_follows_the_sample_count_instead_of_rounded_milliseconds() {
    let file = Mp4File::parse(&Bytes::from(write(&show(10)))).unwrap();
    let times: Vec<i64> = file.tracks[1].samples.iter().map(|sample| sample.dts.ticks()).collect();
    assert!(times.windows(2).all(|pair| pair[1] - pair[0] == 1920), "1024 samples at 48 kHz are 1920 ticks");
}

/// Found by the property below: the third frame was set back before the second.
#[test]
fn sound_that_is_too_slow_for_its_samples_never_goes_back() {
    let packets = [audio(0), audio(2), video(2, 0, true), audio(2), audio(4), audio(1200), video(1300, 0, true)];
    let file = Mp4File::parse(&Bytes::from(write(&packets))).unwrap();
    let times: Vec<i64> = file.tracks[1].samples.iter().map(|sample| sample.dts.millis()).collect();
    assert!(times.is_sorted(), "{times:?}");
    assert_eq!(times.last(), Some(&1200), "and it is in time again as soon as it can be");
}

#[test]
fn a_gap_in_the_sound_stays_a_gap() {
    let packets = [video(0, 0, true), audio(0), audio(21), audio(500), video(600, 0, true)];
    let file = Mp4File::parse(&Bytes::from(write(&packets))).unwrap();
    let times: Vec<i64> = file.tracks[1].samples.iter().map(|sample| sample.dts.millis()).collect();
    assert_eq!(times, [0, 21, 500]);
}

#[test]
fn durations_are_in_the_head_after_the_end() {
    let bytes = write(&show(4));
    let at = bytes.windows(4).position(|window| window == b"mehd").unwrap() + 8;
    let ticks = u64::from_be_bytes(bytes[at..at + 8].try_into().unwrap());
    let seconds = ticks as f64 / 90_000.0;
    assert!((3.9..4.2).contains(&seconds), "mehd says {seconds} s");
}

#[test]
fn fragments_end_at_keyframes_and_at_half_a_second() {
    let mut writer = FragmentWriter::new(&tracks(), &FileHead::default()).unwrap();
    let mut cuts = Vec::new();
    for packet in show(4).into_iter().filter(|packet| packet.kind == TrackKind::Video) {
        if writer.push(&packet).unwrap().is_some() {
            cuts.push(packet.dts.millis());
        }
    }
    assert_eq!(cuts, [1500, 2000, 2500, 3000, 3500, 4000, 4500]);
}

#[test]
fn payloads_are_not_copied() {
    let mut writer = FragmentWriter::new(&tracks(), &FileHead::default()).unwrap();
    let packet = video(0, 0, true);
    writer.push(&packet).unwrap();
    let fragment = writer.finish().0.unwrap();
    assert!(fragment.segments.iter().any(|segment| segment.as_ptr() == packet.payload.as_ptr()));
}

#[test]
fn a_cut_at_any_byte_leaves_a_prefix() {
    let packets = show(3);
    let whole = Bytes::from(write(&packets));
    let head = whole.windows(4).position(|window| window == b"moof").unwrap() - 4;
    let expected = payloads(&packets, TrackKind::Video);
    for length in (head..whole.len()).step_by(97) {
        let file = Mp4File::parse(&whole.slice(..length)).unwrap();
        let read: Vec<&Bytes> = file.tracks[0].samples.iter().map(|sample| &sample.payload).collect();
        assert!(expected.starts_with(&read), "cut at {length}");
    }
    assert_eq!(Mp4File::parse(&whole.slice(..20)).unwrap_err(), Mp4Error::NoMovie);
}

#[test]
fn tracks_that_the_file_was_not_begun_with_are_refused() {
    let mut writer = FragmentWriter::new(&tracks(), &FileHead::default()).unwrap();
    let stranger = Packet { track: TrackId(9), ..audio(0) };
    assert_eq!(writer.push(&stranger).unwrap_err(), WriterError::UnknownTrack(TrackId(9)));
    assert_eq!(FragmentWriter::new(&Tracks::new(), &FileHead::default()).unwrap_err(), WriterError::NoTracks);
}

#[test]
fn av1_is_written_without_temporal_delimiters() {
    let mut writer =
        FragmentWriter::new(&testing::tracks([(TrackId::VIDEO, testing::av1())]), &FileHead::default()).unwrap();
    for (millis, payload) in [(0, &[0x12, 0, 0x32, 1][..]), (33, &[0x32, 2])] {
        writer.push(&Packet { payload: Bytes::from_static(payload), ..video(millis, 0, millis == 0) }).unwrap();
    }
    let file = Mp4File::parse(&writer.finish().0.unwrap().segments.concat().into()).unwrap();
    let payloads: Vec<&[u8]> = file.tracks[0].samples.iter().map(|sample| &sample.payload[..]).collect();
    assert_eq!(payloads, [&[0x32, 1], &[0x32, 2]]);
}

#[test]
fn packets_of_opus_last_as_long_as_they_say() {
    let tracks = testing::tracks([(TrackId::AUDIO, testing::opus())]);
    let mut writer = FragmentWriter::new(&tracks, &FileHead::default()).unwrap();
    // Frames of 20 and of 60 ms.
    for (millis, toc) in [(0, 31 << 3), (20, 3 << 3), (80, 31 << 3)] {
        writer.push(&Packet { payload: Bytes::from(vec![toc, 1, 2]), ..audio(millis) }).unwrap();
    }
    let file = Mp4File::parse(&writer.finish().0.unwrap().segments.concat().into()).unwrap();
    let lasts: Vec<i64> = file.tracks[0].samples.iter().map(|sample| sample.duration.millis()).collect();
    assert_eq!(lasts, [20, 60, 20]);
}

/// Writes packets of pictures without fragments: three samples to a chunk, the index at the end.
fn write_plain(packets: &[Packet]) -> Vec<u8> {
    let mut file = BoxWriter::new();
    file.boxed(b"ftyp", |out| {
        out.bytes(b"isom").u32(0);
    });
    let chunks: Vec<&[Packet]> = packets.chunks(3).collect();
    let mut places = Vec::new();
    file.boxed(b"mdat", |out| {
        for chunk in &chunks {
            out.bytes(b"between");
            places.push(u32::try_from(out.len()).unwrap());
            chunk.iter().for_each(|packet| {
                out.bytes(&packet.payload);
            });
        }
    });
    let count = |length: usize| u32::try_from(length).unwrap();
    let steps: Vec<i64> = packets.windows(2).map(|pair| (pair[1].dts - pair[0].dts).ticks()).chain([3000]).collect();
    let syncs: Vec<u32> =
        (1..).zip(packets).filter(|(_, packet)| packet.random_access).map(|(number, _)| number).collect();
    // The description of the track is taken from a file with fragments.
    let described = Bytes::from(write(&packets[..1]));
    let movie = find_box(&described, 0, b"moov").unwrap();
    let media = find_box(&find_box(&movie, 0, b"trak").unwrap(), 0, b"mdia").unwrap();
    let table = find_box(&find_box(&media, 0, b"minf").unwrap(), 0, b"stbl").unwrap();
    let entry = find_box(&table, 0, b"stsd").unwrap();
    file.boxed(b"moov", |out| {
        out.boxed(b"trak", |out| {
            out.boxed(b"tkhd", |out| {
                out.u32(0).u32(0).u32(0).u32(7);
            });
            out.boxed(b"mdia", |out| {
                out.boxed(b"mdhd", |out| {
                    out.u32(0).u32(0).u32(0).u32(90_000).u32(0);
                });
                out.boxed(b"minf", |out| {
                    out.boxed(b"stbl", |out| {
                        out.boxed(b"stsd", |out| {
                            out.bytes(&entry);
                        });
                        out.boxed(b"stts", |out| {
                            out.u32(0).u32(count(steps.len()));
                            steps.iter().for_each(|step| {
                                out.u32(1).u32(u32::try_from(*step).unwrap());
                            });
                        });
                        out.boxed(b"ctts", |out| {
                            out.u32(0).u32(count(packets.len()));
                            let offset = |packet: &Packet| i32::try_from((packet.pts - packet.dts).ticks()).unwrap();
                            packets.iter().for_each(|packet| {
                                out.u32(1).i32(offset(packet));
                            });
                        });
                        out.boxed(b"stss", |out| {
                            out.u32(0).u32(count(syncs.len()));
                            syncs.iter().for_each(|sync| {
                                out.u32(*sync);
                            });
                        });
                        out.boxed(b"stsz", |out| {
                            out.u32(0).u32(0).u32(count(packets.len()));
                            packets.iter().for_each(|packet| {
                                out.u32(count(packet.payload.len()));
                            });
                        });
                        let last = count(chunks.last().unwrap().len());
                        out.boxed(b"stsc", |out| {
                            out.u32(0).u32(2).u32(1).u32(3).u32(1).u32(count(chunks.len())).u32(last).u32(1);
                        });
                        out.boxed(b"stco", |out| {
                            out.u32(0).u32(count(places.len()));
                            places.iter().for_each(|place| {
                                out.u32(*place);
                            });
                        });
                    });
                });
            });
        });
    });
    file.into_bytes()
}

fn pictures(seconds: i64) -> Vec<Packet> {
    show(seconds).into_iter().filter(|packet| packet.kind == TrackKind::Video).collect()
}

#[test]
fn a_file_without_fragments_is_read() {
    let packets = pictures(2);
    let file = Mp4File::parse(&write_plain(&packets[..50]).into()).unwrap();
    let track = &file.tracks[0];
    assert_eq!((track.number, file.truncated), (7, false));
    let read: Vec<&Bytes> = track.samples.iter().map(|sample| &sample.payload).collect();
    assert_eq!(read, payloads(&packets[..50], TrackKind::Video));
    for (sample, packet) in track.samples.iter().zip(&packets) {
        assert_eq!(sample.dts, packet.dts - packets[0].dts);
        assert_eq!((sample.pts - sample.dts, sample.sync), (packet.pts - packet.dts, packet.random_access));
    }
}

#[test]
fn a_table_that_promises_more_than_there_is_ends_with_the_file() {
    let mut bytes = write_plain(&pictures(1));
    let at = bytes.windows(4).position(|window| window == b"stsz").unwrap();
    // One size of a byte for four billion samples, three billion to a chunk.
    bytes[at + 8..at + 12].copy_from_slice(&1u32.to_be_bytes());
    bytes[at + 12..at + 16].copy_from_slice(&u32::MAX.to_be_bytes());
    let at = bytes.windows(4).position(|window| window == b"stsc").unwrap();
    bytes[at + 16..at + 20].copy_from_slice(&3_000_000_000u32.to_be_bytes());
    let length = bytes.len();
    let file = Mp4File::parse(&bytes.into()).unwrap();
    assert!(file.tracks[0].samples.len() <= length);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_packets_come_back(steps in proptest::collection::vec((0i64..200, 0i64..100, any::<bool>(), any::<bool>()), 1..120)) {
        let mut now = 0;
        let mut packets = Vec::new();
        for (step, composition, is_audio, keyframe) in steps {
            now += step;
            packets.push(if is_audio { audio(now) } else { video(now, composition, keyframe) });
        }
        let file = Mp4File::parse(&Bytes::from(write(&packets))).unwrap();
        for (track, kind) in file.tracks.iter().zip([TrackKind::Video, TrackKind::Audio]) {
            let read: Vec<&Bytes> = track.samples.iter().map(|sample| &sample.payload).collect();
            prop_assert_eq!(read, payloads(&packets, kind));
            prop_assert!(track.samples.windows(2).all(|pair| pair[0].dts <= pair[1].dts));
            // No sample lasts into the next one; one tick is lost to rounding.
            let tick = MediaTime::from_ticks(1);
            prop_assert!(track.samples.windows(2).all(|pair| pair[0].dts + pair[0].duration <= pair[1].dts + tick));
        }
    }

    #[test]
    fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        let _ = Mp4File::parse(&Bytes::from(bytes));
    }

    #[test]
    fn a_flipped_bit_in_a_plain_file_never_panics(at in 0usize..6000, bit in 0u8..8) {
        let mut bytes = write_plain(&pictures(1));
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        let _ = Mp4File::parse(&Bytes::from(bytes));
    }

    #[test]
    fn a_flipped_bit_never_panics(at in 0usize..6000, bit in 0u8..8) {
        let mut bytes = write(&show(1));
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        let _ = Mp4File::parse(&Bytes::from(bytes));
    }
}
