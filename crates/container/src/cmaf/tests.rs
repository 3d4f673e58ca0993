//! Headers and pieces, read back by the reader of files.

use bytes::Bytes;
use rstest::rstest;
use waverant_media::testing::{AC3_FRAME_START, EAC3_FRAME_START, FLAC_HEADER, aac, av1, h264, hevc, opus};
use waverant_media::{
    Ac3Config, CodecParameters, FlacConfig, MediaTime, Mp3Config, Packet, TICKS_PER_SECOND, Track, TrackId, TrackKind,
    Vp9Config,
};

use super::{CmafSample, CmafTimeline, write_cmaf_header, write_cmaf_piece};
use crate::Mp4File;

fn track(codec: CodecParameters) -> Track {
    let id = if codec.kind() == TrackKind::Video { TrackId::VIDEO } else { TrackId::AUDIO };
    Track::new(id, codec)
}

fn packet(track: &Track, dts: i64, pts: i64, random_access: bool) -> Packet {
    Packet {
        track: track.id,
        kind: track.codec.kind(),
        dts: MediaTime::from_ticks(dts),
        pts: MediaTime::from_ticks(pts),
        random_access,
        payload: Bytes::from([[0, 0, 0, 9, 0x41].as_slice(), &dts.to_be_bytes()].concat()),
    }
}

fn file_of(track: &Track, timeline: &CmafTimeline, pieces: &[&[CmafSample]]) -> Mp4File {
    let mut file = write_cmaf_header(track, timeline, Some((640, 360))).to_vec();
    for (sequence, samples) in (1..).zip(pieces) {
        let piece = write_cmaf_piece(track.codec.kind(), sequence, samples);
        assert_eq!(piece.size_bytes, piece.segments.iter().map(|segment| segment.len() as u64).sum::<u64>());
        file.extend(piece.segments.concat());
    }
    Mp4File::parse(&file.into()).unwrap()
}

#[rstest]
#[case::h264(h264())]
#[case::hevc(hevc())]
#[case::av1(av1())]
#[case::vp9(CodecParameters::Vp9(Vp9Config::parse(Bytes::from_static(&[0, 31, 0x82, 1, 1, 1, 0, 0])).unwrap()))]
#[case::aac(aac())]
#[case::opus(opus())]
#[case::flac(CodecParameters::Flac(FlacConfig::parse(Bytes::from_static(FLAC_HEADER)).unwrap()))]
#[case::ac3(CodecParameters::Ac3(Ac3Config::parse(AC3_FRAME_START).unwrap()))]
#[case::eac3(CodecParameters::Ac3(Ac3Config::parse(EAC3_FRAME_START).unwrap()))]
#[case::mp3(CodecParameters::Mp3(Mp3Config::from_format(44_100, 2)))]
fn a_header_tells_the_codec_and_pieces_hold_the_samples(#[case] codec: CodecParameters) {
    let track = track(codec);
    let mut timeline = CmafTimeline::new(&track, MediaTime::ZERO);
    let length = timeline
        .codec()
        .sound()
        .map_or(3600, |sound| i64::from(sound.samples_per_frame) * TICKS_PER_SECOND / i64::from(sound.sample_rate));
    let packets: Vec<Packet> = (0..6).map(|n| packet(&track, n * length, n * length, n == 0)).collect();
    let samples: Vec<CmafSample> = packets.iter().map(|packet| timeline.place(packet)).collect();
    let file = file_of(&track, &timeline, &[&samples[..2], &samples[2..]]);
    let [read] = &file.tracks[..] else { panic!("{} tracks", file.tracks.len()) };
    assert_eq!(read.codec.as_ref().map(CodecParameters::codec_string), Some(track.codec.codec_string()));
    let payloads = read.samples.iter().map(|sample| &sample.payload);
    assert!(payloads.eq(packets.iter().map(|packet| &packet.payload)));
}

#[test]
fn reordered_pictures_keep_their_times_and_keyframes_their_mark() {
    let track = track(h264());
    let mut timeline = CmafTimeline::new(&track, MediaTime::from_millis(-10_000));
    let packets: Vec<Packet> = (0..12)
        .map(|n| packet(&track, n * 3003, (n + [2, 4, 1][usize::try_from(n % 3).unwrap()]) * 3003, n % 6 == 0))
        .collect();
    let mut samples: Vec<CmafSample> = packets.iter().map(|packet| timeline.place(packet)).collect();
    for place in 1..samples.len() {
        let next = samples[place].clone();
        timeline.settle(&mut samples[place - 1], &next, 90_000);
    }
    assert_eq!((samples[0].duration, samples[0].decode_time), (3003, 900_000));
    let file = file_of(&track, &timeline, &[&samples]);
    for (packet, sample) in packets.iter().zip(&file.tracks[0].samples) {
        let told =
            (sample.dts - MediaTime::from_millis(10_000), sample.pts - MediaTime::from_millis(10_000), sample.sync);
        assert_eq!(told, (packet.dts, packet.pts, packet.random_access));
    }
}

#[test]
fn a_picture_that_is_long_missing_is_a_hole_and_not_a_long_picture() {
    let track = track(h264());
    let mut timeline = CmafTimeline::new(&track, MediaTime::ZERO);
    let [mut first, second] = [0, 900_000].map(|dts| timeline.place(&packet(&track, dts, dts, true)));
    timeline.settle(&mut first, &second, 18_000);
    assert_eq!((first.duration, second.decode_time), (18_000, 900_000));
}

#[test]
fn sound_follows_its_samples_and_never_overlaps() {
    let track = track(aac());
    let mut timeline = CmafTimeline::new(&track, MediaTime::ZERO);
    // Rounded to milliseconds, then a hole, then times that go back.
    let times = [0, 21, 42, 64, 500, 521, 430];
    let samples = times.map(|time| timeline.place(&packet(&track, time * 90, time * 90, true)));
    let placed: Vec<u64> = samples.iter().map(|sample| sample.decode_time).collect();
    assert_eq!(placed, [0, 1024, 2048, 3072, 24_000, 25_024, 26_048]);
    timeline.begin_anew();
    let later = timeline.place(&packet(&track, 570 * 90, 570 * 90, true));
    assert_eq!(later.decode_time, 27_360, "what the count says does not hold any more");
}

#[test]
fn a_piece_says_only_what_differs() {
    let track = track(aac());
    let mut timeline = CmafTimeline::new(&track, MediaTime::ZERO);
    let samples: Vec<CmafSample> = (0..9).map(|n| timeline.place(&packet(&track, n * 1920, n * 1920, true))).collect();
    let piece = write_cmaf_piece(TrackKind::Audio, 1, &samples);
    // moof 8, mfhd 16, traf 8, tfhd 24, tfdt 20, trun 20 and a size each, mdat 8.
    assert_eq!(piece.segments[0].len(), 104 + 9 * 4);
    assert!(piece.segments[1..].iter().zip(&samples).all(|(sent, sample)| sent.as_ptr() == sample.payload.as_ptr()));
    assert_eq!(write_cmaf_piece(TrackKind::Audio, 1, &[]).size_bytes, 0);
}
