//! Before the show: trying destinations, and rehearsing.

use serde_json::{Value, json};
use waverant_standin::{Authority, MarkKind, PlatformFault, PlatformOptions, Validity};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY};

fn try_it(house: &House<'_>, name: &str, publishes: bool) -> Value {
    house.call("POST", &format!("/destinations/{name}/try"), Some(json!({ "publishes": publishes })))
}

fn steps(tried: &Value) -> Vec<(&str, bool)> {
    let steps = tried["steps"].as_array().unwrap().iter();
    steps.map(|step| (step["step"].as_str().unwrap(), step["is_good"].as_bool().unwrap())).collect()
}

fn outcome(tried: &Value) -> &str {
    tried["steps"].as_array().unwrap().last().unwrap()["outcome"].as_str().unwrap()
}

/// A destination is tried step by step; the key is shown only when asked for.
#[tokio::test(flavor = "multi_thread")]
async fn a_destination_is_tried_without_going_live() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let authority = Authority::new().unwrap();
    let tls = Some(authority.issue("localhost", Validity::Good).unwrap().server_config().unwrap());
    let options = PlatformOptions { tls, ..PlatformOptions::new(PLATFORM_KEY) };
    let platform = house.add_platform_with("plovio", options, Some(authority.pem())).await;
    let tried = try_it(&house, "plovio", false);
    let expected = ["resolve", "connect", "tls", "handshake", "application"].map(|step| (step, true));
    assert_eq!((steps(&tried), &tried["is_good"]), (expected.to_vec(), &json!(true)));
    assert!(tried["steps"][2]["outcome"].as_str().unwrap().contains("TLS 1.3"), "{tried}");
    assert!(tried["steps"].as_array().unwrap().iter().all(|step| step["took_ms"].is_u64()));
    let connection = &platform.report().connections[0];
    assert!(connection.refused.is_none() && connection.received.is_empty() && !connection.was_ended);
    let tried = try_it(&house, "plovio", true);
    assert_eq!(steps(&tried).last(), Some(&("publish", true)));
    assert!(platform.wait_for(PATIENCE, |report| report.connections[1].was_ended).await);

    house.call("PATCH", "/destinations/plovio", Some(json!({"key": "wrong", "authority": ""})));
    let tried = try_it(&house, "plovio", true);
    assert_eq!(steps(&tried).last(), Some(&("tls", false)));
    house.call("PATCH", "/destinations/plovio", Some(json!({"authority": authority.pem()})));
    let tried = try_it(&house, "plovio", true);
    assert_eq!((steps(&tried).last(), tried["is_good"].as_bool()), (Some(&("publish", false)), Some(false)));
    assert!(outcome(&tried).contains("NetStream.Publish.BadName: Unknown stream."), "{tried}");

    house.call("PATCH", "/destinations/plovio", Some(json!({"address": "rtmp://no-such-host.invalid/in"})));
    let tried = try_it(&house, "plovio", false);
    assert_eq!(steps(&tried), [("resolve", false)]);
    house.call("PATCH", "/destinations/plovio", Some(json!({"address": "rtmp://127.0.0.1:1/in"})));
    assert_eq!(steps(&try_it(&house, "plovio", false)), [("resolve", true), ("connect", false)]);
    let _silent = house.add_platform("quayside", Some(PlatformFault::SayNothing)).await;
    let tried = try_it(&house, "quayside", false);
    assert_eq!(steps(&tried).last(), Some(&("handshake", false)));
}

/// A rehearsal runs on the test picture: to the built-in sink, or to a chosen destination.
#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_ends_with_its_report() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let begun = house.call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 4})));
    assert_eq!(begun["session"], 1);
    assert_eq!(house.live()["session"]["is_rehearsal"], true);
    let (status, busy) = house.try_call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 4})));
    assert_eq!((status, busy["code"].as_str()), (409, Some("conflict")));
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["is_rehearsal"], true);
    assert_eq!(session["takes"], json!([]), "a rehearsal is not recorded");
    let report = house.get("/sessions/1/report");
    let leg = &report["legs"][0];
    assert_eq!(leg["destination"], "built-in sink");
    assert!((115..=125).contains(&leg["sent_frame_count"].as_u64().unwrap()), "{report}");
    assert!((3500..4600).contains(&leg["carried_ms"].as_u64().unwrap()), "{report}");
    assert_eq!((&leg["gap_count"], &leg["dropped_frame_count"]), (&json!(0), &json!(0)));
    assert!(platform.report().connections.is_empty(), "the channel's destinations are left alone");

    let chosen = json!({"seconds": 3, "destinations": ["plovio"]});
    house.call("POST", "/channels/finish-line/rehearsals", Some(chosen));
    let refused = house.publish(house.encoder(&key, 1.0)).await;
    assert_ne!(refused.end, waverant_standin::EncoderEnd::Finished, "an encoder waits until it is done");
    assert!(
        platform.wait_for(PATIENCE, |report| report.connections.first().is_some_and(|first| first.was_ended)).await
    );
    let received = platform.report().connections[0].received.clone();
    assert!(received.iter().filter(|mark| mark.kind == MarkKind::Keyframe).count() >= 2);
    assert!(received.iter().any(|mark| mark.kind == MarkKind::Sound));
    house.ended_session(2).await;
    let (status, _) = house.try_call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 0})));
    assert_eq!(status, 422);
}
