use bytes::Bytes;

use super::FlvError;

/// Codec number of H.264.
const AVC: u8 = 7;

/// Set in the first byte when the codec is named by four letters (Enhanced RTMP).
const EXTENDED: u8 = 0x80;

/// Frame type of a keyframe.
const KEYFRAME: u8 = 1;

/// Frame type of a message from server to client, which carries no picture.
const COMMAND: u8 = 5;

/// Bytes before an H.264 payload.
const AVC_HEADER_LENGTH: usize = 5;

/// Header of an H.264 sequence header tag.
pub const AVC_SEQUENCE_HEADER: [u8; 5] = [0x17, 0, 0, 0, 0];

/// The body of a video tag.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum VideoTag {
    /// An AVCDecoderConfigurationRecord.
    AvcSequenceHeader(Bytes),
    /// One access unit of length-prefixed NAL units.
    AvcFrame {
        /// True if decoding can start here.
        keyframe: bool,
        /// Presentation time less decode time.
        composition_time_ms: i32,
        /// The NAL units.
        payload: Bytes,
    },
    /// No more H.264 follows.
    AvcEndOfSequence,
    /// A codec that we do not carry: its number, or 128 and more for one named by four letters.
    Unsupported(u8),
    /// A tag without a picture.
    Empty,
}

/// Takes a video tag body apart; the payload shares the memory of `body`.
///
/// # Errors
/// [`FlvError`] if the header is cut short or the AVC packet type is undefined.
///
/// Source: FLV 10.1, E.4.3.1
pub fn parse_video_tag(body: &Bytes) -> Result<VideoTag, FlvError> {
    let Some(&first) = body.first() else { return Ok(VideoTag::Empty) };
    if first & EXTENDED != 0 {
        return Ok(VideoTag::Unsupported(first));
    }
    let (frame_type, codec) = (first >> 4, first & 0x0f);
    if frame_type == COMMAND {
        return Ok(VideoTag::Empty);
    }
    if codec != AVC {
        return Ok(VideoTag::Unsupported(codec));
    }
    let Some(&[packet_type, high, middle, low]) = body.get(1..AVC_HEADER_LENGTH) else {
        return Err(FlvError::Truncated { kind: "video", found: body.len(), needed: AVC_HEADER_LENGTH });
    };
    let payload = body.slice(AVC_HEADER_LENGTH..);
    match packet_type {
        0 => Ok(VideoTag::AvcSequenceHeader(payload)),
        1 if payload.is_empty() => Ok(VideoTag::Empty),
        1 => Ok(VideoTag::AvcFrame {
            keyframe: frame_type == KEYFRAME,
            composition_time_ms: i32::from_be_bytes([high, middle, low, 0]) >> 8,
            payload,
        }),
        2 => Ok(VideoTag::AvcEndOfSequence),
        found => Err(FlvError::PacketType { kind: "video", found }),
    }
}

/// The header that goes before an access unit. A composition time beyond the 24 bits of the
/// field is written as its nearest end.
///
/// Source: FLV 10.1, E.4.3.1
pub fn avc_frame_header(keyframe: bool, composition_time_ms: i64) -> [u8; 5] {
    let time = i32::try_from(composition_time_ms.clamp(-0x80_0000, 0x7f_ffff)).unwrap_or(0);
    let [_, high, middle, low] = time.to_be_bytes();
    [if keyframe { 0x17 } else { 0x27 }, 1, high, middle, low]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::sequence_header(&[0x17, 0, 0, 0, 0, 1], Ok(VideoTag::AvcSequenceHeader(Bytes::from_static(&[1]))))]
    #[case::negative_composition_time(
        &[0x27, 1, 0xff, 0xff, 0xfe, 9],
        Ok(VideoTag::AvcFrame { keyframe: false, composition_time_ms: -2, payload: Bytes::from_static(&[9]) })
    )]
    #[case::end(&[0x17, 2, 0, 0, 0], Ok(VideoTag::AvcEndOfSequence))]
    #[case::command(&[0x57, 0], Ok(VideoTag::Empty))]
    #[case::four_letter_codec(&[0x90, 1, 2, 3], Ok(VideoTag::Unsupported(0x90)))]
    #[case::other_codec(&[0x12, 1, 2, 3], Ok(VideoTag::Unsupported(2)))]
    #[case::cut(&[0x17, 1, 0], Err(FlvError::Truncated { kind: "video", found: 3, needed: 5 }))]
    #[case::unknown_packet_type(&[0x17, 3, 0, 0, 0], Err(FlvError::PacketType { kind: "video", found: 3 }))]
    fn parses(#[case] body: &'static [u8], #[case] expected: Result<VideoTag, FlvError>) {
        assert_eq!(parse_video_tag(&Bytes::from_static(body)), expected);
    }

    proptest! {
        #[test]
        fn frames_come_back(keyframe: bool, time in -0x80_0000i32..0x80_0000, payload in proptest::collection::vec(any::<u8>(), 1..50)) {
            let body = Bytes::from([&avc_frame_header(keyframe, time.into())[..], &payload].concat());
            let expected = VideoTag::AvcFrame { keyframe, composition_time_ms: time, payload: Bytes::from(payload) };
            prop_assert_eq!(parse_video_tag(&body), Ok(expected));
        }

        #[test]
        fn any_bytes_parse_or_fail(body in proptest::collection::vec(any::<u8>(), 0..20)) {
            let _ = parse_video_tag(&Bytes::from(body));
        }
    }
}
