//! Players on the house net watch a channel over RTMP.

use std::time::Duration;

use serde_json::json;
use waverant_standin::{MarkKind, Player, PlayerOptions, PlayerReport, compare};

use crate::house::{Ground, House};

/// A player has its first picture after this at the latest.
const START_LIMIT_MS: u64 = 300;

pub(crate) fn options(house: &House<'_>, key: &str, seconds: f64) -> PlayerOptions {
    let length = Duration::from_secs_f64(seconds);
    // One show, and then the end.
    let key = format!("{key}?shows=one");
    PlayerOptions { server: format!("rtmp://{}/out", house.rtmp), key, length, pause: None }
}

pub(crate) async fn watch(options: PlayerOptions) -> PlayerReport {
    Player::new(options).run().await.unwrap()
}

/// Three players come in mid-show: each begins at the newest keyframe, at once, gets everything
/// from there on, and is told the end.
#[tokio::test(flavor = "multi_thread")]
async fn players_see_the_show_from_the_newest_keyframe_to_its_end() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    let players = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        tokio::time::sleep(Duration::from_millis(1500)).await;
        let counted = async {
            house.wait_until("they are counted", |house| house.live()["viewers"]["rtmp"] == 3).await;
        };
        let player = || watch(options(&house, &viewing, 20.0));
        tokio::join!(player(), player(), player(), counted)
    };
    let (sent, (first, second, third, ())) = tokio::join!(house.publish(house.encoder(&key, 6.0)), players);
    for report in [first, second, third] {
        let after = report.first_picture_after_ms.unwrap();
        assert!(after < START_LIMIT_MS, "first picture after {after} ms");
        let kinds: Vec<MarkKind> = report.received.iter().map(|mark| mark.kind).take(3).collect();
        assert_eq!(kinds, [MarkKind::VideoHeader, MarkKind::AudioHeader, MarkKind::Keyframe]);
        assert_eq!(compare(&sent.sent, &report.received, true).fault, None);
        assert_eq!(report.fault, None);
        assert!(report.encoder.unwrap().starts_with("Waverant"));
        let (code, description) = report.ended.unwrap();
        assert_eq!((code.as_str(), description.as_str()), ("NetStream.Play.UnpublishNotify", "the encoder stopped"));
        assert!(report.was_closed);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_paused_player_gets_nothing_and_goes_on_at_a_keyframe() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    let player = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        let mut options = options(&house, &viewing, 20.0);
        options.pause = Some((Duration::from_millis(1000), Duration::from_millis(1500)));
        watch(options).await
    };
    let (sent, report) = tokio::join!(house.publish(house.encoder(&key, 6.0)), player);
    assert!(report.while_paused < 15, "{} payloads came after the pause", report.while_paused);
    let headers = report.received.iter().filter(|mark| mark.kind == MarkKind::VideoHeader).count();
    assert_eq!(headers, 2, "headers come again");
    let again = report.received.iter().rposition(|mark| mark.kind == MarkKind::VideoHeader).unwrap();
    assert_eq!(compare(&sent.sent, &report.received[again..], true).fault, None);
}

/// Who may not watch is told.
#[tokio::test(flavor = "multi_thread")]
async fn watching_needs_a_viewing_key() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    let refusal = |report: PlayerReport| {
        assert!(report.was_closed && report.received.is_empty());
        report.ended.unwrap().1
    };
    house.change_channel(json!({"viewing": {"ways": ["segments", "srt"]}}));
    let closed = refusal(watch(options(&house, &viewing, 5.0)).await);
    assert!(closed.contains("not watched this way"), "{closed}");
    let publishing_key = refusal(watch(options(&house, &key, 5.0)).await);
    assert!(publishing_key.contains("Watching needs a viewing key"), "{publishing_key}");
    let unknown = refusal(watch(options(&house, "abcdefg-nobody", 5.0)).await);
    assert!(unknown.contains("not known here"), "{unknown}");
    let end = house.publish(house.encoder(&viewing, 1.0)).await.end;
    assert!(format!("{end:?}").contains("This key is for watching only"), "{end:?}");
    house
        .wait_until("three are listed", |house| house.get("/turned-away")["items"].as_array().unwrap().len() == 3)
        .await;
}

/// A viewing key that is withdrawn ends its players, and nobody else.
#[tokio::test(flavor = "multi_thread")]
async fn a_withdrawn_viewing_key_ends_its_players() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (key, viewing) = (house.make_channel(0), house.make_viewing_key());
    let spare = house.make_viewing_key();
    let withdraw = async {
        house.wait_until("they watch", |house| house.live()["viewers"]["rtmp"] == 2).await;
        let keys = house.get("/channels/finish-line/keys");
        let id = keys.as_array().unwrap().iter().find(|key| key["right"] == "view").unwrap()["id"].clone();
        house.call("DELETE", &format!("/channels/finish-line/keys/{id}"), None);
    };
    let player = |key: String| {
        let house = &house;
        async move {
            house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
            watch(options(house, &key, 20.0)).await
        }
    };
    let publish = house.publish(house.encoder(&key, 5.0));
    let (sent, ended, stays, ()) = tokio::join!(publish, player(viewing), player(spare), withdraw);
    assert_eq!(ended.ended.unwrap().1, "The viewing key was withdrawn.");
    assert_eq!(compare(&sent.sent, &stays.received, true).fault, None);
}
