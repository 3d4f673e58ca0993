//! Legs that push a show to a listener of SRT.

use std::net::SocketAddr;
use std::time::Duration;

use rstest::rstest;
use serde_json::{Value, json};
use waverant_standin::{
    Encoder, EncoderReport, Mark, Network, NetworkFaults, Platform, PlatformFault, PlatformOptions, SrtOptions, compare,
};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY, clip};

const PASSPHRASE: &str = "wexcombe reach";
const LABELS: [(&str, &str); 3] = [("en", "Programme mix"), ("en", "Commentary"), ("cy", "Riverbank")];

async fn listener(passphrase: Option<&str>, fault: Option<PlatformFault>) -> Platform {
    let srt = SrtOptions { passphrase: passphrase.map(str::to_owned), ..SrtOptions::default() };
    let options = PlatformOptions { srt: Some(srt), fault, ..PlatformOptions::new(PLATFORM_KEY) };
    Platform::start(options).await.unwrap()
}

/// Makes the listener at `address` a destination of the channel.
fn add(house: &House<'_>, name: &str, address: SocketAddr, more: Value) {
    let mut destination = json!({"name": name, "address": format!("srt://{address}"), "key": PLATFORM_KEY});
    destination.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    house.call("POST", "/destinations", Some(destination));
    house.switch(name, true);
}

async fn publish(house: &House<'_>, key: &str, seconds: f64) -> EncoderReport {
    let clip = clip().with_sounds(3).with_labels(&LABELS);
    Encoder::new(clip, house.encoder(key, seconds)).run().await.unwrap()
}

/// Pictures, and this sound alone, as the only one that a receiver has.
fn with_sound(sent: &[Mark], place: u8) -> Vec<Mark> {
    let of_it = sent.iter().filter(|mark| mark.kind.is_picture() || mark.track == place);
    of_it.map(|mark| Mark { track: 0, ..mark.clone() }).collect()
}

/// One listener gets all sounds, encrypted over a line that loses five percent; the other the one
/// that was chosen for it.
#[tokio::test(flavor = "multi_thread")]
async fn a_listener_gets_the_show_whole() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let (all, one) = (listener(Some(PASSPHRASE), None).await, listener(None, None).await);
    let faults = NetworkFaults { loss: 0.05, delay: Duration::from_millis(20), ..NetworkFaults::default() };
    let network = Network::start(all.address(), (faults, faults), 11).await.unwrap();
    add(&house, "quayside", network.address(), json!({"srt": {"passphrase": PASSPHRASE, "latency_ms": 800}}));
    add(&house, "tindrel", one.address(), json!({"audio": "name:commentary"}));
    let (sent, leg) = tokio::join!(publish(&house, &key, 6.0), async {
        let has_line =
            |house: &House<'_>| house.live()["session"].is_object() && house.leg("quayside")["line"].is_object();
        house.wait_until("the leg has a line", has_line).await;
        tokio::time::sleep(Duration::from_secs(3)).await;
        house.leg("quayside")
    });
    assert_eq!((&leg["state"], &leg["line"]["latency_ms"]), (&json!("carrying"), &json!(800)));
    let share = |name: &str| leg["line"][name].as_f64().unwrap();
    assert!((0.02..0.12).contains(&share("retransmit_share")), "{leg}");
    // At least what the line takes; what a busy machine adds is not ours to judge.
    assert!(share("rtt_ms") > 35.0, "{leg}");
    assert!(leg["line"]["points"].as_array().unwrap().len() > 3, "{leg}");
    for (listener, expected) in [(&all, sent.sent.clone()), (&one, with_sound(&sent.sent, 1))] {
        assert!(listener.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        let report = listener.report();
        assert_eq!((report.connections.len(), &report.connections[0].fault), (1, &None));
        let found = compare(&expected, &report.connections[0].received, true);
        assert_eq!((found.fault, found.first_picture), (None, Some(0)));
    }
    let session = house.ended_session(1).await;
    let legs = session["legs"].as_array().unwrap();
    assert!(legs.iter().all(|leg| leg["dropped_frame_count"] == 0 && leg["redial_count"] == 0), "{legs:?}");
}

/// What the listener says stands at the leg; put right, the leg calls again at once.
#[rstest]
#[case::wrong_passphrase(json!({"srt": {"passphrase": "another phrase"}}), "wrong passphrase (code 10)")]
#[case::no_passphrase(json!({"srt": {}}), "one end has a passphrase and the other has none (code 11)")]
#[case::wrong_stream_id(json!({"key": "another", "srt": {"passphrase": PASSPHRASE}}), "the key is not known (code 1401)")]
#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_is_shown_and_put_right_in_mid_show(#[case] wrong: Value, #[case] reason: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let listener = listener(Some(PASSPHRASE), None).await;
    add(&house, "quayside", listener.address(), wrong);
    let mend = async {
        let is_refused =
            |house: &House<'_>| house.live()["session"].is_object() && house.leg("quayside")["state"] == "refused";
        house.wait_until("the leg is refused", is_refused).await;
        let told = house.leg("quayside")["reason"].as_str().unwrap().to_owned();
        assert!(told.contains(reason), "{told}");
        let right = json!({"key": PLATFORM_KEY, "srt": {"passphrase": PASSPHRASE}});
        house.call("PATCH", "/destinations/quayside", Some(right));
        house.wait_until("the leg carries", |house| house.leg("quayside")["state"] == "carrying").await;
    };
    let (sent, ()) = tokio::join!(publish(&house, &key, 6.0), mend);
    assert!(listener.wait_for(PATIENCE, |report| report.connections.last().unwrap().was_ended).await);
    let report = listener.report();
    assert!(report.connections[0].refused.is_some());
    let found = compare(&sent.sent, &report.connections.last().unwrap().received, true);
    assert_eq!(found.fault, None);
    assert!(!format!("{:?}", house.get("/destinations")).contains(PASSPHRASE));
}

/// A listener that breaks off is called again; its times go on where they were.
#[tokio::test(flavor = "multi_thread")]
async fn a_listener_that_breaks_off_is_called_again() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let listener = listener(None, Some(PlatformFault::ResetOnceAfter(Duration::from_secs(2)))).await;
    add(&house, "quayside", listener.address(), json!({}));
    let sent = publish(&house, &key, 7.0).await;
    assert!(
        listener.wait_for(PATIENCE, |report| report.connections.len() == 2 && report.connections[1].was_ended).await
    );
    let report = listener.report();
    let found = compare(&sent.sent, &report.connections[1].received, true);
    assert_eq!(found.fault, None);
    let leg = &house.ended_session(1).await["legs"][0];
    assert_eq!(leg["redial_count"], 1, "{leg}");
}

/// What goes wrong on the line is told: here nothing goes through for a while.
/// What stands with this code.
fn findings_of(house: &House<'_>, code: &str) -> Vec<serde_json::Value> {
    let all = house.live()["findings"].clone();
    all.as_array().into_iter().flatten().filter(|finding| finding["code"] == code).cloned().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_outage_is_told_and_survived() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let listener = listener(None, None).await;
    let outage = Some((Duration::from_secs(3), Duration::from_millis(5_500)));
    let faults = NetworkFaults { outage, delay: Duration::from_millis(10), ..NetworkFaults::default() };
    let network = Network::start(listener.address(), (faults, faults), 5).await.unwrap();
    add(&house, "quayside", network.address(), json!({"srt": {"latency_ms": 200}}));
    let told = async {
        let is_told = |house: &House<'_>| {
            let line = || house.leg("quayside")["line"].clone();
            house.live()["session"].is_object()
                && !findings_of(house, "line_loses").is_empty()
                && line()["dropped_packet_count"].as_u64().is_some_and(|dropped| dropped > 20)
        };
        house.wait_until("the outage is told", is_told).await;
        (house.leg("quayside"), findings_of(&house, "line_loses").remove(0))
    };
    let (_, (leg, finding)) = tokio::join!(publish(&house, &key, 9.0), told);
    assert!(finding["cause"].as_str().unwrap().contains("packets of the SRT line"), "{finding}");
    assert_eq!((&finding["destination"], &finding["destinations"]), (&json!("quayside"), &json!(["quayside"])));
    assert_eq!((&leg["state"], &leg["redial_count"]), (&json!("carrying"), &json!(0)));
    assert!(leg["line"]["dropped_packet_count"].as_u64().unwrap() > 20, "{leg}");
    // The connection outlived it, and pictures come again.
    assert!(listener.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = listener.report();
    assert_eq!(report.connections.len(), 1);
    assert!(report.connections[0].received.iter().any(|mark| mark.timestamp_ms > 7_000));
}

/// A try greets; only with the key it asks to be let in.
#[tokio::test(flavor = "multi_thread")]
async fn a_destination_over_srt_can_be_tried() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let listener = listener(Some(PASSPHRASE), None).await;
    add(&house, "quayside", listener.address(), json!({"srt": {"passphrase": PASSPHRASE}}));
    let attempt =
        |publishes: bool| house.call("POST", "/destinations/quayside/try", Some(json!({"publishes": publishes})));
    let names = |tried: &Value| {
        let steps = tried["steps"].as_array().unwrap();
        steps.iter().map(|step| step["step"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let greeted = attempt(false);
    assert_eq!((&greeted["is_good"], names(&greeted)), (&json!(true), vec!["resolve".into(), "handshake".into()]));
    assert!(listener.report().connections.is_empty(), "the stream id was not shown");
    let taken = attempt(true);
    let outcome = taken["steps"][2]["outcome"].as_str().unwrap();
    assert_eq!((taken["is_good"] == true, outcome), (true, "the stream id is taken; latency 500 ms, encrypted"));
    house.call("PATCH", "/destinations/quayside", Some(json!({"srt": {"passphrase": "another phrase"}})));
    let refused = attempt(true);
    assert!(refused["steps"][2]["outcome"].as_str().unwrap().contains("wrong passphrase"), "{refused}");
    drop(listener);
    let silent = attempt(false);
    assert!(silent["steps"][1]["outcome"].as_str().unwrap().contains("no answer"), "{silent}");
}

/// What cannot be is refused with what was expected.
#[tokio::test(flavor = "multi_thread")]
async fn terms_that_cannot_be_are_refused() {
    let ground = Ground::new().await;
    let house = ground.start();
    let rtmp = "rtmp://quayside.test/in";
    let srt = "srt://quayside.test:9000";
    for (form, expected) in [
        (json!({"address": "srt://quayside.test"}), "no port"),
        (json!({"address": "srt://quayside.test:9000?latency=200"}), "fields of their own"),
        (json!({"address": "udp://quayside.test:9000"}), "`srt://` was expected"),
        (json!({"address": rtmp, "key": "k", "srt": {"latency_ms": 200}}), "is not SRT"),
        (json!({"address": rtmp}), "a key has 1 to"),
        (json!({"address": srt, "srt": {"passphrase": "short"}}), "10 to 79"),
        (json!({"address": srt, "srt": {"latency_ms": 5}}), "20 and 65535"),
    ] {
        let mut form = form;
        form["name"] = json!("quayside");
        let (status, problem) = house.try_call("POST", "/destinations", Some(form));
        assert_eq!(status, 422, "{problem}");
        assert!(problem["detail"].as_str().unwrap().contains(expected), "{problem}");
    }
    // SRT can do without a stream id; RTMP, changed to later, cannot.
    let made = house.call("POST", "/destinations", Some(json!({"name": "quayside", "address": srt})));
    assert_eq!(made["srt"], json!({"latency_ms": 500, "has_passphrase": false}));
    let (status, _) = house.try_call("PATCH", "/destinations/quayside", Some(json!({"address": rtmp})));
    assert_eq!(status, 422);
}
