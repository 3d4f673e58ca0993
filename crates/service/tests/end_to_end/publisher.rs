use std::time::Duration;

use serde_json::json;
use waverant_standin::{Clip, Encoder, EncoderEnd, EncoderFault, MarkKind, compare, first_difference, read_take};

use crate::house::{Ground, PATIENCE, clip};

/// A wrong key: told at once, closed, and in the list.
#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_key_is_turned_away() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let report = house.publish(house.encoder("abcdefg-nobodyknowsthiskey", 5.0)).await;
    let EncoderEnd::Refused { code, description, after_ms } = &report.end else { panic!("{:?}", report.end) };
    assert_eq!(code, "NetStream.Publish.BadName");
    assert!(description.contains("not known here"), "{description}");
    assert!(*after_ms < 2000, "told after {after_ms} ms");
    assert!(report.was_closed, "the server closes the connection itself");
    house
        .wait_until("the attempt is listed", |house| !house.get("/turned-away")["items"].as_array().unwrap().is_empty())
        .await;
    let listed = house.get("/turned-away")["items"][0].clone();
    assert_eq!((listed["reason"].as_str(), listed["key_prefix"].as_str()), (Some("unknown_key"), Some("abcdefg")));
    assert_eq!(
        (&listed["address"], &listed["protocol"], &listed["count"]),
        (&json!("127.0.0.1"), &json!("rtmp"), &json!(1))
    );
    assert_eq!(listed["at"], listed["first_at"]);
    for guess in ["abcdefg-another", "hjkmnpq-guess"] {
        house.publish(house.encoder(guess, 1.0)).await;
    }
    house.wait_until("they are one with it", |house| house.get("/turned-away")["items"][0]["count"] == 3).await;
    let all = house.get("/turned-away")["items"].clone();
    assert_eq!(
        (all.as_array().unwrap().len(), &all[0]["key_prefix"]),
        (1, &json!("hjkmnpq")),
        "the last guess is told"
    );
    assert_eq!(all[0]["encoder"], listed["encoder"]);
    assert_eq!(house.live()["state"], "off air");
}

/// The line breaks and comes back within the hold time: one session, one connection at the
/// platform, timestamps go on, one recording.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_publisher_returns_into_its_session() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let platform = house.add_platform("plovio", None).await;
    let mut first = house.encoder(&key, 20.0);
    first.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(3)));
    let first = house.publish(first).await;
    assert_eq!(first.end, EncoderEnd::Faulted);
    house.wait_until("holding", |house| house.live()["state"] == "holding").await;
    tokio::time::sleep(Duration::from_millis(700)).await;
    let mut second = house.encoder(&key, 3.0);
    second.first_packet = clip().keyframe_from(first.next_packet);
    let second = house.publish(second).await;
    assert_eq!(second.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(platform.report().connections.len(), 1, "the platform saw one connection");
    let received = &platform.report().connections[0].received;
    let sent: Vec<_> = first.sent.iter().chain(&second.sent).cloned().collect();
    assert_eq!(compare(&sent, received, true).fault, None);
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["loss_count"], 1);
    assert_eq!(session["takes"].as_array().unwrap().len(), 1);
    let file = ground.path("recordings").join(session["takes"][0]["path"].as_str().unwrap());
    let (marks, seconds) = read_take(&file).unwrap();
    assert_eq!(compare(&sent, &marks, true).fault, None);
    assert!(seconds > 6.5, "the gap is kept: {seconds} s");
}

/// Another encoder with the same key goes on with other pictures, other sound and another clock: on
/// the same connection the platform gets the new headers, and the report says it.
#[tokio::test(flavor = "multi_thread")]
async fn an_encoder_may_return_with_other_parameters() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let platform = house.add_platform("plovio", None).await;
    let mut first = house.encoder(&key, 20.0);
    first.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(2)));
    let first = house.publish(first).await;
    house.wait_until("holding", |house| house.live()["state"] == "holding").await;
    let mut options = house.encoder(&key, 3.0);
    options.first_timestamp_ms = 4_000_000;
    let second = Encoder::new(Clip::made(&["h264", "opus"]).unwrap(), options).run().await.unwrap();
    assert_eq!(second.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!((report.connections.len(), &report.connections[0].fault), (1, &None));
    let received = &report.connections[0].received;
    let headers: Vec<usize> = (0..received.len()).filter(|at| received[*at].kind == MarkKind::VideoHeader).collect();
    let [_, again] = headers[..] else { panic!("two headers, not {headers:?}") };
    assert_eq!(first_difference(&first.sent, &received[..again]), None);
    assert_eq!(compare(&second.sent, &received[again..], true).fault, None);
    assert!(received.windows(2).all(|pair| pair[1].timestamp_ms + 40 >= pair[0].timestamp_ms), "times go on");
    assert_eq!(house.ended_session(1).await["takes"].as_array().unwrap().len(), 2, "another file for other parameters");
    let events = house.get("/sessions/1/report")["events"].to_string();
    assert!(events.contains("the stream changed from H.264 + AAC 1280x720 to H.264 + Opus"), "{events}");
}

/// Nobody returns: the session ends when the hold time is over.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_publisher_that_stays_away_ends_the_session() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(500);
    let mut options = house.encoder(&key, 20.0);
    options.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(2)));
    let sent = house.publish(options).await;
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the publisher was lost and did not return in time");
    assert_eq!(session["takes"][0]["state"], "complete");
    let file = ground.path("recordings").join(session["takes"][0]["path"].as_str().unwrap());
    assert_eq!(first_difference(&sent.sent, &read_take(&file).unwrap().0), None);
}

/// A second encoder on a busy channel is told so; the first goes on.
#[tokio::test(flavor = "multi_thread")]
async fn a_busy_channel_refuses_a_second_encoder() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, other) = (house.make_channel(0), house.make_key("phone", 0));
    let first = house.publish(house.encoder(&key, 3.0));
    let second = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        house.publish(house.encoder(&other, 3.0)).await
    };
    let (first, second) = tokio::join!(first, second);
    assert_eq!(first.end, EncoderEnd::Finished);
    let EncoderEnd::Refused { description, .. } = second.end else { panic!("{:?}", second.end) };
    assert!(description.contains("already on this channel"), "{description}");
    house.wait_until("it is listed", |house| house.get("/turned-away")["items"][0]["reason"] == "channel_busy").await;
    let listed = house.get("/turned-away")["items"][0].clone();
    assert_eq!(
        (listed["channel"].as_str(), listed["key_prefix"].as_str()),
        (Some("finish-line"), other.split('-').next())
    );
}

/// A key that is withdrawn in mid-show ends its publisher; another key of the channel opens.
#[tokio::test(flavor = "multi_thread")]
async fn a_withdrawn_key_ends_its_publisher() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(5_000);
    let other = house.call("POST", "/channels/finish-line/keys", Some(json!({"label": "spare"})));
    let publish = house.publish(house.encoder(&key, 20.0));
    let withdraw = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        let id = house.get("/channels/finish-line/keys")[0]["id"].as_u64().unwrap();
        house.call("DELETE", &format!("/channels/finish-line/keys/{id}"), None);
    };
    let (report, ()) = tokio::join!(publish, withdraw);
    let EncoderEnd::Refused { description, .. } = &report.end else { panic!("{:?}", report.end) };
    assert!(description.contains("the stream key was withdrawn"), "{description}");
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the stream key was withdrawn");
    let again = house.publish(house.encoder(other["encoder"]["key"].as_str().unwrap(), 1.0)).await;
    assert_eq!(again.end, EncoderEnd::Finished);
}

/// An encoder that falls silent counts as lost after the idle time, which is counted.
#[tokio::test(flavor = "multi_thread")]
async fn a_silent_encoder_is_given_up_and_counted() {
    let ground = Ground::new().await;
    ground.write_settings("[limits]\nidle_timeout_s = 1\n");
    let house = ground.start();
    let key = house.make_channel(60_000);
    let mut options = house.encoder(&key, 6.0);
    options.fault = Some(EncoderFault::StallAfter(Duration::from_secs(1)));
    let watch = async {
        house.wait_until("holding", |house| house.live()["state"] == "holding").await;
        house.get("/live")["refused_counts"].clone()
    };
    let (_, counts) = tokio::join!(house.publish(options), watch);
    assert_eq!(counts, json!([{"reason": "idle_publisher", "count": 1}]));
}

/// An encoder with fields for user name and password: the user is the first part of the key, the
/// password the key, and the stream may have any name.
#[tokio::test(flavor = "multi_thread")]
async fn user_name_and_password_open_the_door() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let made =
        house.call("POST", "/channels/finish-line/keys", Some(json!({"label": "hardware box"})))["encoder"].clone();
    let field = |name: &str| made[name].as_str().unwrap().to_owned();
    assert!(field("guarded_server").ends_with("/door"));
    let attempt = |user: String, password: String| {
        let mut options = house.encoder("camera", 1.0);
        options.server = format!("rtmp://{}/door", house.rtmp);
        options.credentials = Some((user, password));
        house.publish(options)
    };
    let report = attempt(field("user"), field("key")).await;
    assert_eq!(report.end, EncoderEnd::Finished);
    assert_eq!(house.ended_session(1).await["session"]["key_label"], "hardware box");
    for (user, password) in [(field("user"), "wrong".to_owned()), ("nobody1".to_owned(), field("key"))] {
        let report = attempt(user, password).await;
        let EncoderEnd::Refused { description, .. } = report.end else { panic!("{:?}", report.end) };
        assert!(description.contains("reason=authfailed"), "{description}");
    }
    // Without credentials the encoder is told that they are needed.
    let mut options = house.encoder("camera", 1.0);
    options.server = format!("rtmp://{}/door", house.rtmp);
    let EncoderEnd::Refused { description, .. } = house.publish(options).await.end else { panic!("let in") };
    assert!(description.contains("need auth"), "{description}");
    house.wait_until("two are listed", |house| house.get("/turned-away")["items"][0]["count"] == 2).await;
    assert_eq!(house.get("/turned-away")["items"][0]["reason"], "wrong_password");
    assert!(!ground.log().contains(&field("key")) && !ground.log().contains("response="));
}
