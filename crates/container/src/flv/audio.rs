use bytes::Bytes;

use super::FlvError;

/// Sound format number of AAC.
const AAC: u8 = 10;

/// Header of an AAC sequence header tag. The rate, size and channel bits are fixed for AAC.
pub const AAC_SEQUENCE_HEADER: [u8; 2] = [0xaf, 0];

/// Header of a tag that carries one raw AAC frame.
pub const AAC_RAW_HEADER: [u8; 2] = [0xaf, 1];

/// The body of an audio tag.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum AudioTag {
    /// An AudioSpecificConfig.
    AacSequenceHeader(Bytes),
    /// One raw AAC frame.
    AacFrame(Bytes),
    /// A sound format that we do not carry, by its number.
    Unsupported(u8),
    /// A tag without data, which some encoders send before sound begins.
    Empty,
}

/// Takes an audio tag body apart; the payload shares the memory of `body`.
///
/// # Errors
/// [`FlvError`] if the header is cut short or the AAC packet type is undefined.
///
/// Source: FLV 10.1, E.4.2.1
pub fn parse_audio_tag(body: &Bytes) -> Result<AudioTag, FlvError> {
    let Some(&first) = body.first() else { return Ok(AudioTag::Empty) };
    let format = first >> 4;
    if format != AAC {
        return Ok(AudioTag::Unsupported(format));
    }
    let packet_type = *body.get(1).ok_or(FlvError::Truncated { kind: "audio", found: 1, needed: 2 })?;
    let payload = body.slice(2..);
    match packet_type {
        0 => Ok(AudioTag::AacSequenceHeader(payload)),
        1 if payload.is_empty() => Ok(AudioTag::Empty),
        1 => Ok(AudioTag::AacFrame(payload)),
        found => Err(FlvError::PacketType { kind: "audio", found }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::empty(&[], Ok(AudioTag::Empty))]
    #[case::sequence_header(&[0xaf, 0, 0x12, 0x10], Ok(AudioTag::AacSequenceHeader(Bytes::from_static(&[0x12, 0x10]))))]
    #[case::frame(&[0xaf, 1, 7], Ok(AudioTag::AacFrame(Bytes::from_static(&[7]))))]
    #[case::frame_without_data(&[0xaf, 1], Ok(AudioTag::Empty))]
    #[case::mp3(&[0x2f, 1, 2], Ok(AudioTag::Unsupported(2)))]
    #[case::cut(&[0xaf], Err(FlvError::Truncated { kind: "audio", found: 1, needed: 2 }))]
    #[case::unknown_packet_type(&[0xaf, 9], Err(FlvError::PacketType { kind: "audio", found: 9 }))]
    fn parses(#[case] body: &'static [u8], #[case] expected: Result<AudioTag, FlvError>) {
        assert_eq!(parse_audio_tag(&Bytes::from_static(body)), expected);
    }

    proptest! {
        #[test]
        fn frames_come_back(payload in proptest::collection::vec(any::<u8>(), 1..50)) {
            let body = Bytes::from([&AAC_RAW_HEADER[..], &payload].concat());
            prop_assert_eq!(parse_audio_tag(&body), Ok(AudioTag::AacFrame(Bytes::from(payload))));
        }

        #[test]
        fn any_bytes_parse_or_fail(body in proptest::collection::vec(any::<u8>(), 0..20)) {
            let _ = parse_audio_tag(&Bytes::from(body));
        }
    }
}
