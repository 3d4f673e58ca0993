//! Shows of open channels are told from object storage as well.

use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use serde_json::json;
use waverant_standin::{Mark, MarkKind, ViewerOptions, ViewerReport, compare, first_difference, watch_playlists};

use crate::house::{Ground, House, PATIENCE};
use crate::object_storage::ObjectStorage;

/// A channel that is open, and whose shows are published to `attic`.
fn publish_to(house: &House<'_>, storage: &ObjectStorage) -> String {
    let mut depot = storage.as_depot("attic");
    house.call("POST", "/depots", Some(depot.clone()));
    let rule = json!({"viewing": {"audience": "everybody", "back_ms": 10_000, "published_to": "attic"}});
    let refused = house.try_call("PATCH", "/channels/finish-line", Some(rule.clone()));
    assert!(refused.0 == 422 && refused.1.to_string().contains("viewers do not reach `attic`"), "{refused:?}");
    for wrong in ["ftp://a", "https://", "https://a b", "https://a/?x=1"] {
        let change = Some(json!({"public_address": wrong}));
        assert_eq!(house.try_call("PATCH", "/depots/attic", change).0, 422, "{wrong}");
    }
    depot = house.call("PATCH", "/depots/attic", Some(json!({"public_address": storage.open_to_everybody()})));
    house.change_channel(rule);
    assert_eq!(house.try_call("PATCH", "/depots/attic", Some(json!({"public_address": ""}))).0, 409);
    format!("{}/live/finish-line/index.m3u8", depot["public_address"].as_str().unwrap())
}

/// Something that a killed service left behind so many seconds ago.
fn leave(storage: &ObjectStorage, name: &str, seconds: u64) -> PathBuf {
    let path = storage.object(&format!("takes/live/finish-line/{name}"));
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(&path, "an old segment").unwrap();
    let written = SystemTime::now() - Duration::from_secs(seconds);
    std::fs::File::options().write(true).open(&path).unwrap().set_modified(written).unwrap();
    path
}

async fn follow(address: String) -> Vec<ViewerReport> {
    let options = ViewerOptions { address, is_near: false, length: Duration::from_secs(40) };
    tokio::task::spawn_blocking(move || watch_playlists(&options)).await.unwrap().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn viewers_follow_a_show_in_object_storage_and_nothing_stays_behind() {
    let ground = Ground::new().await;
    let storage = ObjectStorage::start(&ground.path("storage")).await;
    let house = ground.start();
    let key = house.make_channel(0);
    let address = publish_to(&house, &storage);
    let (stale, fresh) = (leave(&storage, "1/0/7.m4s", 3600), leave(&storage, "2/0/7.m4s", 20));
    assert_eq!(house.get("/channels/finish-line")["viewing"]["addresses"]["published"], address.as_str());
    let viewer = async {
        house.wait_until("it is told", |house| house.live()["publishing"]["told_until"].is_string()).await;
        let publishing = house.live()["publishing"].clone();
        assert_eq!((&publishing["depot"], &publishing["address"]), (&json!("attic"), &json!(address)));
        follow(address.clone()).await
    };
    let (sent, tracks) = tokio::join!(house.publish(house.encoder(&key, 24.0)), viewer);
    let [pictures, sound] = &tracks[..] else { panic!("{} tracks", tracks.len()) };
    assert!(pictures.is_ended && sound.is_ended);
    assert_eq!((pictures.discontinuity_count, sound.discontinuity_count), (0, 0));
    for (track, kind) in
        [(pictures, MarkKind::is_picture as fn(MarkKind) -> bool), (sound, |kind| kind == MarkKind::Sound)]
    {
        let of = |marks: &[Mark]| marks.iter().filter(|mark| kind(mark.kind)).map(|mark| mark.digest.clone()).collect();
        let (sent, received): (Vec<String>, Vec<String>) = (of(&sent.sent), of(&track.received));
        assert!(received.len() > 400 && sent.ends_with(&received), "{} of {}", received.len(), sent.len());
    }
    assert!(!stale.exists() && fresh.exists(), "of what was left behind, what is old is removed");
    house.ended_session(1).await;
    let there = storage.names_below("takes/live");
    assert!(there.len() > 10 && there.iter().any(|name| name.ends_with(".m4s")), "{there:?}");
    // The rule holds at once: who ends it wants nothing to stay there.
    let show = house.publish(house.encoder(&key, 8.0));
    let closing = async {
        let is_second = |house: &House<'_>| {
            house.live()["session"]["id"] == 2 && house.live()["publishing"]["told_until"].is_string()
        };
        house.wait_until("the next is told", is_second).await;
        let run = std::fs::read_to_string(storage.object("takes/live/finish-line/index.m3u8")).unwrap();
        let run = run.lines().last().unwrap().split('/').next().unwrap().to_owned();
        house.change_channel(json!({"viewing": {"published_to": ""}}));
        let is_gone = |_: &House<'_>| !storage.names_below("takes/live").iter().any(|name| name.contains(&run));
        house.wait_until("all of it is gone", is_gone).await;
        assert!(house.live()["publishing"].is_null());
        assert!(!storage.object("takes/live/finish-line/index.m3u8").exists());
    };
    tokio::join!(show, closing);
}

/// True while it is told that the show does not get to its depot.
fn told(house: &House<'_>) -> bool {
    house.live()["findings"].to_string().contains("publishing_fails")
}

/// While the storage is away, and when it comes back: legs and recording notice nothing, viewers miss nothing that is
/// still there, and the engineer is told.
#[tokio::test(flavor = "multi_thread")]
async fn storage_that_goes_away_hurts_nobody_else() {
    let ground = Ground::new().await;
    let storage = ObjectStorage::start(&ground.path("storage")).await;
    let house = ground.start();
    let key = house.make_channel(0);
    let address = publish_to(&house, &storage);
    let platform = house.add_platform("plovio", None).await;
    let viewer = async {
        house.wait_until("it is told", |house| house.live()["publishing"]["told_until"].is_string()).await;
        follow(address.clone()).await
    };
    let trouble = async {
        house.wait_until("it is told", |house| house.live()["publishing"]["told_until"].is_string()).await;
        storage.set_away(true);
        house.wait_until("it is shown", told).await;
        tokio::time::sleep(Duration::from_secs(5)).await;
        storage.set_away(false);
        house.wait_until("it is good again", |house| !told(house)).await;
    };
    let (sent, tracks, ()) = tokio::join!(house.publish(house.encoder(&key, 26.0)), viewer, trouble);
    let [pictures, _] = &tracks[..] else { panic!("{} tracks", tracks.len()) };
    assert!(pictures.is_ended && pictures.discontinuity_count == 0);
    assert_eq!(first_difference(&sent.sent, &pictures.received), None);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let connection = &platform.report().connections[0];
    let found = compare(&sent.sent, &connection.received, true);
    assert_eq!((found.fault, found.first_picture), (None, Some(0)));
}
