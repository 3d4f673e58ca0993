//! The stand-ins against each other, without the service between them: what they report must be
//! right before anything is judged by it.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::path::Path;
use std::time::Duration;

use rstest::rstest;
use waverant_standin::{
    Authority, Clip, Encoder, EncoderEnd, EncoderFault, EncoderOptions, EncoderReport, MarkKind, Platform,
    PlatformFault, PlatformOptions, Validity, compare, read_take,
};

const PATIENCE: Duration = Duration::from_secs(10);

fn clip_path() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/regatta.mp4")
}

async fn platform(fault: Option<PlatformFault>) -> Platform {
    let options = PlatformOptions { fault, ..PlatformOptions::new("right") };
    Platform::start(options).await.unwrap()
}

async fn publish(platform: &Platform, key: &str, seconds: f64, fault: Option<EncoderFault>) -> EncoderReport {
    let mut options = EncoderOptions::new(platform.url(), key, Duration::from_secs_f64(seconds));
    options.fault = fault;
    Encoder::new(Clip::load(&clip_path()).unwrap(), options).run().await.unwrap()
}

#[tokio::test]
async fn everything_that_is_sent_arrives() {
    let platform = platform(None).await;
    let sent = publish(&platform, "right", 1.5, None).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!(report.connections[0].received, sent.sent);
    assert_eq!(compare(&sent.sent, &report.connections[0].received, true).fault, None);
    let pictures = sent.sent.iter().filter(|mark| mark.kind.is_picture()).count();
    assert_eq!(pictures, 45);
}

#[tokio::test]
async fn no_two_pictures_are_alike() {
    let platform = platform(None).await;
    let sent = publish(&platform, "right", 1.0, None).await;
    let digests: Vec<&str> =
        sent.sent.iter().filter(|mark| mark.kind.is_picture()).map(|mark| mark.digest.as_str()).collect();
    let distinct: std::collections::HashSet<&str> = digests.iter().copied().collect();
    assert_eq!(distinct.len(), digests.len());
}

#[tokio::test]
async fn a_wrong_key_is_refused() {
    let platform = platform(None).await;
    let sent = publish(&platform, "wrong", 1.0, None).await;
    assert!(matches!(sent.end, EncoderEnd::Refused { ref description, .. } if description == "Unknown stream."));
    assert!(sent.was_closed && sent.sent.is_empty());
    assert_eq!(platform.report().connections[0].refused.as_deref(), Some("Unknown stream."));
}

#[tokio::test]
async fn an_encoder_breaks_its_line_on_time() {
    let platform = platform(None).await;
    let sent = publish(&platform, "right", 5.0, Some(EncoderFault::BreakAfter(Duration::from_secs(1)))).await;
    assert_eq!(sent.end, EncoderEnd::Faulted);
    let last = sent.sent.last().unwrap().timestamp_ms;
    assert!((900..=1000).contains(&last), "the last payload was that of {last} ms");
    assert!(!platform.report().connections[0].was_ended);
}

#[tokio::test]
async fn a_platform_resets_once_and_then_behaves() {
    let platform = platform(Some(PlatformFault::ResetOnceAfter(Duration::from_millis(500)))).await;
    let first = publish(&platform, "right", 5.0, None).await;
    assert_eq!(first.end, EncoderEnd::Closed);
    let second = publish(&platform, "right", 1.0, None).await;
    assert_eq!(second.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[1].was_ended).await);
}

#[tokio::test]
async fn a_slow_platform_reads_slowly() {
    let platform = platform(Some(PlatformFault::ReadSlowly(20_000))).await;
    let sent = tokio::time::timeout(Duration::from_secs(3), publish(&platform, "right", 1.0, None)).await;
    let received: usize = platform.report().connections[0].received.len();
    assert!(received < 40, "{received} payloads in 3 s at 20 kB/s; the encoder's end: {:?}", sent.map(|sent| sent.end));
}

#[test]
fn the_clip_is_what_the_demo_needs() {
    let (marks, seconds) = read_take(&clip_path()).unwrap();
    let count = |kind: MarkKind| marks.iter().filter(|mark| mark.kind == kind).count();
    assert_eq!((count(MarkKind::Keyframe), count(MarkKind::Picture), count(MarkKind::Sound)), (6, 314, 500));
    assert!((10.6..10.7).contains(&seconds), "{seconds} s");
    let size = std::fs::metadata(clip_path()).unwrap().len();
    let bits_per_second = size as f64 * 8.0 / seconds;
    assert!(size < 4 << 20 && (1.5e6..2.5e6).contains(&bits_per_second), "{bits_per_second} bit/s");
    let keyframes: Vec<u32> =
        marks.iter().filter(|mark| mark.kind == MarkKind::Keyframe).map(|mark| mark.timestamp_ms).collect();
    assert_eq!(keyframes, [0, 2000, 4000, 6000, 8000, 10_000]);
}

#[rstest]
#[case::hevc_and_opus(&["hevc", "opus"])]
#[case::av1_and_aac(&["av1", "aac"])]
#[case::vp9_and_flac(&["vp9", "flac"])]
#[case::three_tracks_of_sound(&["h264", "aac", "ac3", "eac3"])]
#[case::two_pictures(&["h264", "hevc", "mp3"])]
#[tokio::test]
async fn every_codec_arrives_over_tls(#[case] codecs: &[&str]) {
    let authority = Authority::new().unwrap();
    let tls = authority.issue("localhost", Validity::Good).unwrap().server_config().unwrap();
    let options = PlatformOptions { tls: Some(tls), ..PlatformOptions::new("right") };
    let platform = Platform::start(options).await.unwrap();
    let mut options = EncoderOptions::new(platform.url(), "right", Duration::from_millis(300));
    options.authority = Some(authority.pem().to_owned());
    let sent = Encoder::new(Clip::made(codecs).unwrap(), options).run().await.unwrap();
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!((&report.connections[0].received, report.connections[0].fault.as_deref()), (&sent.sent, None));
    assert_eq!(compare(&sent.sent, &report.connections[0].received, true).fault, None);
    let kinds: std::collections::HashSet<_> =
        sent.sent.iter().map(|mark| (mark.kind.is_picture(), mark.track)).collect();
    assert!(kinds.len() >= codecs.len());
}

#[tokio::test]
async fn a_certificate_of_nobody_is_not_taken() {
    let tls = Authority::new().unwrap().issue("localhost", Validity::Good).unwrap().server_config().unwrap();
    let platform = Platform::start(PlatformOptions { tls: Some(tls), ..PlatformOptions::new("right") }).await.unwrap();
    let mut options = EncoderOptions::new(platform.url(), "right", Duration::from_millis(300));
    options.authority = Some(Authority::new().unwrap().pem().to_owned());
    assert!(Encoder::new(Clip::made(&["h264"]).unwrap(), options).run().await.is_err());
}
