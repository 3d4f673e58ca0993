//! What platforms see while an encoder is away.

use std::time::Duration;

use rstest::rstest;
use serde_json::json;
use waverant_standin::{
    Clip, Encoder, EncoderEnd, EncoderFault, EncoderOptions, Mark, MarkKind, Network, NetworkFaults, Platform,
    PlatformOptions, read_take,
};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY, clip};

/// Runs of pictures that came from an encoder or not, with the step to the first of each and
/// whether it is a keyframe.
fn runs(received: &[Mark], sent: &[Mark]) -> Vec<(bool, u32, bool)> {
    let live: std::collections::HashSet<&str> = sent.iter().map(|mark| mark.digest.as_str()).collect();
    let mut runs: Vec<(bool, u32, bool)> = Vec::new();
    let mut before = None;
    for mark in received.iter().filter(|mark| mark.kind.is_picture()) {
        let is_live = live.contains(mark.digest.as_str());
        let step = before.map_or(0, |before| mark.timestamp_ms.checked_sub(before).expect("times rise"));
        if runs.last().is_none_or(|(last, _, _)| *last != is_live) {
            runs.push((is_live, step, mark.kind == MarkKind::Keyframe));
        } else {
            assert!(step < 500, "a gap of {step} ms within a run");
        }
        before = Some(mark.timestamp_ms);
    }
    runs
}

fn check_sound(received: &[Mark]) {
    let times: Vec<u32> =
        received.iter().filter(|mark| mark.kind == MarkKind::Sound).map(|mark| mark.timestamp_ms).collect();
    assert!(times.windows(2).all(|pair| pair[0] <= pair[1] && pair[1] - pair[0] < 500), "the sound has no gap");
}

/// An encoder that is away for `away` seconds; returns everything that was sent.
async fn drop_for(house: &House<'_>, key: &str, away: f64, fault: EncoderFault) -> Vec<Mark> {
    let mut first = house.encoder(key, 3.0 + away);
    first.fault = Some(fault);
    let first = house.publish(first).await;
    assert_eq!(first.end, EncoderEnd::Faulted);
    if matches!(fault, EncoderFault::BreakAfter(_)) {
        tokio::time::sleep(Duration::from_secs_f64(away)).await;
    }
    let mut second = house.encoder(key, 3.0);
    second.first_packet = clip().keyframe_from(first.next_packet);
    second.first_timestamp_ms = 7_000_000;
    let second = house.publish(second).await;
    assert_eq!(second.end, EncoderEnd::Finished);
    first.sent.into_iter().chain(second.sent).collect()
}

/// The encoder drops for 5 s: every platform sees one connection, rising times, a keyframe at each
/// switch, and no gap of half a second. The take is of the show alone.
#[rstest]
#[case::the_line_breaks(EncoderFault::BreakAfter(Duration::from_secs(3)))]
#[case::it_falls_silent(EncoderFault::StallAfter(Duration::from_secs(3)))]
#[tokio::test(flavor = "multi_thread")]
async fn the_slate_stands_in(#[case] fault: EncoderFault) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    house.change_channel(json!({"slate": "built_in"}));
    let platforms = [house.add_platform("plovio", None).await, house.add_platform("quayside", None).await];
    let watch = async {
        house.wait_until("the slate is on", |house| house.live()["session"]["is_slate_on"] == true).await;
        house.live()["findings"].clone()
    };
    let (sent, findings) = tokio::join!(drop_for(&house, &key, 5.0, fault), watch);
    assert_eq!(findings, json!([]));
    for platform in &platforms {
        check_platform(platform, &sent).await;
    }
    let session = house.ended_session(1).await;
    assert_eq!(session["takes"].as_array().unwrap().len(), 1, "{session}");
    let file = ground.path("recordings").join(session["takes"][0]["path"].as_str().unwrap());
    let (marks, _) = read_take(&file).unwrap();
    let live: std::collections::HashSet<&str> = sent.iter().map(|mark| mark.digest.as_str()).collect();
    assert!(marks.iter().all(|mark| live.contains(mark.digest.as_str())), "the take holds the show alone");
    let events = house.get("/sessions/1/report")["events"].to_string();
    assert!(events.contains("the slate is shown") && events.contains("the slate is off"), "{events}");
}

async fn check_platform(platform: &Platform, sent: &[Mark]) {
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!((report.connections.len(), &report.connections[0].fault), (1, &None), "one connection");
    let received = &report.connections[0].received;
    let runs = runs(received, sent);
    assert_eq!(runs.iter().map(|(is_live, _, _)| *is_live).collect::<Vec<_>>(), [true, false, true]);
    assert!(runs.iter().all(|(_, step, is_keyframe)| *step < 500 && *is_keyframe), "{runs:?}");
    check_sound(received);
    let slate = received.iter().filter(|mark| mark.kind.is_picture()).count();
    assert!(slate > 90 + 90 + 120, "about five seconds of it: {slate} pictures in all");
}

/// A line over SRT that carries nothing for four seconds, while the encoder goes on behind it.
#[tokio::test(flavor = "multi_thread")]
async fn the_slate_stands_in_for_a_dead_srt_line() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    house.change_channel(json!({"slate": "built_in"}));
    let plain = PlatformOptions { is_enhanced: false, ..PlatformOptions::new(PLATFORM_KEY) };
    let platform = house.add_platform_with("quayside", plain, None).await;
    let outage = Some((Duration::from_secs(4), Duration::from_secs(8)));
    let faults = NetworkFaults { delay: Duration::from_millis(20), outage, ..NetworkFaults::default() };
    let network = Network::start(house.srt, (faults, faults), 11).await.unwrap();
    let mut options = EncoderOptions::new(format!("srt://{}", network.address()), key, Duration::from_secs(12));
    options.srt.latency = Some(Duration::from_millis(300));
    let sent = Encoder::new(clip().with_sounds(3), options).run().await.unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished, "it noticed nothing");
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!((report.connections.len(), &report.connections[0].fault), (1, &None), "one connection");
    let received = &report.connections[0].received;
    let runs = runs(received, &sent.sent);
    assert_eq!(runs.iter().map(|(is_live, _, _)| *is_live).collect::<Vec<_>>(), [true, false, true]);
    assert!(runs.iter().all(|(_, step, is_keyframe)| *step < 500 && *is_keyframe), "{runs:?}");
    check_sound(received);
    let session = house.ended_session(1).await;
    assert_eq!((session["takes"].as_array().unwrap().len(), &session["session"]["loss_count"]), (1, &json!(0)));
    let file = ground.path("recordings").join(session["takes"][0]["path"].as_str().unwrap());
    let (marks, _) = read_take(&file).unwrap();
    let live: std::collections::HashSet<&str> = sent.sent.iter().map(|mark| mark.digest.as_str()).collect();
    assert!(marks.iter().all(|mark| live.contains(mark.digest.as_str())), "the take holds the show alone");
}

/// The slate can be taken off and put on again while it stands in.
#[tokio::test(flavor = "multi_thread")]
async fn the_slate_can_be_changed_while_it_is_on() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    house.change_channel(json!({"slate": "built_in"}));
    let mut first = house.encoder(&key, 20.0);
    first.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(2)));
    house.publish(first).await;
    let is_on = |house: &House<'_>| house.live()["session"]["is_slate_on"] == true;
    house.wait_until("it is on", is_on).await;
    house.change_channel(json!({"slate": "none"}));
    house.wait_until("it is off", |house| !is_on(house)).await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert!(!is_on(&house), "it stays off");
    house.change_channel(json!({"slate": "built_in"}));
    house.wait_until("it is on again", is_on).await;
    assert_eq!(house.live()["state"], "holding");
}

/// Uploaded slates are checked when they come, and again when the show is known.
#[tokio::test(flavor = "multi_thread")]
async fn an_uploaded_slate_is_checked() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    let file = std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/regatta.mp4")).unwrap();
    let (status, refused) = house.upload("/channels/finish-line/slate", b"no clip".to_vec());
    assert_eq!((status, refused["code"].as_str()), (422, Some("invalid_field")), "{refused}");
    let (status, refused) = house.upload("/channels/finish-line/slate", vec![0; 64 * 1024 * 1024 + 1]);
    assert_eq!(status, 422);
    assert!(refused["detail"].as_str().unwrap().contains("up to 64 MiB"), "{refused}");
    let (status, taken) = house.upload("/channels/finish-line/slate", file.clone());
    assert_eq!((status, &taken["width"], &taken["stream"]), (200, &json!(1280), &json!("H.264 + AAC")), "{taken}");
    assert_eq!(house.get("/channels/finish-line")["slate"], "uploaded");

    // A show of another kind: the finding says why, and the built-in one cannot help either.
    let hevc = Clip::made(&["hevc", "aac"]).unwrap();
    // As long as it takes a busy machine.
    let show = waverant_standin::Encoder::new(hevc, house.encoder(&key, 120.0)).run();
    let watch = async {
        house.wait_until("it is told", |house| house.live()["findings"].to_string().contains("slate_unfit")).await;
        let findings = house.live()["findings"].to_string();
        assert!(findings.contains("it is H.264, and the show is HEVC"), "{findings}");
        let (status, refused) = house.upload("/channels/finish-line/slate", file);
        assert_eq!(status, 422, "refused while such a show is on air");
        assert!(refused["detail"].as_str().unwrap().contains("encode it as HEVC"), "{refused}");
        house.call("POST", "/channels/finish-line/end-session", None);
    };
    let (shown, ()) = tokio::join!(show, watch);
    assert!(matches!(shown.unwrap().end, EncoderEnd::Refused { .. }), "it was ended from here");
    house.ended_session(1).await;
    house.call("DELETE", "/channels/finish-line/slate", None);
    assert_eq!(house.get("/channels/finish-line")["slate"], "built_in");
    assert_eq!(house.try_call("GET", "/channels/finish-line/slate", None).0, 404);
}
