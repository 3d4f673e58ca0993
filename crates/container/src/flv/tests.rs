use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;
use waverant_media::TrackKind;

use super::*;

fn video(body: &[u8]) -> Result<(Vec<TagPart>, u32), FlvError> {
    let mut parts = Vec::new();
    let time = parse_video_tag(&Bytes::copy_from_slice(body), &mut parts)?;
    Ok((parts, time.offset_nanos))
}

fn audio(body: &[u8]) -> Result<(Vec<TagPart>, u32), FlvError> {
    let mut parts = Vec::new();
    let time = parse_audio_tag(&Bytes::copy_from_slice(body), &mut parts)?;
    Ok((parts, time.offset_nanos))
}

fn part(track: u8, codec: TagCodec, content: TagContent) -> TagPart {
    TagPart { track, codec, content }
}

fn config(payload: &'static [u8]) -> TagContent {
    TagContent::Config(Bytes::from_static(payload))
}

fn frame(keyframe: bool, composition_time_ms: i32, payload: &'static [u8]) -> TagContent {
    TagContent::Frame { keyframe, composition_time_ms, payload: Bytes::from_static(payload) }
}

/// Source: FLV 10.1, E.4.3.1
#[rstest]
#[case::sequence_header(&[0x17, 0, 0, 0, 0, 1], part(0, TagCodec::Avc, config(&[1])))]
#[case::negative_composition_time(&[0x27, 1, 0xff, 0xff, 0xfe, 9], part(0, TagCodec::Avc, frame(false, -2, &[9])))]
#[case::end(&[0x17, 2, 0, 0, 0], part(0, TagCodec::Avc, TagContent::End))]
#[case::other_codec(&[0x12, 1, 2, 3], part(0, TagCodec::VideoNumber(2), TagContent::Unread))]
#[case::hevc_by_number(&[0x1c, 1, 0, 0, 40, 9], part(0, TagCodec::Hevc, frame(true, 40, &[9])))]
fn reads_pictures_of_the_first_form(#[case] body: &[u8], #[case] expected: TagPart) {
    assert_eq!(video(body), Ok((vec![expected], 0)));
}

/// Source: FLV 10.1, E.4.2.1
#[rstest]
#[case::sequence_header(&[0xaf, 0, 0x12, 0x10], part(0, TagCodec::Aac, config(&[0x12, 0x10])))]
#[case::frame(&[0xaf, 1, 7], part(0, TagCodec::Aac, frame(true, 0, &[7])))]
#[case::mp3(&[0x2f, 0xff, 0xfb], part(0, TagCodec::Mp3, frame(true, 0, &[0xff, 0xfb])))]
#[case::speech(&[0xb6, 1, 2], part(0, TagCodec::SoundNumber(11), TagContent::Unread))]
fn reads_sound_of_the_first_form(#[case] body: &[u8], #[case] expected: TagPart) {
    assert_eq!(audio(body), Ok((vec![expected], 0)));
}

/// Source: E-RTMP 2, Enhanced Video
#[rstest]
#[case::hevc_start(b"\x90hvc1\x01", vec![part(0, TagCodec::Hevc, config(&[1]))])]
#[case::hevc_frame(b"\xa1hvc1\x00\x00\x21x", vec![part(0, TagCodec::Hevc, frame(false, 33, b"x"))])]
#[case::hevc_frame_without_time(b"\x93hvc1x", vec![part(0, TagCodec::Hevc, frame(true, 0, b"x"))])]
#[case::h264_by_letters(b"\x91avc1\xff\xff\xffx", vec![part(0, TagCodec::Avc, frame(true, -1, b"x"))])]
#[case::av1_has_no_time(b"\x91av01\x0a\x0b", vec![part(0, TagCodec::Av1, frame(true, 0, &[10, 11]))])]
#[case::vp9_end(b"\x92vp09", vec![part(0, TagCodec::Vp9, TagContent::End)])]
#[case::colour(b"\x94hvc1\x02", vec![part(0, TagCodec::Hevc, TagContent::ColourInfo(Bytes::from_static(&[2])))])]
#[case::transport_stream_start(b"\x95av01\x00", vec![part(0, TagCodec::Av1, TagContent::Unread)])]
#[case::unknown_letters(b"\x91zz99abc", vec![part(0, TagCodec::Letters(*b"zz99"), TagContent::Unread)])]
#[case::seek_command(b"\xd1\x00", vec![])]
#[case::one_track(b"\x96\x01av01\x05ab", vec![part(5, TagCodec::Av1, frame(true, 0, b"ab"))])]
#[case::many_tracks(
    b"\xa6\x13hvc1\x00\x00\x00\x02ab\x01\x00\x00\x01c",
    vec![part(0, TagCodec::Hevc, frame(false, 0, b"ab")), part(1, TagCodec::Hevc, frame(false, 0, b"c"))]
)]
#[case::many_tracks_many_codecs(
    b"\x96\x20av01\x00\x00\x00\x01avp09\x03\x00\x00\x01b",
    vec![part(0, TagCodec::Av1, config(b"a")), part(3, TagCodec::Vp9, config(b"b"))]
)]
fn reads_extended_pictures(#[case] body: &[u8], #[case] expected: Vec<TagPart>) {
    assert_eq!(video(body), Ok((expected, 0)));
}

/// Source: E-RTMP 2, Enhanced Audio
#[rstest]
#[case::opus_start(b"\x90OpusO", vec![part(0, TagCodec::Opus, config(b"O"))])]
#[case::flac_frame(b"\x91fLaCx", vec![part(0, TagCodec::Flac, frame(true, 0, b"x"))])]
#[case::ac3(b"\x91ac-3x", vec![part(0, TagCodec::Ac3, frame(true, 0, b"x"))])]
#[case::eac3(b"\x91ec-3x", vec![part(0, TagCodec::Eac3, frame(true, 0, b"x"))])]
#[case::mp3(b"\x91.mp3x", vec![part(0, TagCodec::Mp3, frame(true, 0, b"x"))])]
#[case::aac_end(b"\x92mp4a", vec![part(0, TagCodec::Aac, TagContent::End)])]
#[case::layout(b"\x94mp4a\x01\x06", vec![part(0, TagCodec::Aac, TagContent::ChannelLayout(Bytes::from_static(&[1, 6])))])]
#[case::one_track(b"\x95\x01mp4a\x02x", vec![part(2, TagCodec::Aac, frame(true, 0, b"x"))])]
#[case::many_tracks_many_codecs(
    b"\x95\x21mp4a\x00\x00\x00\x01xOpus\x01\x00\x00\x02yz",
    vec![part(0, TagCodec::Aac, frame(true, 0, b"x")), part(1, TagCodec::Opus, frame(true, 0, b"yz"))]
)]
fn reads_extended_sound(#[case] body: &[u8], #[case] expected: Vec<TagPart>) {
    assert_eq!(audio(body), Ok((expected, 0)));
}

/// Source: E-RTMP 2, ModEx
#[rstest]
#[case::nanoseconds(b"\x97\x02\x03\x04\x05\x03hvc1x", 0x03_0405)]
#[case::at_most_a_millisecond(b"\x97\x02\xff\xff\xff\x03hvc1x", 999_999)]
#[case::two_modifiers(b"\x97\x00\x09\x17\x02\x00\x00\x07\x03hvc1x", 7)]
#[case::too_short_to_be_a_time(b"\x97\x00\x09\x03hvc1x", 0)]
fn reads_modifiers(#[case] body: &[u8], #[case] nanos: u32) {
    assert_eq!(video(body), Ok((vec![part(0, TagCodec::Hevc, frame(true, 0, b"x"))], nanos)));
}

#[test]
fn long_modifiers_have_a_second_length() {
    let body = [&[0x97, 255, 1, 0][..], &[9; 257], b"\x13hvc1x"].concat();
    assert_eq!(video(&body), Ok((vec![part(0, TagCodec::Hevc, frame(true, 0, b"x"))], 0)));
}

#[rstest]
#[case::nothing(&[])]
#[case::command(&[0x57, 0])]
#[case::no_picture(&[0x17, 1, 0, 0, 0])]
fn tags_without_pictures_have_no_parts(#[case] body: &[u8]) {
    assert_eq!(video(body), Ok((Vec::new(), 0)));
}

#[rstest]
#[case::cut(&[0x17, 1, 0], FlvError::Truncated { kind: "video", found: 3, needed: 5 })]
#[case::unknown_packet_type(&[0x17, 3, 0, 0, 0], FlvError::PacketType { kind: "video", found: 3 })]
#[case::letters_cut(b"\x91hv", FlvError::Truncated { kind: "video", found: 3, needed: 5 })]
#[case::unknown_extended_type(b"\x98hvc1", FlvError::PacketType { kind: "video", found: 8 })]
#[case::unknown_multitrack(b"\x96\x31hvc1", FlvError::MultitrackType { kind: "video", found: 3 })]
#[case::a_track_longer_than_the_tag(b"\x96\x13hvc1\x00\x00\x00\x09ab", FlvError::Truncated { kind: "video", found: 12, needed: 19 })]
#[case::modifier_cut(b"\x97\x09ab", FlvError::Truncated { kind: "video", found: 4, needed: 12 })]
fn refuses(#[case] body: &[u8], #[case] expected: FlvError) {
    assert_eq!(video(body), Err(expected));
}

fn any_codec() -> impl Strategy<Value = (TrackKind, TagCodec)> {
    (0..TagCodec::WITH_LETTERS.len()).prop_map(|at| {
        let kind = if at < 4 { TrackKind::Video } else { TrackKind::Audio };
        (kind, TagCodec::WITH_LETTERS[at])
    })
}

fn parse(kind: TrackKind, body: &[u8]) -> Result<(Vec<TagPart>, u32), FlvError> {
    if kind == TrackKind::Video { video(body) } else { audio(body) }
}

proptest! {
    #[test]
    fn what_is_written_is_read(
        (kind, codec) in any_codec(),
        form in prop_oneof![Just(TagForm::First), Just(TagForm::Letters), any::<u8>().prop_map(TagForm::Track)],
        keyframe: bool,
        time in -0x80_0000i32..0x80_0000,
        payload in proptest::collection::vec(any::<u8>(), 1..50),
    ) {
        prop_assume!(form != TagForm::First || codec.has_first_form());
        let track = if let TagForm::Track(track) = form { track } else { 0 };
        let reordered = matches!(codec, TagCodec::Avc | TagCodec::Hevc);
        let composition_time_ms = if reordered { time } else { 0 };
        let keyframe = keyframe || kind == TrackKind::Audio;
        let header = frame_header(kind, codec, form, keyframe, time.into());
        let payload = Bytes::from(payload);
        let content = TagContent::Frame { keyframe, composition_time_ms, payload: payload.clone() };
        let read = parse(kind, &[&header[..], &payload].concat());
        prop_assert_eq!(read, Ok((vec![part(track, codec, content)], 0)));

        if !(form == TagForm::First && codec == TagCodec::Mp3) {
            let header = config_header(kind, codec, form);
            let read = parse(kind, &[&header[..], &payload].concat());
            prop_assert_eq!(read, Ok((vec![part(track, codec, TagContent::Config(payload))], 0)));
        }
        if let Some(end) = end_header(kind, codec, form) {
            prop_assert_eq!(parse(kind, &end), Ok((vec![part(track, codec, TagContent::End)], 0)));
        }
    }

    #[test]
    fn colour_info_comes_back(letters: bool, payload in proptest::collection::vec(any::<u8>(), 0..50)) {
        let form = if letters { TagForm::Letters } else { TagForm::Track(3) };
        let body = [&colour_info_header(TagCodec::Hevc, form)[..], &payload].concat();
        let track = if letters { 0 } else { 3 };
        let content = TagContent::ColourInfo(payload.into());
        prop_assert_eq!(video(&body), Ok((vec![part(track, TagCodec::Hevc, content)], 0)));
    }

    #[test]
    fn any_bytes_parse_or_fail(body in proptest::collection::vec(any::<u8>(), 0..60), start in 0u8..16) {
        for first in [0x90 | start, 0xa0 | start, start] {
            let body = [&[first][..], &body].concat();
            for kind in [TrackKind::Video, TrackKind::Audio] {
                if let Ok((parts, nanos)) = parse(kind, &body) {
                    prop_assert!(nanos < 1_000_000);
                    let carried: usize = parts.iter().map(|part| match &part.content {
                        TagContent::Frame { payload, .. } | TagContent::Config(payload) => payload.len(),
                        _ => 0,
                    }).sum();
                    prop_assert!(carried <= body.len());
                }
            }
        }
    }
}
