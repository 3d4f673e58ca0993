use std::time::Duration;

use rstest::rstest;
use waverant_standin::{Encoder, first_difference, read_take};

use crate::house::{Ground, PATIENCE, clip};

/// `kill -9` in mid-show: the take plays to within 2 s of the kill, and the next start closes
/// session and take in the records and says so. Over SRT the encoder goes on until it misses our
/// answers, for five seconds.
#[rstest]
#[case::rtmp(false, 2.0)]
#[case::srt(true, 2.0 + 5.5)]
#[tokio::test(flavor = "multi_thread")]
async fn a_killed_service_leaves_a_take_that_plays(#[case] is_srt: bool, #[case] most_lost: f64) {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let encoder = tokio::spawn(Encoder::new(clip(), house.encoder_at(is_srt, &key, 30.0)).run());
    assert!(platform.wait_for(PATIENCE, |report| report.connections.iter().any(|c| c.received.len() > 400)).await);
    house.signal("-KILL");
    house.wait_for_exit();
    let sent = encoder.await.unwrap().unwrap();
    drop(house);

    let house = ground.start();
    let log = ground.log();
    assert!(log.contains("the last run ended unexpectedly"), "{log}");
    let session = house.get("/sessions/1");
    assert_eq!(session["session"]["end_reason"], "the service ended unexpectedly");
    let take = &session["takes"][0];
    assert_eq!(take["state"], "cut off");
    let file = ground.path("recordings").join(take["path"].as_str().unwrap());
    let (marks, seconds) = read_take(&file).unwrap();
    assert_eq!(first_difference(&sent.sent, &marks), None);
    let sent_seconds = f64::from(sent.sent.last().unwrap().timestamp_ms) / 1000.0;
    assert!(sent_seconds - seconds < most_lost, "{seconds} s of {sent_seconds} s are kept");
    let noted = take["duration_ms"].as_f64().unwrap() / 1000.0;
    assert!((noted - seconds).abs() < 0.05, "noted {noted} s, the file plays {seconds} s");
}

/// The private database outlives nothing: after `kill -9` the service starts again on the same
/// state folder, with everything it knew.
#[tokio::test(flavor = "multi_thread")]
async fn the_private_database_comes_back_after_a_kill() {
    let ground = Ground::new().await;
    ground.use_private_database();
    let mut house = ground.start();
    house.make_channel(0);
    house.signal("-KILL");
    house.wait_for_exit();
    drop(house);
    let mut house = ground.start();
    assert_eq!(house.get("/channels")[0]["name"], "finish-line");
    let database: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let pid = database["database_pid"].as_u64().unwrap();
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    tokio::time::sleep(Duration::from_millis(100)).await;
    assert!(!std::path::Path::new(&format!("/proc/{pid}")).exists(), "the database is stopped with the service");
}

/// The database dies in mid-show: the show goes on, a known key still opens the gate, and what
/// happened is in the records when the database is back.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_database_does_not_touch_the_show(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    ground.use_private_database();
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let ready: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let database = ready["database_pid"].as_u64().unwrap().to_string();
    let signal = |signal: &str| {
        assert!(std::process::Command::new("kill").args([signal, &database]).status().unwrap().success());
    };
    // Stopped first, so that it is away for longer than the restart takes.
    signal("-STOP");
    let publish = house.publish(house.encoder_at(is_srt, &key, 5.0));
    let kill = async {
        tokio::time::sleep(Duration::from_secs(2)).await;
        signal("-KILL");
    };
    let (sent, ()) = tokio::join!(publish, kill);
    assert_eq!(sent.end, waverant_standin::EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let received = &platform.report().connections[0].received;
    assert_eq!(waverant_standin::compare(&sent.sent, received, true).fault, None);
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the encoder stopped");
    assert_eq!(session["takes"][0]["state"], "complete");
    assert_eq!(session["legs"][0]["sent_frame_count"], 150);
}
