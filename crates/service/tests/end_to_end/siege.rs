//! Everything that strangers can do at once, beside two running shows: no picture is lost at any leg, memory is
//! bounded, a right key is on air, and all records are whole. What it costs in latency is measured by the benchmark.

use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde_json::json;
use waverant_standin::{Encoder, EncoderEnd, PlatformOptions, Siege, SiegeDoors, compare};

use super::house::{Ground, House, PATIENCE, PLATFORM_KEY, clip};

/// Twelve seconds; two minutes by hand, with WAVERANT_SIEGE_SECONDS=120 and a release build.
fn length() -> Duration {
    let seconds = std::env::var("WAVERANT_SIEGE_SECONDS").ok().and_then(|seconds| seconds.parse().ok());
    Duration::from_secs(seconds.unwrap_or(12))
}

/// More than this is not to be had by anybody.
const MEMORY_KIB: u64 = 150 * 1024;

#[tokio::test(flavor = "multi_thread")]
async fn two_shows_go_on_under_everything_at_once() {
    let ground = Ground::new().await;
    ground.write_settings("[limits]\nhandshake_timeout_s = 2\nsetup_timeout_s = 3\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let channel = json!({"name": "boathouse", "hold_ms": 0, "slate": "none",
        "srt": {"latency_ms": 1500, "passphrase": "the umpire's launch"}});
    house.call("POST", "/channels", Some(channel));
    let made = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "camera"})));
    let srt_key = made["encoder"]["key"].as_str().unwrap().to_owned();
    let other = json!({"name": "weir", "hold_ms": 0, "slate": "none"});
    house.call("POST", "/channels", Some(other));
    let made = house.call("POST", "/channels/weir/keys", Some(json!({"label": "bank"})));
    let other_key = made["encoder"]["key"].as_str().unwrap().to_owned();
    let plovio = house.add_platform("plovio", None).await;
    let tindrel = waverant_standin::Platform::start(PlatformOptions::new(PLATFORM_KEY)).await.unwrap();
    house.call(
        "POST",
        "/destinations",
        Some(json!({"name": "tindrel", "address": tindrel.url(), "key": PLATFORM_KEY})),
    );
    house.call("PUT", "/channels/boathouse/destinations/tindrel", Some(json!({"is_on": true})));

    let length = length();
    let doors = SiegeDoors { rtmp: house.rtmp, srt: house.srt, http: house.http, srt_key: srt_key.clone() };
    let siege = Siege::start(&doors);
    let seconds = length.as_secs_f64();
    let mut over_srt = house.encoder_at(true, &srt_key, seconds);
    over_srt.srt.passphrase = Some("the umpire's launch".to_owned());
    over_srt.srt.latency = Some(Duration::from_millis(1500));
    let shows =
        [house.encoder(&key, seconds), over_srt].map(|options| tokio::spawn(Encoder::new(clip(), options).run()));
    let began = Instant::now();
    let (mut most, mut times) = (0, Vec::new());
    while began.elapsed() < length {
        most = most.max(house.resident_kib());
        let called = Instant::now();
        let sent = house.publish(house.encoder(&other_key, 0.3)).await;
        assert_eq!(sent.end, EncoderEnd::Finished, "a right key is let in");
        times.push(called.elapsed().saturating_sub(Duration::from_millis(300)));
    }
    let mut sent = Vec::new();
    for show in shows {
        sent.push(show.await.unwrap().unwrap());
    }
    let counts = siege.counts();
    let of =
        [&counts.rtmp_calls, &counts.wrong_passphrases, &counts.guesses].map(|count| count.load(Ordering::Relaxed));
    assert!(of.iter().all(|count| *count > 20), "calls, wrong passphrases, guesses: {of:?}");
    drop(siege);
    for (sent, platform) in sent.iter().zip([&plovio, &tindrel]) {
        assert_eq!(sent.end, EncoderEnd::Finished);
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    }
    assert!(times.iter().all(|time| *time < Duration::from_secs(2)), "on air after {times:?}");
    assert!(most < MEMORY_KIB, "the house takes {most} KiB");
    check_records(&house, times.len()).await;
}

/// Two long shows and the short ones, each with its end.
async fn check_records(house: &House<'_>, short: usize) {
    let all = || house.get("/sessions?limit=500")["items"].as_array().unwrap().clone();
    let is_whole = |_: &House<'_>| {
        let sessions = all();
        sessions.len() == short + 2 && sessions.iter().all(|session| session["end_reason"] == "the encoder stopped")
    };
    house.wait_until("all records are there", is_whole).await;
}
