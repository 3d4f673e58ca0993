//! What platforms complain of, in their own words, and which findings that is.

use super::code::FindingCode;

/// Parts of words that a complaint has, and what they point to. Each line counts once; a part counts by how rare it is.
const HINTS: &[(&[&str], &[FindingCode])] = &[
    (
        &["no audio", "no sound", "missing audio", "without audio", "audio missing", "audio track"],
        &[FindingCode::SoundMissing, FindingCode::SoundStopped, FindingCode::LimitSound],
    ),
    (
        &["silent", "silence", "quiet", "mute", "hear"],
        &[FindingCode::Silence, FindingCode::SoundMissing, FindingCode::TooSoft],
    ),
    (&["sync", "lip", "drift", "delay between"], &[FindingCode::SoundDrifts, FindingCode::ClockJumps]),
    (
        &["no video", "no picture", "missing video", "audio only", "black screen"],
        &[FindingCode::PictureMissing, FindingCode::PictureStopped],
    ),
    (&["frozen", "freez", "stuck", "still image"], &[FindingCode::PictureStopped, FindingCode::PicturesSkipped]),
    (
        &["keyframe", "key frame", "key-frame", "gop", "i-frame", "idr"],
        &[FindingCode::LimitKeyframes, FindingCode::KeyframesRare, FindingCode::GroupsOpen],
    ),
    (&["closed gop", "open gop"], &[FindingCode::GroupsOpen, FindingCode::LimitClosedGroups]),
    // What is named so surely counts twice.
    (&["profile"], &[FindingCode::LimitProfile]),
    (&["profile"], &[FindingCode::LimitProfile]),
    (&["hdr", "bt.2020", "dynamic range"], &[FindingCode::LimitDynamicRange]),
    (&["hdr", "bt.2020", "colour", "color", "dynamic range"], &[FindingCode::LimitDynamicRange]),
    (&["chroma", "4:2:2", "4:4:4", "10-bit", "10 bit", "bit depth", "pixel format"], &[FindingCode::SamplingRare]),
    (
        &["frame rate", "framerate", "fps", "frames per second"],
        &[FindingCode::FrameRateVaries, FindingCode::PicturesSkipped, FindingCode::LimitFrameRate],
    ),
    (&["variable", "constant", "vfr", "cfr", "inconsistent"], &[FindingCode::FrameRateVaries]),
    (
        &["dropped frame", "drop frame", "dropping", "skipped", "missing frame"],
        &[FindingCode::PicturesSkipped, FindingCode::LegSlow],
    ),
    (
        &["bitrate", "bit rate", "data rate", "kbps", "mbps", "bandwidth"],
        &[FindingCode::LimitBitrate, FindingCode::BitrateFallen, FindingCode::UplinkFull],
    ),
    (
        &[
            "bitrate low",
            "low bitrate",
            "bitrate is lower",
            "bitrate too low",
            "lower than",
            "not enough",
            "insufficient",
        ],
        &[FindingCode::BitrateFallen, FindingCode::PicturesSkipped],
    ),
    (
        &["bitrate high", "high bitrate", "too high", "higher than", "exceed"],
        &[FindingCode::LimitBitrate, FindingCode::LimitSize, FindingCode::LimitFrameRate],
    ),
    (
        &[
            "buffer",
            "starv",
            "not receiving enough",
            "unstable",
            "bad health",
            "poor connection",
            "stream health",
            "stutter",
            "lag",
        ],
        &[
            FindingCode::LegSlow,
            FindingCode::LegFlaps,
            FindingCode::ComesInBursts,
            FindingCode::LineLoses,
            FindingCode::BitrateFallen,
            FindingCode::UplinkFull,
        ],
    ),
    (
        &["no data", "not receiving", "offline", "waiting for", "not live", "nothing arrives"],
        &[FindingCode::LegDown, FindingCode::LegRefused, FindingCode::LegFlaps],
    ),
    (
        &["disconnect", "connection lost", "reconnect", "interrupted", "timed out", "timeout"],
        &[FindingCode::LegFlaps, FindingCode::LegDown],
    ),
    (
        &[
            "stream key",
            "wrong key",
            "invalid key",
            "unauthori",
            "not authori",
            "rejected",
            "refused",
            "denied",
            "forbidden",
            "badname",
            "bad name",
        ],
        &[FindingCode::LegRefused],
    ),
    (
        &["codec", "format", "container", "unsupp", "not supp", "wrong encoding", "incompat"],
        &[FindingCode::LimitVideoCodec, FindingCode::LimitAudioCodec, FindingCode::NotCarried],
    ),
    (&["video codec", "hevc", "h.265", "h265", "av1", "h.264", "h264"], &[FindingCode::LimitVideoCodec]),
    (&["audio codec", "aac", "opus", "mp3", "sample rate"], &[FindingCode::LimitAudioCodec]),
    (&["resolution", "size", "dimension", "1080", "720", "too large", "4k", "aspect"], &[FindingCode::LimitSize]),
    (&["audio tracks", "multiple audio", "too many tracks", "several tracks"], &[FindingCode::LimitAudioTracks]),
    (&["tls", "ssl", "secure", "encrypt", "rtmps", "certificate"], &[FindingCode::LimitTls]),
    (
        &["timestamp", "time stamp", "dts", "pts", "discontinu", "monoton", "clock"],
        &[FindingCode::ClockJumps, FindingCode::ClockDrifts, FindingCode::SoundDrifts],
    ),
    (
        &["corrupt", "damaged", "decode", "artifact", "garbled", "packet loss", "lost packets", "loss"],
        &[FindingCode::Damaged, FindingCode::LineLoses],
    ),
];

/// Findings that are told of one complaint.
const MOST: usize = 4;

/// The longest complaint that is read, in bytes.
pub const LONGEST_COMPLAINT: usize = 500;

/// Which findings a complaint may be, the likeliest first. Nothing if no word of it is known.
pub fn findings_meant(complaint: &str) -> Vec<FindingCode> {
    let words = complaint.to_lowercase();
    let mut scores: Vec<(FindingCode, usize)> = Vec::new();
    for (parts, codes) in HINTS {
        // A longer part says more.
        let Some(weight) = parts.iter().filter(|part| words.contains(**part)).map(|part| part.len()).max() else {
            continue;
        };
        for (place, code) in codes.iter().enumerate() {
            // What is named first is meant more often, and a hint that points to little points more surely.
            let score = (weight * 4 + 12) / (place + 1) + 12 / codes.len();
            match scores.iter_mut().find(|(scored, _)| scored == code) {
                Some((_, sum)) => *sum += score,
                None => scores.push((*code, score)),
            }
        }
    }
    scores.sort_by_key(|(_, score)| std::cmp::Reverse(*score));
    scores.into_iter().take(MOST).map(|(code, _)| code).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("No audio detected in your stream", FindingCode::SoundMissing)]
    #[case("The stream's audio is out of sync", FindingCode::SoundDrifts)]
    #[case("Please use a keyframe frequency of four seconds or less", FindingCode::LimitKeyframes)]
    #[case("keyframe interval", FindingCode::LimitKeyframes)]
    #[case("The current bitrate (1000 kbps) is lower than the recommended bitrate", FindingCode::BitrateFallen)]
    #[case("bitrate low", FindingCode::BitrateFallen)]
    #[case("Bitrate too high: at most 4500 kbps", FindingCode::LimitBitrate)]
    #[case("Wrong container", FindingCode::LimitVideoCodec)]
    #[case("Video codec not supported", FindingCode::LimitVideoCodec)]
    #[case("Audio codec must be AAC", FindingCode::LimitAudioCodec)]
    #[case("Stream health is bad", FindingCode::LegSlow)]
    #[case("Invalid stream key", FindingCode::LegRefused)]
    #[case("We are not receiving any data", FindingCode::LegDown)]
    #[case("Check your video resolution", FindingCode::LimitSize)]
    #[case("variable frame rate", FindingCode::FrameRateVaries)]
    #[case("The stream uses an open GOP", FindingCode::GroupsOpen)]
    #[case("RTMPS required", FindingCode::LimitTls)]
    #[case("non-monotonic timestamps", FindingCode::ClockJumps)]
    #[case("The encoder has dropped frames", FindingCode::PicturesSkipped)]
    #[case("Unsupported H.264 profile", FindingCode::LimitProfile)]
    #[case("HDR is not supported for this stream", FindingCode::LimitDynamicRange)]
    #[case("chroma subsampling must be 4:2:0", FindingCode::SamplingRare)]
    fn complaints_are_understood(#[case] complaint: &str, #[case] expected: FindingCode) {
        let found = findings_meant(complaint);
        assert_eq!(found.first(), Some(&expected), "{found:?}");
    }

    #[test]
    fn what_is_not_known_is_not_guessed() {
        assert_eq!(findings_meant("the tide is out"), []);
        assert_eq!(findings_meant(""), []);
    }

    proptest! {
        #[test]
        fn any_text_is_read(text in "\\PC{0,600}") {
            prop_assert!(findings_meant(&text).len() <= MOST);
        }
    }
}
