//! Who is on air when several encoders come.

use std::time::Duration;

use serde_json::json;
use waverant_standin::{EncoderEnd, EncoderFault, EncoderReport, Mark, PlatformReport};

use crate::house::{Ground, House, PATIENCE, clip};

/// What a platform got of which encoder: runs of pictures by the place of their sender.
fn runs(received: &[Mark], senders: &[&EncoderReport]) -> Vec<usize> {
    let mut runs = Vec::new();
    for mark in received.iter().filter(|mark| mark.kind.is_picture()) {
        let sender = senders.iter().position(|sender| sender.sent.iter().any(|sent| sent.digest == mark.digest));
        let sender = sender.expect("every picture was sent by somebody");
        if runs.last() != Some(&sender) {
            runs.push(sender);
        }
    }
    runs
}

/// The longest time between two pictures.
fn longest_step(received: &[Mark]) -> u32 {
    let times: Vec<u32> = received.iter().filter(|mark| mark.kind.is_picture()).map(|mark| mark.timestamp_ms).collect();
    assert!(times.windows(2).all(|pair| pair[0] <= pair[1]), "times rise");
    times.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0)
}

fn only_connection(report: &PlatformReport) -> &[Mark] {
    assert_eq!(report.connections.len(), 1, "the platform saw one connection");
    assert_eq!(report.connections[0].fault, None);
    &report.connections[0].received
}

async fn publish_from(house: &House<'_>, key: &str, seconds: f64, first_packet: usize) -> EncoderReport {
    let mut options = house.encoder(key, seconds);
    options.first_packet = clip().keyframe_from(first_packet);
    house.publish(options).await
}

async fn on_air(house: &House<'_>, key_label: &str) {
    let is_it = |house: &House<'_>| {
        let live = house.live();
        live["state"] == "on air" && live["session"]["key_label"] == key_label
    };
    house.wait_until(&format!("{key_label} is on air"), is_it).await;
}

/// With the rule `replace` a second encoder takes over at its keyframe: no gap at the platform, and
/// the first is told.
#[tokio::test(flavor = "multi_thread")]
async fn a_second_encoder_takes_over_without_a_gap() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (van, phone) = (house.make_channel(10_000), house.make_key("phone", 0));
    house.change_channel(json!({"takeover": "replace"}));
    let platform = house.add_platform("plovio", None).await;
    let first = house.publish(house.encoder(&van, 20.0));
    let second = async {
        house.wait_until("the leg carries", |house| house.leg("plovio")["sent_frame_count"].as_u64() > Some(30)).await;
        publish_from(&house, &phone, 3.0, 3000).await
    };
    let (first, second) = tokio::join!(first, second);
    let EncoderEnd::Refused { description, .. } = &first.end else { panic!("{:?}", first.end) };
    assert!(description.contains("another encoder took over: `phone`"), "{description}");
    assert_eq!(second.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    let received = only_connection(&report);
    assert_eq!(runs(received, &[&first, &second]), [0, 1]);
    assert!(longest_step(received) < 100, "a gap of {} ms", longest_step(received));
    let session = house.ended_session(1).await;
    assert_eq!(
        (&session["session"]["loss_count"], &session["session"]["end_reason"]),
        (&json!(0), &json!("the encoder stopped"))
    );
    let report = house.get("/sessions/1/report");
    assert!(report["events"][0]["text"].as_str().unwrap().contains("`phone` from 127.0.0.1:"), "{report}");
}

/// The same key comes again while its old connection still looks alive: it goes on at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_phone_that_changed_networks_goes_on_at_once() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let platform = house.add_platform("plovio", None).await;
    let mut silent = house.encoder(&key, 30.0);
    silent.fault = Some(EncoderFault::StallAfter(Duration::from_secs(2)));
    let first = house.publish(silent);
    let second = async {
        house.wait_until("the leg carries", |house| house.leg("plovio")["sent_frame_count"].as_u64() >= Some(59)).await;
        tokio::time::sleep(Duration::from_millis(400)).await;
        publish_from(&house, &key, 3.0, 400).await
    };
    let second = tokio::select! {
        second = second => second,
        first = first => panic!("the old connection hangs: {:?}", first.end),
    };
    assert_eq!(second.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    let received = only_connection(&report);
    assert!(longest_step(received) < 1500, "a gap of {} ms", longest_step(received));
    let last = second.sent.iter().rfind(|mark| mark.kind.is_picture()).unwrap();
    assert_eq!(received.iter().rfind(|mark| mark.kind.is_picture()).unwrap().digest, last.digest);
    assert_eq!(house.ended_session(1).await["session"]["loss_count"], 0);
}

/// A backup encoder waits, takes over when the first is lost, and gives back when it returns.
#[tokio::test(flavor = "multi_thread")]
async fn a_backup_takes_over_and_gives_back() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (main, backup) = (house.make_channel(10_000), house.make_key("backup", 1));
    let platform = house.add_platform("plovio", None).await;
    let mut breaking = house.encoder(&main, 30.0);
    breaking.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(3)));
    let first = house.publish(breaking);
    let second = async {
        on_air(&house, "van").await;
        publish_from(&house, &backup, 14.0, 4000).await
    };
    let third = async {
        on_air(&house, "van").await;
        house.wait_until("the backup waits", |house| house.live()["session"]["waiting"] == json!(["backup"])).await;
        on_air(&house, "backup").await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        let third = publish_from(&house, &main, 3.0, 8000).await;
        house.wait_until("the backup goes on", |house| house.live()["session"]["key_label"] == "backup").await;
        third
    };
    let (first, second, third) = tokio::join!(first, second, third);
    assert_eq!(
        (first.end.clone(), second.end.clone(), third.end.clone()),
        (EncoderEnd::Faulted, EncoderEnd::Finished, EncoderEnd::Finished)
    );
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    let received = only_connection(&report);
    assert_eq!(runs(received, &[&first, &second, &third]), [0, 1, 2, 1]);
    // At most one group of pictures of the backup, and what a busy machine adds.
    assert!(longest_step(received) <= 2500, "a gap of {} ms", longest_step(received));
    assert_eq!(house.ended_session(1).await["session"]["loss_count"], 0);
}
