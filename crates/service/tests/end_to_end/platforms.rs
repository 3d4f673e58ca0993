use std::time::Duration;

use waverant_standin::{MarkKind, PlatformFault, compare};

use crate::house::{Ground, PATIENCE};

/// One of three platforms resets in mid-show: it is redialled and gets headers and a keyframe
/// first; the other two lose nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_that_dies_is_redialled_and_hurts_nobody() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let faulty = house.add_platform("plovio", Some(PlatformFault::ResetOnceAfter(Duration::from_secs(2)))).await;
    let healthy = [house.add_platform("tindrel", None).await, house.add_platform("quayside", None).await];
    let sent = house.publish(house.encoder(&key, 7.0)).await;
    for platform in &healthy {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        let report = platform.report();
        assert_eq!(report.connections.len(), 1);
        let found = compare(&sent.sent, &report.connections[0].received, true);
        assert_eq!((found.fault, found.picture_count), (None, 210));
    }
    assert!(faulty.wait_for(PATIENCE, |report| report.connections.last().unwrap().was_ended).await);
    let report = faulty.report();
    assert_eq!(report.connections.len(), 2);
    let again = &report.connections[1].received;
    let kinds: Vec<MarkKind> = again.iter().map(|mark| mark.kind).take(3).collect();
    assert_eq!(kinds, [MarkKind::VideoHeader, MarkKind::AudioHeader, MarkKind::Keyframe]);
    assert_eq!(compare(&sent.sent, again, true).fault, None);
    let before = report.connections[0].received.last().unwrap().timestamp_ms;
    assert!(again[0].timestamp_ms > before, "{} after {before}", again[0].timestamp_ms);
    assert_eq!(ground.log().matches("the leg goes on at a keyframe").count(), 1, "said of the redial only");
    let session = house.ended_session(1).await;
    assert_eq!(session["legs"][0]["redial_count"], 1);
    assert!(session["legs"][0]["reason"].as_str().unwrap().contains("the connection broke"), "{session}");
}

/// A platform that never reads is given up by the stall clock; meanwhile memory stays bounded
/// and the neighbour loses nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_that_never_reads_costs_bounded_memory() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let _stalled = house.add_platform("plovio", Some(PlatformFault::StallAfter(Duration::ZERO))).await;
    let healthy = house.add_platform("quayside", None).await;
    let publish = house.publish(house.encoder(&key, 16.0));
    let watch = async {
        house.wait_until("the stall is noticed", |house| house.live()["legs"][0]["reason"].is_string()).await;
        house.live()
    };
    let (sent, live) = tokio::join!(publish, watch);
    assert!(live["legs"][0]["reason"].as_str().unwrap().contains("took nothing for 10 s"), "{live}");
    assert!(healthy.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(compare(&sent.sent, &healthy.report().connections[0].received, true).fault, None);
    let resident = house.resident_kib();
    assert!(resident < 100 * 1024, "waverantd holds {resident} KiB");
}

/// A platform that refuses is shown as such, with its own words.
#[tokio::test(flavor = "multi_thread")]
async fn a_refusing_platform_is_shown_with_its_words() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let _refusing = house.add_platform("plovio", Some(PlatformFault::Refuse)).await;
    let publish = house.publish(house.encoder(&key, 2.0));
    let watch = async {
        house.wait_until("the leg is refused", |house| house.live()["legs"][0]["state"] == "refused").await;
        house.live()
    };
    let (_, live) = tokio::join!(publish, watch);
    assert!(live["legs"][0]["reason"].as_str().unwrap().contains("No streams today."), "{live}");
    assert!(live["legs"][0]["next_dial_in_ms"].as_u64().is_some());
}
