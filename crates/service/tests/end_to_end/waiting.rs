//! Players that come before the show wait for it, and stay for the next.

use std::io::Read;
use std::net::SocketAddr;
use std::time::Duration;

use serde_json::json;
use tokio::task::JoinHandle;
use waverant_standin::{Mark, PlayerOptions, SrtOptions, compare, read_flv, read_transport_stream, watch_over_srt};

use crate::house::{Ground, House};
use crate::play::watch;

/// Everything that comes over HTTP, until the house ends it.
fn fetch(viewing: SocketAddr, name: &'static str) -> JoinHandle<Vec<u8>> {
    tokio::task::spawn_blocking(move || {
        let answer = ureq::get(format!("http://{viewing}/watch/finish-line/{name}")).call().unwrap();
        let mut bytes = Vec::new();
        answer.into_body().into_reader().read_to_end(&mut bytes).unwrap();
        bytes
    })
}

fn player(house: &House<'_>, key: &str) -> PlayerOptions {
    let (server, key) = (format!("rtmp://{}/out", house.rtmp), key.to_owned());
    PlayerOptions { server, key, length: Duration::from_secs(60), pause: None }
}

async fn are_there(house: &House<'_>, expected: &serde_json::Value) {
    let is_so = |house: &House<'_>| {
        let viewers = house.live()["viewers"].clone();
        expected.as_object().unwrap().iter().all(|(way, count)| viewers[way] == *count)
    };
    house.wait_until("the players are there", is_so).await;
}

/// Ends a viewing key's players.
fn withdraw(house: &House<'_>) {
    let keys = house.get("/channels/finish-line/keys");
    let id = keys.as_array().unwrap().iter().find(|key| key["right"] == "view").unwrap()["id"].clone();
    house.call("DELETE", &format!("/channels/finish-line/keys/{id}"), None);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_comes_before_the_show_gets_all_of_it_and_of_the_next() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let (ts, flv) = (fetch(house.viewing, "stream.ts"), fetch(house.viewing, "stream.flv"));
    let (options, srt) = (SrtOptions::default(), house.srt);
    let over_srt = async { watch_over_srt(srt, &viewing, &options, Duration::from_secs(60)).await.unwrap() };
    let shows = async {
        are_there(&house, &json!({"stream": 2, "rtmp": 1, "srt": 1})).await;
        tokio::time::sleep(Duration::from_millis(1500)).await;
        let first = house.publish(house.encoder(&key, 4.0)).await;
        house.ended_session(1).await;
        are_there(&house, &json!({"stream": 2, "rtmp": 1, "srt": 1})).await;
        let second = house.publish(house.encoder(&key, 4.0)).await;
        house.ended_session(2).await;
        // What is late over SRT still comes.
        tokio::time::sleep(Duration::from_millis(1500)).await;
        house.change_channel(json!({"viewing": {"audience": "nobody"}}));
        withdraw(&house);
        [first.sent, second.sent].concat()
    };
    let (sent, over_rtmp, over_srt, ts, flv) = tokio::join!(shows, watch(player(&house, &viewing)), over_srt, ts, flv);
    let (ts, flv) = (ts.unwrap(), flv.unwrap());
    assert_eq!(over_rtmp.ended.unwrap().1, "The viewing key was withdrawn.");
    let expect = |how: &str, received: &[Mark]| {
        let found = compare(&sent, received, true);
        assert_eq!((found.fault, found.first_picture), (None, Some(0)), "{how}");
    };
    expect("RTMP", &over_rtmp.received);
    expect("SRT", &over_srt);
    expect("FLV", &read_flv(&flv).unwrap());
    expect("MPEG-TS", &read_transport_stream(&ts).unwrap());
    assert_eq!(&ts[..4], &[0x47, 0x1f, 0xff, 0x10], "a sign that the line is there came before the show");
}

/// By the channel's rule players get the holding picture before, between and after; it goes on in the show without a
/// step back, and stops when the rule says so. A way that is closed ends who is on it.
#[tokio::test(flavor = "multi_thread")]
async fn players_get_the_holding_picture_while_no_show_is_on() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    house.change_channel(json!({"viewing": {"audience": "everybody", "between_shows": "picture"}}));
    let ts = fetch(house.viewing, "stream.ts");
    let show = async {
        are_there(&house, &json!({"stream": 1, "rtmp": 1})).await;
        tokio::time::sleep(Duration::from_secs(3)).await;
        let sent = house.publish(house.encoder(&key, 4.0)).await.sent;
        house.ended_session(1).await;
        tokio::time::sleep(Duration::from_secs(3)).await;
        house.change_channel(json!({"viewing": {"ways": ["segments"]}}));
        sent
    };
    let (sent, over_rtmp, ts) = tokio::join!(show, watch(player(&house, &viewing)), ts);
    let marks = read_transport_stream(&ts.unwrap()).unwrap();
    assert_eq!(over_rtmp.ended.as_ref().unwrap().1, "This channel is not watched this way any more.");
    for (how, received) in [("MPEG-TS", marks), ("RTMP", over_rtmp.received)] {
        let is_of_show = |mark: &Mark| mark.kind.is_picture() && sent.iter().any(|sent| sent.digest == mark.digest);
        let pictures: Vec<&Mark> = received.iter().filter(|mark| mark.kind.is_picture()).collect();
        let of_show = pictures.iter().filter(|mark| is_of_show(mark)).count();
        let begin = pictures.iter().position(|mark| is_of_show(mark)).unwrap();
        let after = pictures.len() - begin - of_show;
        assert!(begin > 30 && after > 30, "{how}: {begin} before, {of_show}, {after} after");
        assert_eq!(of_show, sent.iter().filter(|mark| mark.kind.is_picture()).count(), "{how}");
        assert!(pictures.is_sorted_by_key(|mark| mark.timestamp_ms), "{how}: times go back");
        let longest = pictures.windows(2).map(|pair| pair[1].timestamp_ms - pair[0].timestamp_ms).max();
        assert!(longest < Some(200), "{how}: a hole of {longest:?} ms");
    }
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let get = |name: &str| agent.get(format!("http://{}/watch/finish-line/{name}", house.viewing)).call().unwrap();
    assert_eq!(get("stream.ts").status(), 403);
    assert_eq!(get("live/index.m3u8").status(), 404, "open, and not on air");
    let state = get("state").body_mut().read_to_string().unwrap();
    assert!(state.contains("\"ways\":[\"near\",\"plain\"]"), "{state}");
    assert_eq!(house.try_call("PATCH", "/channels/finish-line", Some(json!({"viewing": {"ways": []}}))).0, 422);
}
