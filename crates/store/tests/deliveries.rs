//! Who is told what happens, and what they were told, against a real server.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::time::Duration;

use time::OffsetDateTime;
use time::macros::datetime;
use waverant_relay::{
    Announcement, CallForm, CallRules, CallTarget, Occurrence, OccurrenceKind, Secret, SlateChoice, Takeover,
    ViewingRules,
};
use waverant_store::{
    ChannelSettings, DeliveryFilter, DeliveryState, DeliveryTry, RecordingSettings, SrtTerms, Store, StoreError,
    TestDatabase, WaitingCount, WaitingLane,
};

const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

fn target(name: &str, channel: Option<u64>) -> CallTarget {
    let kinds = [OccurrenceKind::SessionBegins, OccurrenceKind::LegRefused].into();
    let form = CallForm::Text { content_type: "text/plain".to_owned(), template: "{{ text }}".to_owned() };
    let rules = CallRules { is_on: true, channel, kinds, form };
    let (address, secret) = (Secret::new("https://chat.wexcombe.example/in/7"), Secret::new("whsec_x"));
    CallTarget { id: 0, name: name.to_owned(), address, secret, rules }
}

fn announcement(number: u64, lane: u64, targets: &[u64]) -> Announcement {
    let occurrence = Occurrence::new(OccurrenceKind::SessionBegins, NOW, format!("number {number}"));
    let occurrence = if lane == 0 { occurrence } else { occurrence.in_channel(lane, "finish-line") };
    Announcement { event_id: format!("evt_{number}"), targets: targets.to_vec(), occurrence }
}

async fn channel(store: &Store) -> u64 {
    let settings = ChannelSettings {
        title: String::new(),
        hold_ms: 10_000,
        recording: RecordingSettings::default(),
        takeover: Takeover::Refuse,
        slate: SlateChoice::BuiltIn,
        loudness: None,
        srt: SrtTerms::default(),
        viewing: ViewingRules::default(),
    };
    store.add_channel("finish-line", &settings, NOW).await.unwrap().id
}

fn tried(fault: Option<&str>) -> DeliveryTry {
    let (took, fault) = (Duration::from_millis(12), fault.map(str::to_owned));
    DeliveryTry { at: NOW, took, status: Some(200), answer: "x".repeat(5000), fault }
}

#[tokio::test]
async fn targets_are_kept_with_their_secrets() {
    let database = TestDatabase::create().await.unwrap();
    let store = database.store().await.unwrap();
    let channel = channel(&store).await;
    let (of_house, of_channel) = (target("club", None), target("a chat", Some(channel)));
    let house_id = store.add_call_target(&of_house, 2).await.unwrap();
    let taken = store.add_call_target(&of_house, 3).await;
    assert!(matches!(taken, Err(StoreError::NameTaken(name)) if name == "club"));
    let channel_id = store.add_call_target(&of_channel, 2).await.unwrap();
    let more = store.add_call_target(&target("third", None), 2).await;
    assert!(matches!(more, Err(StoreError::TooMany { most: 2, .. })));
    let (of_house, of_channel) = (CallTarget { id: house_id, ..of_house }, CallTarget { id: channel_id, ..of_channel });
    assert_eq!(store.call_targets().await.unwrap(), [of_channel.clone(), of_house.clone()]);
    let mut changed = CallTarget { name: "member list".to_owned(), ..of_house };
    changed.rules.form = CallForm::Event;
    store.set_call_target(&changed).await.unwrap();
    assert_eq!(store.call_targets().await.unwrap(), [of_channel, changed.clone()]);
    store.remove_channel("finish-line").await.unwrap();
    assert_eq!(store.call_targets().await.unwrap(), [changed.clone()], "it goes with its channel");
    store.remove_call_target(house_id, "club").await.unwrap();
    assert!(matches!(store.set_call_target(&changed).await, Err(StoreError::NotFound { .. })));
    assert!(matches!(store.remove_call_target(house_id, "club").await, Err(StoreError::NotFound { .. })));
}

#[tokio::test]
async fn each_lane_waits_for_its_first() {
    let database = TestDatabase::create().await.unwrap();
    let store = database.store().await.unwrap();
    let id = store.add_call_target(&target("club", None), 9).await.unwrap();
    let other = store.add_call_target(&target("chat", None), 9).await.unwrap();
    for (number, lane) in [(1, 7), (2, 0), (3, 7), (3, 7)] {
        store.write_announcement(&announcement(number, lane, &[id, 4711])).await.unwrap();
    }
    store.write_announcement(&announcement(1, 7, &[other])).await.unwrap();
    let next = store.next_deliveries(id, Some(7), 10).await.unwrap();
    assert_eq!(next.iter().map(|one| one.event_id.as_str()).collect::<Vec<_>>(), ["evt_1", "evt_3"], "each once");
    assert_eq!((next[0].state, next[0].tries, &next[0].last), (DeliveryState::Waiting, 0, &None));
    let later = NOW + Duration::from_secs(2);
    store.note_delivery_try(&[next[0].id], DeliveryState::Waiting, later, &tried(Some("closed"))).await.unwrap();
    let lane = |lane, next_at| WaitingLane { target_id: id, lane, next_at };
    let mut lanes = store.waiting_lanes().await.unwrap();
    lanes.retain(|lane| lane.target_id == id);
    lanes.sort_by_key(|lane| lane.lane);
    assert_eq!(lanes, [lane(0, NOW), lane(7, later)], "who comes behind it waits with it");
    let counts = store.waiting_counts().await.unwrap();
    assert!(counts.contains(&WaitingCount { target_id: id, count: 3, tries: 1 }), "{counts:?}");
    store.hurry_deliveries(id, NOW).await.unwrap();
    assert!(store.waiting_lanes().await.unwrap().iter().all(|lane| lane.next_at == NOW));
    store.note_delivery_try(&[next[0].id], DeliveryState::Delivered, NOW, &tried(None)).await.unwrap();
    store.note_delivery_try(&[next[0].id], DeliveryState::GivenUp, NOW, &tried(Some("late"))).await.unwrap();
    let told = store.delivery(next[0].id).await.unwrap();
    assert_eq!((told.state, told.tries), (DeliveryState::Delivered, 2), "what was decided stays");
    assert_eq!(told.last.unwrap().answer.len(), 2000);
    assert_eq!(store.next_deliveries(id, None, 10).await.unwrap().len(), 2);
    store.deliver_again(told.id, NOW).await.unwrap();
    let again = store.next_deliveries(id, Some(7), 1).await.unwrap();
    assert_eq!((again[0].event_id.as_str(), again[0].event.as_str()), ("evt_1", next[0].event.as_str()));
    assert!(matches!(store.deliver_again(4711, NOW).await, Err(StoreError::NotFound { .. })));
}

#[tokio::test]
async fn deliveries_are_listed_and_forgotten() {
    let database = TestDatabase::create().await.unwrap();
    let store = database.store().await.unwrap();
    let id = store.add_call_target(&target("club", None), 9).await.unwrap();
    for number in 1..=4 {
        store.write_announcement(&announcement(number, number % 2, &[id])).await.unwrap();
    }
    let all = store.deliveries(&DeliveryFilter { limit: 10, ..DeliveryFilter::default() }).await.unwrap();
    assert_eq!(all.iter().map(|one| one.event_id.as_str()).collect::<Vec<_>>(), ["evt_4", "evt_3", "evt_2", "evt_1"]);
    store.note_delivery_try(&[all[0].id, all[1].id], DeliveryState::Delivered, NOW, &tried(None)).await.unwrap();
    let list = |filter: DeliveryFilter| {
        let store = &store;
        async move { store.deliveries(&filter).await }
    };
    let base = DeliveryFilter { limit: 10, ..DeliveryFilter::default() };
    assert_eq!(list(DeliveryFilter { state: Some(DeliveryState::Delivered), ..base.clone() }).await.unwrap().len(), 2);
    assert_eq!(list(DeliveryFilter { channel: Some("finish-line".into()), ..base.clone() }).await.unwrap().len(), 2);
    assert_eq!(list(DeliveryFilter { before: Some(all[1].id), ..base.clone() }).await.unwrap().len(), 2);
    assert_eq!(list(DeliveryFilter { target_id: Some(id + 1), ..base.clone() }).await.unwrap().len(), 0);
    store.forget_deliveries(NOW).await.unwrap();
    assert_eq!(list(base.clone()).await.unwrap().len(), 4);
    store.forget_deliveries(NOW + Duration::from_secs(1)).await.unwrap();
    assert_eq!(list(base.clone()).await.unwrap().len(), 2, "what waits is kept");
    store.remove_call_target(id, "club").await.unwrap();
    assert_eq!(list(base).await.unwrap().len(), 0);
}
