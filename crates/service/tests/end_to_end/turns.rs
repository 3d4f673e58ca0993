//! Platforms that send us elsewhere, and ourselves doing so when we stop.

use std::time::Duration;

use waverant_standin::{EncoderEnd, Platform, PlatformFault, PlatformOptions, compare};

use crate::house::{Ground, PATIENCE, PLATFORM_KEY};

#[tokio::test(flavor = "multi_thread")]
async fn a_redirect_is_followed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let target = Platform::start(PlatformOptions::new(PLATFORM_KEY)).await.unwrap();
    let options = PlatformOptions { redirect: Some(target.url()), ..PlatformOptions::new(PLATFORM_KEY) };
    let first = house.add_platform_with("plovio", options, None).await;
    let sent = house.publish(house.encoder(&key, 3.0)).await;
    assert!(target.wait_for(PATIENCE, |report| report.connections.first().is_some_and(|c| c.was_ended)).await);
    assert_eq!(compare(&sent.sent, &target.report().connections[0].received, true).fault, None);
    assert_eq!((first.report().connections.len(), target.report().connections.len()), (1, 1));
}

/// Two platforms that send us to each other are given up for a while, not asked for ever.
#[tokio::test(flavor = "multi_thread")]
async fn redirects_in_a_circle_end() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    drop(listener);
    let redirect = Some(format!("rtmp://{address}/live"));
    let options = PlatformOptions { listen: address, redirect, ..PlatformOptions::new(PLATFORM_KEY) };
    let circle = house.add_platform_with("plovio", options, None).await;
    let watch = async {
        house.wait_until("the leg waits", |house| house.leg("plovio")["state"] == "waiting to redial").await;
        house.leg("plovio")["reason"].as_str().unwrap().to_owned()
    };
    let (_, reason) = tokio::join!(house.publish(house.encoder(&key, 3.0)), watch);
    assert!(reason.contains("sent us to another address; that was 4 times in a row"), "{reason}");
    assert!(circle.report().connections.len() < 25, "{} connections", circle.report().connections.len());
}

/// A platform that asks us to connect anew is obeyed at once; timestamps go on.
#[tokio::test(flavor = "multi_thread")]
async fn a_reconnect_request_is_obeyed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let fault = PlatformFault::AskToReconnectOnceAfter(Duration::from_secs(2));
    let platform = house.add_platform("plovio", Some(fault)).await;
    let sent = house.publish(house.encoder(&key, 5.0)).await;
    let ended = |report: &waverant_standin::PlatformReport| {
        report.connections.len() == 2 && report.connections.iter().all(|connection| connection.was_ended)
    };
    assert!(platform.wait_for(PATIENCE, ended).await, "both connections end in order");
    let report = platform.report();
    assert_eq!(compare(&sent.sent, &report.connections[0].received, false).fault, None);
    assert_eq!(compare(&sent.sent, &report.connections[1].received, true).fault, None);
    let before = report.connections[0].received.last().unwrap().timestamp_ms;
    assert!(report.connections[1].received[0].timestamp_ms > before);
    let leg = house.ended_session(1).await["legs"][0].clone();
    assert!(leg["reason"].as_str().unwrap().contains("asked us to connect anew: This machine is taken"), "{leg}");
    assert_eq!(leg["redial_count"], 1);
}

/// A platform that breaks off plain handshakes is greeted with a digest the next time.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_that_wants_a_digest_gets_one() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", Some(PlatformFault::WantsDigest)).await;
    let sent = house.publish(house.encoder(&key, 4.0)).await;
    let ended = |report: &waverant_standin::PlatformReport| report.connections.last().is_some_and(|c| c.was_ended);
    assert!(platform.wait_for(PATIENCE, ended).await);
    let report = platform.report();
    assert_eq!(report.connections.len(), 2);
    assert!(report.connections[0].received.is_empty());
    assert_eq!(compare(&sent.sent, &report.connections[1].received, true).fault, None);
}

/// When the service stops, encoders that know how are asked to come back.
#[tokio::test(flavor = "multi_thread")]
async fn a_stop_asks_encoders_to_connect_anew() {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    let report = {
        let stop = async {
            house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
            house.signal("-TERM");
        };
        tokio::join!(house.publish(house.encoder(&key, 20.0)), stop).0
    };
    assert!(report.was_asked_to_reconnect);
    let EncoderEnd::Refused { code, description, .. } = report.end else { panic!("{:?}", report.end) };
    assert_eq!((code.as_str(), description.as_str()), ("NetStream.Unpublish.Success", "the server is stopping"));
    assert_eq!(house.wait_for_exit(), Some(0));
}
