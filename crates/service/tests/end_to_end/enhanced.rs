//! Codecs and tracks beyond the first form of RTMP.

use rstest::rstest;
use waverant_container::Mp4File;
use waverant_standin::{Clip, Encoder, EncoderEnd, EncoderReport, Mark, PlatformOptions, compare};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY};

async fn publish(house: &House<'_>, key: &str, codecs: &[&str], seconds: f64) -> EncoderReport {
    Encoder::new(Clip::made(codecs).unwrap(), house.encoder(key, seconds)).run().await.unwrap()
}

/// Each codec, and three tracks of sound, in through the front door and out at a platform that
/// knows them, byte for byte; the take holds all of it.
#[rstest]
#[case::hevc_and_opus(&["hevc", "opus"], "HEVC Main", &["Opus"])]
#[case::av1_and_aac(&["av1", "aac"], "AV1 Main", &["AAC"])]
#[case::vp9_and_flac(&["vp9", "flac"], "VP9", &["FLAC"])]
#[case::three_tracks_of_sound(&["h264", "aac", "opus", "ac3"], "H.264 Constrained Baseline", &["AAC", "Opus", "AC-3"])]
#[case::sound_without_headers(&["h264", "eac3", "mp3"], "H.264 Constrained Baseline", &["E-AC-3", "MP3"])]
#[tokio::test(flavor = "multi_thread")]
async fn everything_arrives_where_it_is_known(#[case] codecs: &[&str], #[case] video: &str, #[case] sound: &[&str]) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let watch = async {
        house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying").await;
        house.wait_until("pictures are seen", |house| house.live()["session"]["video"].is_object()).await;
        house.live()
    };
    let (sent, live) = tokio::join!(publish(&house, &key, codecs, 3.0), watch);
    assert_eq!(sent.end, EncoderEnd::Finished);
    let session = &live["session"];
    assert_eq!(session["video"]["codec"], video, "{live}");
    let seen: Vec<&str> =
        session["audio"].as_array().unwrap().iter().map(|track| track["codec"].as_str().unwrap()).collect();
    assert_eq!(seen, sound);
    assert_eq!((&live["findings"], &live["legs"][0]["note"]), (&serde_json::json!([]), &serde_json::Value::Null));

    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let connection = platform.report().connections[0].clone();
    assert_eq!(connection.fault, None);
    let found = compare(&sent.sent, &connection.received, true);
    assert_eq!((found.fault, found.picture_count), (None, 90));
    for track in 0..u8::try_from(sound.len()).unwrap() {
        assert!(connection.received.iter().any(|mark| !mark.kind.is_picture() && mark.track == track), "{track}");
    }

    let take = house.ended_session(1).await["takes"][0]["path"].as_str().unwrap().to_owned();
    let bytes = std::fs::read(ground.path("recordings").join(take)).unwrap();
    let file = Mp4File::parse(&bytes.into()).unwrap();
    let names: Vec<&str> = file.tracks.iter().map(|track| track.codec.as_ref().unwrap().name()).collect();
    assert_eq!(names.len(), 1 + sound.len());
    assert!(sound.iter().all(|codec| names.contains(codec)), "{names:?}");
    assert!(file.tracks.iter().all(|track| track.samples.len() >= 89), "every track is whole");
}

/// A platform that knows only H.264 and AAC: it gets these where they are there, and the leg
/// says what it does not get; without them the leg says why nothing is sent.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_of_the_first_form_gets_what_it_knows() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let options = PlatformOptions { is_enhanced: false, ..PlatformOptions::new(PLATFORM_KEY) };
    let platform = house.add_platform_with("tindrel", options, None).await;

    let watch = async {
        house.wait_until("the leg says it", |house| house.leg("tindrel")["note"].is_string()).await;
        house.leg("tindrel")
    };
    let (sent, leg) = tokio::join!(publish(&house, &key, &["hevc", "h264", "opus", "aac"], 3.0), watch);
    assert_eq!(leg["note"], "not sent, since it does not take it: HEVC, Opus");
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let second_tracks = sent.sent.iter().filter(|mark| mark.track == 1).map(|mark| Mark { track: 0, ..mark.clone() });
    let received = &platform.report().connections[0].received;
    assert_eq!(compare(&second_tracks.collect::<Vec<_>>(), received, true).fault, None);
    assert!(received.iter().all(|mark| mark.track == 0));
    house.ended_session(1).await;

    let refused = async {
        house.wait_until("the leg is refused", |house| house.leg("tindrel")["state"] == "refused").await;
        house.leg("tindrel")
    };
    let (_, leg) = tokio::join!(publish(&house, &key, &["hevc", "aac"], 3.0), refused);
    let reason = leg["reason"].as_str().unwrap();
    assert!(reason.starts_with("tindrel: it does not take HEVC"), "{reason}");
}

/// A wrong path with a right key is let in, and told.
#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_path_is_a_finding() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut options = house.encoder("finish", 2.0);
    options.server = format!("rtmp://{}/live/{key}", house.rtmp);
    let publish = Encoder::new(Clip::made(&["h264", "aac"]).unwrap(), options).run();
    let watch = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        house.live()["findings"].clone()
    };
    let (sent, findings) = tokio::join!(publish, watch);
    assert_eq!(sent.unwrap().end, EncoderEnd::Finished);
    let finding = findings[0]["cause"].as_str().unwrap();
    assert!(finding.starts_with("the address ends in `/live`, and `/in` was expected"), "{finding}");
    assert!(!ground.log().contains(&key), "the key is not logged");
}
