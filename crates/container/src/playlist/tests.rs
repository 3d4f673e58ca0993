use rstest::rstest;
use time::macros::datetime;
use waverant_media::MediaTime;
use waverant_media::testing::{aac, h264};
use waverant_media::{Track, TrackId};

use super::*;

fn segment(number: u64, discontinuity: u64, part_count: u32, is_whole: bool) -> PlaylistSegment {
    let part = PlaylistPart { duration: MediaTime::from_millis(500), independent: false };
    let parts = (0..part_count).map(|place| PlaylistPart { independent: place == 0, ..part }).collect();
    PlaylistSegment {
        number,
        discontinuity,
        header: discontinuity,
        began: datetime!(2026-06-20 14:00:00 UTC) + time::Duration::seconds(2 * i64::try_from(number).unwrap()),
        duration: MediaTime::from_millis(i64::from(part_count) * 500),
        parts,
        is_whole,
    }
}

fn playlist(segments: &[PlaylistSegment]) -> MediaPlaylist<'_> {
    MediaPlaylist {
        is_static: false,
        target_duration: 2,
        part_target: Some(MediaTime::from_millis(500)),
        segments,
        reports: &[],
        is_ended: false,
    }
}

#[test]
fn a_playlist_has_parts_near_its_end_a_hint_and_reports() {
    let segments = [segment(7, 1, 4, true), segment(8, 2, 4, true), segment(9, 2, 1, false)];
    let reports = [RenditionReport { uri: "../1/index.m3u8".to_owned(), last_segment: 9, last_part: Some(2) }];
    let text = MediaPlaylist { reports: &reports, ..playlist(&segments) }.write(false);
    let expected = "#EXTM3U\n#EXT-X-VERSION:9\n#EXT-X-TARGETDURATION:2\n\
        #EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,HOLD-BACK=6,PART-HOLD-BACK=1.50000,CAN-SKIP-UNTIL=12\n\
        #EXT-X-PART-INF:PART-TARGET=0.50000\n#EXT-X-MEDIA-SEQUENCE:7\n#EXT-X-DISCONTINUITY-SEQUENCE:1\n\
        #EXT-X-MAP:URI=\"head-1.mp4\"\n#EXT-X-PROGRAM-DATE-TIME:2026-06-20T14:00:14.000Z\n\
        #EXT-X-PART:DURATION=0.50000,URI=\"7-0.m4s\",INDEPENDENT=YES\n#EXT-X-PART:DURATION=0.50000,URI=\"7-1.m4s\"\n\
        #EXT-X-PART:DURATION=0.50000,URI=\"7-2.m4s\"\n#EXT-X-PART:DURATION=0.50000,URI=\"7-3.m4s\"\n\
        #EXTINF:2.00000,\n7.m4s\n#EXT-X-DISCONTINUITY\n#EXT-X-MAP:URI=\"head-2.mp4\"\n\
        #EXT-X-PROGRAM-DATE-TIME:2026-06-20T14:00:16.000Z\n\
        #EXT-X-PART:DURATION=0.50000,URI=\"8-0.m4s\",INDEPENDENT=YES\n#EXT-X-PART:DURATION=0.50000,URI=\"8-1.m4s\"\n\
        #EXT-X-PART:DURATION=0.50000,URI=\"8-2.m4s\"\n#EXT-X-PART:DURATION=0.50000,URI=\"8-3.m4s\"\n\
        #EXTINF:2.00000,\n8.m4s\n#EXT-X-PROGRAM-DATE-TIME:2026-06-20T14:00:18.000Z\n\
        #EXT-X-PART:DURATION=0.50000,URI=\"9-0.m4s\",INDEPENDENT=YES\n\
        #EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"9-1.m4s\"\n#EXT-X-RENDITION-REPORT:URI=\"../1/index.m3u8\",LAST-MSN=9,LAST-PART=2\n";
    assert_eq!(text, expected);
    PlaylistCheck::default().read(&text).unwrap();
}

#[test]
fn a_delta_update_leaves_out_what_is_old_and_comes_to_the_same() {
    let segments: Vec<PlaylistSegment> = (0..20).map(|number| segment(number, number / 8, 4, true)).collect();
    let mut check = PlaylistCheck::default();
    check.read(&playlist(&segments[..18]).write(false)).unwrap();
    let delta = playlist(&segments).write(true);
    assert!(delta.contains("#EXT-X-SKIP:SKIPPED-SEGMENTS=13\n") && !delta.contains("\n5.m4s"), "{delta}");
    check.read(&delta).unwrap();
    assert_eq!(check.segment_count(), 20);
    let plain = MediaPlaylist { part_target: None, ..playlist(&segments) }.write(true);
    assert!(!plain.contains("SKIP") && plain.contains("#EXT-X-VERSION:6\n"), "{plain}");
}

#[test]
fn a_playlist_without_parts_tells_nothing_of_what_grows() {
    let segments = [segment(0, 0, 4, true), segment(1, 1, 2, false)];
    let text = MediaPlaylist { part_target: None, ..playlist(&segments) }.write(false);
    assert!(text.ends_with("#EXTINF:2.00000,\n0.m4s\n"), "{text}");
    let unattended = MediaPlaylist { part_target: None, is_static: true, ..playlist(&segments) }.write(false);
    assert!(!unattended.contains("EXT-X-SERVER-CONTROL") && unattended.contains("#EXTINF"), "{unattended}");
    let ended = MediaPlaylist { is_ended: true, ..playlist(&segments[..1]) }.write(false);
    assert!(ended.ends_with("0.m4s\n#EXT-X-ENDLIST\n"), "{ended}");
}

#[rstest]
#[case::longer_than_the_target("#EXTINF:2.00000,\n9.m4s", "#EXTINF:2.60000,\n9.m4s", "longer than the target")]
#[case::a_long_part("DURATION=0.50000,URI=\"9-1", "DURATION=0.60000,URI=\"9-1", "is longer than 0.5")]
#[case::a_short_part("DURATION=0.50000,URI=\"9-1", "DURATION=0.40000,URI=\"9-1", "85 %")]
#[case::parts_that_do_not_add_up("DURATION=0.50000,URI=\"9-3", "DURATION=0.30000,URI=\"9-3", "the parts of segment 9")]
#[case::another_name("\n8.m4s", "\n80.m4s", "was told as")]
#[case::another_target("TARGETDURATION:2", "TARGETDURATION:3", "target")]
#[case::a_sequence_that_goes_back("MEDIA-SEQUENCE:7", "MEDIA-SEQUENCE:5", "went back")]
#[case::a_gap("MEDIA-SEQUENCE:7", "MEDIA-SEQUENCE:20", "were never told")]
#[case::a_lost_discontinuity("#EXT-X-DISCONTINUITY\n", "", "was told as")]
#[case::no_header("#EXT-X-MAP:URI=\"head-0.mp4\"\n", "", "no EXT-X-MAP")]
#[case::a_date_that_jumps("14:00:18.000Z", "14:00:28.000Z", "is dated")]
#[case::a_hint_for_what_is_there("URI=\"10-0.m4s\"", "URI=\"9-0.m4s\"", "is for a part that is there")]
#[case::too_near_the_end("HOLD-BACK=6", "HOLD-BACK=5", "HOLD-BACK")]
#[case::a_tag_of_ours("#EXT-X-PART-INF", "#EXT-X-OURS:1\n#EXT-X-PART-INF", "unknown tag")]
fn the_strict_reader_finds(#[case] what: &str, #[case] by: &str, #[case] fault: &str) {
    let mut segments: Vec<PlaylistSegment> = (6..10).map(|number| segment(number, number / 8, 4, true)).collect();
    let mut check = PlaylistCheck::default();
    check.read(&playlist(&segments[..3]).write(false)).unwrap();
    segments.remove(0);
    let right = playlist(&segments).write(false);
    let wrong = right.replacen(what, by, 1);
    assert_ne!(right, wrong, "{right}");
    let found = check.read(&wrong).unwrap_err();
    assert!(found.0.contains(fault), "{found}");
}

#[test]
fn a_manifest_tells_tracks_by_periods() {
    let (picture, mut sound) = (Track::new(TrackId::VIDEO, h264()), Track::new(TrackId::AUDIO, aac()));
    (sound.language, sound.name) = (Some("de".into()), Some("Reeds & <wind>".into()));
    let of = |track, timescale: u32| ManifestTrack {
        track,
        folder: "3/0/".to_owned(),
        header: 0,
        timescale,
        peak_bps: 2_400_000,
        picture_size: None,
        starts_clean: true,
        first_segment: 4,
        segments: vec![ManifestSegment { start: u64::from(timescale) * 8, duration: u64::from(timescale) * 2 }],
    };
    let tracks = vec![of(&picture, 90_000), of(&sound, 48_000)];
    let manifest = Manifest {
        clock_zero: datetime!(2026-06-20 14:00:00 UTC),
        now: datetime!(2026-06-20 14:00:12 UTC),
        target_duration: 2,
        window: 30,
        periods: vec![ManifestPeriod { number: 1, start_ms: 8000, tracks }],
        ended_at_ms: None,
    };
    let text = manifest.write();
    for line in [
        "type=\"dynamic\" availabilityStartTime=\"2026-06-20T14:00:00Z\" publishTime=\"2026-06-20T14:00:12Z\"",
        "<Period id=\"1\" start=\"PT8.000S\">",
        "<AdaptationSet id=\"1\" contentType=\"audio\" mimeType=\"audio/mp4\" lang=\"de\" startWithSAP=\"1\">",
        "<Label>Reeds &amp; &lt;wind&gt;</Label>",
        "timescale=\"90000\" presentationTimeOffset=\"720000\" startNumber=\"4\" initialization=\"3/0/head-0.mp4\"",
        "<S t=\"384000\" d=\"96000\"/>",
        "codecs=\"mp4a.40.2\" audioSamplingRate=\"48000\">",
    ] {
        assert!(text.contains(line), "{line}\nis not in\n{text}");
    }
    let ended = Manifest { ended_at_ms: Some(90_500), ..manifest }.write();
    assert!(ended.contains("type=\"static\" mediaPresentationDuration=\"PT90.500S\"") && !ended.contains("UTCTiming"));
}
