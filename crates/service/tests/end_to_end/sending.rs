//! What can be set for a leg: delay, start, sound, limits, batches; and what changes in mid-show.

use std::time::{Duration, Instant};

use serde_json::json;
use waverant_standin::{Clip, Encoder, EncoderEnd, MarkKind, PlatformOptions, compare};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY};

async fn state_is(house: &House<'_>, destination: &str, state: &str) {
    house.wait_until(&format!("{destination} is {state}"), |house| house.leg(destination)["state"] == state).await;
}

/// A delayed leg gets the whole show, later, to its end; what is beyond memory waits on the disk.
#[tokio::test(flavor = "multi_thread")]
async fn a_delayed_leg_gets_everything_later() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let live = house.add_platform("quayside", None).await;
    let late = house.add_platform("plovio", None).await;
    house.send("plovio", json!({"delay_ms": 4000}));
    let began = Instant::now();
    let watch = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        let leg = house.leg("plovio");
        assert_eq!(leg["state"], "off");
        assert!(leg["reason"].as_str().unwrap().contains("4 s behind the show"), "{leg}");
        assert!(leg["next_dial_in_ms"].as_u64().is_some(), "{leg}");
        state_is(&house, "plovio", "carrying").await;
        let after = began.elapsed();
        assert!((Duration::from_millis(3900)..Duration::from_secs(7)).contains(&after), "{after:?}");
        assert!(house.leg("plovio")["behind_ms"].as_u64() >= Some(4000));
        house.wait_until("a part waits on the disk", |house| house.holds_open("state/spool")).await;
    };
    let (sent, ()) = tokio::join!(house.publish(house.encoder(&key, 12.0)), watch);
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(live.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let live_ended = Instant::now();
    assert!(late.wait_for(PATIENCE, |report| report.connections.first().is_some_and(|first| first.was_ended)).await);
    assert!(live_ended.elapsed() > Duration::from_secs(3), "the tail came later, too");
    for platform in [&live, &late] {
        let report = platform.report();
        assert_eq!(report.connections.len(), 1);
        assert_eq!(compare(&sent.sent, &report.connections[0].received, true).fault, None);
    }
    let report = house.ended_session(1).await;
    assert!(report["session"]["ended_at"].is_string());
    assert_eq!(house.get("/sessions/1/report")["legs"][0]["delay_ms"], 4000);
    assert_eq!(std::fs::read_dir(ground.path("state/spool")).map(Iterator::count).unwrap_or(0), 0);
}

/// A disk that cannot be written under a delayed leg costs memory, not pictures.
#[tokio::test(flavor = "multi_thread")]
async fn a_delayed_leg_outlives_a_failing_disk() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let late = house.add_platform("plovio", None).await;
    house.send("plovio", json!({"delay_ms": 5000}));
    // Where the folder would be there is a file.
    std::fs::write(ground.path("state/spool"), "in the way").unwrap();
    let sent = house.publish(house.encoder(&key, 9.0)).await;
    assert!(late.wait_for(PATIENCE, |report| report.connections.first().is_some_and(|first| first.was_ended)).await);
    assert_eq!(compare(&sent.sent, &late.report().connections[0].received, true).fault, None);
    assert!(ground.log().contains("cannot be kept on the disk"), "it is told: {}", ground.log());
}

/// A show that is over plays on at its delayed legs, until it is ended once more.
#[tokio::test(flavor = "multi_thread")]
async fn delayed_legs_can_be_cut_off_after_the_end() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let late = house.add_platform("plovio", None).await;
    house.send("plovio", json!({"delay_ms": 60_000}));
    let sent = house.publish(house.encoder(&key, 2.0)).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    house.wait_until("it plays on", |house| house.live()["state"] == "over").await;
    assert_eq!(house.leg("plovio")["state"], "off");
    house.call("POST", "/channels/finish-line/end-session", None);
    house.wait_until("it is gone", |house| house.live()["state"] == "off air").await;
    assert_eq!(house.ended_session(1).await["session"]["end_reason"], "the encoder stopped");
    assert!(late.report().connections.is_empty(), "nothing more was sent");
}

/// One leg starts later than the others.
#[tokio::test(flavor = "multi_thread")]
async fn a_leg_can_start_later() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let first = house.add_platform("quayside", None).await;
    let later = house.add_platform("plovio", None).await;
    house.send("plovio", json!({"start_after_ms": 3000}));
    let sent = house.publish(house.encoder(&key, 7.0)).await;
    for platform in [&first, &later] {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    }
    let received = &later.report().connections[0].received;
    let found = compare(&sent.sent, received, true);
    assert_eq!(found.fault, None);
    assert!((60..130).contains(&found.first_picture.unwrap()), "it began at picture {:?}", found.first_picture);
    assert_eq!(received.iter().find(|mark| mark.kind.is_picture()).unwrap().timestamp_ms, 0);
}

/// Destinations are added, switched, moved and retuned in mid-show; the neighbour notices nothing.
#[tokio::test(flavor = "multi_thread")]
async fn changes_in_mid_show_leave_the_neighbour_alone() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let steady = house.add_platform("quayside", None).await;
    let changes = async {
        state_is(&house, "quayside", "carrying").await;
        let plovio = house.add_platform("plovio", None).await;
        state_is(&house, "plovio", "carrying").await;
        // Nothing that needs another connection.
        house.call(
            "PATCH",
            "/destinations/plovio",
            Some(json!({"batch_ms": 0, "limits": {"max_bitrate_bps": 9_000_000}})),
        );
        tokio::time::sleep(Duration::from_millis(500)).await;
        assert_eq!(plovio.report().connections.len(), 1);
        let tindrel = house.add_platform("tindrel", None).await;
        state_is(&house, "tindrel", "carrying").await;
        house.switch("tindrel", false);
        state_is(&house, "tindrel", "off").await;
        house.call("PATCH", "/destinations/plovio", Some(json!({"address": tindrel.url()})));
        assert!(tindrel.wait_for(PATIENCE, |report| report.connections.len() == 2).await, "plovio has moved there");
        house.call("PATCH", "/destinations/plovio", Some(json!({"key": "another-key"})));
        state_is(&house, "plovio", "refused").await;
        house.call("DELETE", "/destinations/tindrel", None);
        house.wait_until("it is gone", |house| house.leg("tindrel")["state"] == "off").await;
        plovio
    };
    let (sent, plovio) = tokio::join!(house.publish(house.encoder(&key, 8.0)), changes);
    assert!(steady.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = steady.report();
    assert_eq!(report.connections.len(), 1);
    let found = compare(&sent.sent, &report.connections[0].received, true);
    assert_eq!((found.fault, found.first_picture), (None, Some(0)));
    let moved = &plovio.report().connections[0];
    assert!(moved.was_ended && compare(&sent.sent, &moved.received, false).fault.is_none());
}

/// Each destination gets the sound that was chosen for it, by name, language or number.
#[tokio::test(flavor = "multi_thread")]
async fn every_destination_gets_its_own_sound() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let choices = [
        ("first", json!({})),
        ("second", json!({"audio": "number:2"})),
        ("german", json!({"audio": "language:de"})),
        ("named", json!({"audio": "name:riverbank"})),
        ("missing", json!({"audio": "language:fr", "audio_otherwise": "none"})),
    ];
    let mut platforms = Vec::new();
    for (name, choice) in choices {
        let options = PlatformOptions { is_enhanced: false, ..PlatformOptions::new(PLATFORM_KEY) };
        platforms.push(house.add_platform_with(name, options, None).await);
        house.call("PATCH", &format!("/destinations/{name}"), Some(choice));
    }
    let (status, refused) = house.try_call("PATCH", "/destinations/first", Some(json!({"audio": "loud"})));
    assert_eq!(status, 422);
    assert!(refused["detail"].as_str().unwrap().contains("`language:de`"), "{refused}");
    let clip = Clip::made(&["h264", "aac", "aac", "aac"]).unwrap();
    let labels = [("en", "Programme mix"), ("de-AT", "Kommentar"), ("en", "Riverbank")];
    let show = Encoder::new(clip.with_labels(&labels), house.encoder(&key, 3.0)).run();
    let watch = async {
        state_is(&house, "missing", "carrying").await;
        house.wait_until("the note is there", |house| house.leg("missing")["note"].is_string()).await;
        let told = house.leg("missing")["note"].clone();
        assert_eq!(told, "there is no sound `language:fr`; none is sent");
    };
    let (sent, ()) = tokio::join!(show, watch);
    let sent = sent.unwrap();
    for (platform, expected) in platforms.iter().zip([Some(0), Some(1), Some(1), Some(2), None]) {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        let received = platform.report().connections[0].received.clone();
        let sound: Vec<&str> = received
            .iter()
            .filter(|mark| mark.kind == MarkKind::Sound)
            .map(|mark| {
                let sent = sent.sent.iter().find(|sent| sent.digest == mark.digest).unwrap();
                ["0", "1", "2"][usize::from(sent.track)]
            })
            .collect();
        match expected {
            Some(track) => assert!(!sound.is_empty() && sound.iter().all(|found| *found == track.to_string())),
            None => assert!(sound.is_empty()),
        }
    }
}

fn findings(house: &House<'_>) -> String {
    house.live()["findings"].to_string()
}

/// Limits warn before and in the show; with the choice `do_not_send` nothing is sent.
#[tokio::test(flavor = "multi_thread")]
async fn limits_warn_or_hold_back() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let warned = house.add_platform("quayside", None).await;
    let held = house.add_platform("tindrel", None).await;
    house.call("PATCH", "/destinations/quayside", Some(json!({"limits": {"needs_tls": true, "max_long_side": 854}})));
    assert!(findings(&house).contains("rtmps://"), "told before the show");
    let sheet = json!({"max_short_side": 480, "on_breach": "do_not_send"});
    house.call("PATCH", "/destinations/tindrel", Some(json!({ "limits": sheet })));
    let (status, refused) =
        house.try_call("PATCH", "/destinations/tindrel", Some(json!({"limits": {"video_codecs": ["VHS"]}})));
    assert_eq!(status, 422);
    assert!(refused["detail"].as_str().unwrap().contains("`VHS` is no codec"), "{refused}");
    let watch = async {
        let is_told = |house: &House<'_>| findings(house).contains("1280x720");
        house.wait_until("it is told in the show", is_told).await;
        assert_eq!(house.leg("quayside")["state"], "carrying");
        state_is(&house, "tindrel", "off").await;
        let leg = house.leg("tindrel");
        assert!(leg["reason"].as_str().unwrap().contains("at most any by 480"), "{leg}");
        // The sheet is corrected in mid-show.
        house.call("PATCH", "/destinations/tindrel", Some(json!({"limits": {}})));
        state_is(&house, "tindrel", "carrying").await;
    };
    let (sent, ()) = tokio::join!(house.publish(house.encoder(&key, 8.0)), watch);
    for platform in [&warned, &held] {
        assert!(
            platform.wait_for(PATIENCE, |report| report.connections.last().is_some_and(|last| last.was_ended)).await
        );
        let report = platform.report();
        assert_eq!(compare(&sent.sent, &report.connections.last().unwrap().received, true).fault, None);
    }
    house.ended_session(1).await;
    let report = house.get("/sessions/1/report");
    assert!(report["findings"].to_string().contains("1280x720"), "{report}");
}

/// Orders that come while a leg dials hold when it is there.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_changed_while_a_leg_dials_is_not_lost() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_secure_platform("plovio").await;
    // A door in front of it that opens when it is told to: TLS waits for it.
    let door = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (port, behind) = (door.local_addr().unwrap().port(), platform.url());
    let behind = behind.trim_start_matches("rtmps://").split('/').next().unwrap().to_owned();
    house.call("PATCH", "/destinations/plovio", Some(json!({"address": format!("rtmps://localhost:{port}/in")})));
    let clip = Clip::made(&["h264", "aac", "aac"]).unwrap();
    let show = Encoder::new(clip, house.encoder(&key, 4.0)).run();
    let change = async {
        let (mut caller, _) = door.accept().await.unwrap();
        house.call("PATCH", "/destinations/plovio", Some(json!({"audio": "number:2"})));
        let mut inside = tokio::net::TcpStream::connect(behind).await.unwrap();
        let _ = tokio::io::copy_bidirectional(&mut caller, &mut inside).await;
    };
    let (sent, ()) = tokio::join!(show, change);
    let sent = sent.unwrap();
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    let sounds = report.connections[0].received.iter().filter(|mark| mark.kind == MarkKind::Sound);
    let tracks: Vec<u8> =
        sounds.map(|mark| sent.sent.iter().find(|sent| sent.digest == mark.digest).unwrap().track).collect();
    assert!(tracks.len() > 20 && tracks.iter().all(|track| *track == 1), "{tracks:?}");
}
