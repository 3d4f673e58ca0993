//! Stream keys by rule, against a real server.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use time::macros::datetime;
use time::{Duration, OffsetDateTime};
use waverant_relay::{KeyRight, KeyRules, KeyUse, OpenHours, Protocol, Secret, WhenOver};
use waverant_store::{
    ChannelSettings, KeyPassword, KeyRenewal, KeyTerms, MadeStreamKey, NewStreamKey, RecordingSettings, SrtTerms,
    Store, StoreError, StreamKey, TestDatabase,
};

const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

async fn store() -> (TestDatabase, Store, u64) {
    let database = TestDatabase::create().await.unwrap();
    let store = database.store().await.unwrap();
    let settings = ChannelSettings {
        title: "Finish line".into(),
        hold_ms: 10_000,
        recording: RecordingSettings::default(),
        takeover: Default::default(),
        slate: Default::default(),
        loudness: None,
        srt: SrtTerms::default(),
        viewing: Default::default(),
    };
    let channel = store.add_channel("finish-line", &settings, NOW).await.unwrap();
    (database, store, channel.id)
}

fn full_terms() -> KeyTerms {
    KeyTerms {
        label: "van".to_owned(),
        rank: 2,
        rules: KeyRules {
            starts_at: Some(NOW),
            expires_at: Some(NOW + Duration::DAY),
            hours: Some(OpenHours::new("Europe/Lisbon", &["mon-fri 08:00-18:00", "sat 22:00-02:00"]).unwrap()),
            allowed_from: vec!["192.0.2.0/24".parse().unwrap()],
            protocols: vec![Protocol::Rtmps, Protocol::Srt],
            most_connections: Some(1),
            when_over: WhenOver::ShowGoesOn,
        },
        passphrase: Some(Secret::new("over the weir")),
    }
}

fn new_key(terms: KeyTerms) -> NewStreamKey {
    NewStreamKey { right: KeyRight::Publish, terms, own: None, guest_until: None }
}

fn password(name: &str, secret: &Secret) -> KeyPassword {
    KeyPassword { salt: "salt".into(), digest: Secret::new(format!("{name}/{}", secret.reveal())) }
}

async fn add(store: &Store, channel: u64, new: NewStreamKey) -> MadeStreamKey {
    store.add_keys(channel, &[new], NOW, &password).await.unwrap().remove(0)
}

async fn all(store: &Store, channel: u64) -> Vec<StreamKey> {
    store.keys_of(&[channel]).await.unwrap()
}

#[tokio::test]
async fn all_that_is_said_of_a_key_is_kept_and_changed() {
    let (database, store, channel) = store().await;
    let made = add(&store, channel, new_key(full_terms())).await;
    assert_eq!((&made.key.terms, made.key.family), (&full_terms(), made.key.id));
    assert_eq!(all(&store, channel).await, std::slice::from_ref(&made.key));
    let plain = KeyTerms { label: "bus".to_owned(), ..KeyTerms::default() };
    let changed = store.change_key(channel, made.key.id, |before| {
        assert_eq!(before, &made.key);
        Ok::<_, StoreError>(plain.clone())
    });
    let (before, after) = changed.await.unwrap();
    assert_eq!((&before.terms, &after.terms), (&full_terms(), &plain));
    assert_eq!(all(&store, channel).await, [after]);
    let refused = store.change_key(channel, made.key.id, |_| Err(StoreError::Busy)).await;
    assert!(matches!(refused, Err(StoreError::Busy)));
    let missing = store.change_key(channel + 1, made.key.id, |_| Ok::<_, StoreError>(plain.clone())).await;
    assert!(matches!(missing, Err(StoreError::NotFound { .. })));
    // A zone that this version does not know: the key is there, and opens nothing.
    let raw = sqlx::MySqlPool::connect(database.url()).await.unwrap();
    sqlx::query("UPDATE stream_keys SET hours = 'mon 08:00-09:00', hours_zone = 'Wexcombe/Reach'")
        .execute(&raw)
        .await
        .unwrap();
    assert!(all(&store, channel).await[0].terms.rules.starts_at.unwrap().year() == 9999);
}

#[tokio::test]
async fn a_chosen_key_is_there_once_and_a_list_is_made_whole_or_not() {
    let (_database, store, channel) = store().await;
    let own = |label: &str, key: &str| NewStreamKey {
        own: Some(Secret::new(key)),
        ..new_key(KeyTerms { label: label.to_owned(), ..KeyTerms::default() })
    };
    let made = add(&store, channel, own("van", "Boathouse_2019")).await;
    assert!(made.key.is_own && made.secret.reveal() == "Boathouse_2019");
    assert!(made.key.prefix.len() == 7 && !"Boathouse_2019".starts_with(&made.key.prefix));
    let digest = made.key.password.unwrap().digest;
    assert_eq!(digest.reveal(), format!("{}/Boathouse_2019", made.key.prefix), "its user is its name");
    let list = [own("bus", "Riverbank_2019"), own("boat", "Boathouse_2019")];
    let refused = store.add_keys(channel, &list, NOW, &password).await;
    assert!(matches!(refused, Err(StoreError::NameTaken(label)) if label == "boat"));
    assert_eq!(all(&store, channel).await.len(), 1, "nothing of the list");
}

#[tokio::test]
async fn a_renewed_key_and_its_successor_open_together_for_a_while() {
    let (_database, store, channel) = store().await;
    let guest = NewStreamKey { guest_until: Some(NOW + Duration::DAY), ..new_key(full_terms()) };
    let old = add(&store, channel, guest).await;
    let both_until = NOW + Duration::hours(2);
    let renew = async |id, both_until| {
        let renewal = KeyRenewal { both_until, guest_until: None, now: NOW };
        let check = |present: &StreamKey| if present.retired.is_some() { Err(StoreError::Busy) } else { Ok(()) };
        store.renew_key((channel, id), renewal, &password, check).await
    };
    let first = renew(old.key.id, both_until).await.unwrap();
    assert_eq!((&first.key.terms, first.key.family), (&full_terms(), old.key.id));
    assert!(first.secret != old.secret && first.key.guest.is_none());
    let kept = all(&store, channel).await.remove(0);
    assert_eq!(kept.terms.rules.expires_at, Some(both_until));
    assert!(kept.terms.rules.when_over == WhenOver::ShowGoesOn && kept.guest.is_none());
    let second = renew(first.key.id, NOW + Duration::days(9)).await.unwrap();
    assert_eq!(second.key.family, old.key.id, "the first of all");
    let kept = all(&store, channel).await.remove(1);
    assert_eq!(kept.terms.rules.expires_at, Some(NOW + Duration::DAY), "nothing is made longer by it");
    store.retire_key(channel, old.key.id, WhenOver::ShowEnds, NOW).await.unwrap();
    assert!(matches!(renew(old.key.id, both_until).await, Err(StoreError::Busy)), "it is looked at first");
    assert_eq!(all(&store, channel).await.len(), 3, "and nothing is made then");
}

#[tokio::test]
async fn retired_keys_and_guests_links_are_forgotten_in_time() {
    let (_database, store, channel) = store().await;
    let guest = |label: &str| NewStreamKey {
        guest_until: Some(NOW + Duration::hours(1)),
        ..new_key(KeyTerms { label: label.to_owned(), ..KeyTerms::default() })
    };
    let (van, bus) = (add(&store, channel, guest("van")).await, add(&store, channel, guest("bus")).await);
    let link = van.key.guest.clone().unwrap();
    assert_eq!(store.open_guest_link(van.guest_token.as_ref().unwrap(), &link).unwrap(), van.secret);
    assert!(store.open_guest_link(bus.guest_token.as_ref().unwrap(), &link).is_err());
    store.retire_key(channel, bus.key.id, WhenOver::ShowGoesOn, NOW).await.unwrap();
    store.retire_key(channel, bus.key.id, WhenOver::ShowEnds, NOW + Duration::HOUR).await.unwrap();
    let retired = &all(&store, channel).await[1];
    assert_eq!(retired.retired, Some((NOW, WhenOver::ShowEnds)), "the show may still be ended");
    assert!(retired.guest.is_none());
    assert!(store.forget_old_keys(NOW).await.unwrap().is_empty());
    assert_eq!(store.forget_old_keys(NOW + Duration::HOUR).await.unwrap(), [channel]);
    assert!(all(&store, channel).await[0].guest.is_none());
    assert_eq!(store.forget_old_keys(NOW + Duration::days(91)).await.unwrap(), [channel]);
    assert_eq!(all(&store, channel).await.len(), 1);
    assert!(matches!(store.end_guest_link(channel, van.key.id).await, Err(StoreError::NotFound { .. })));
    let boat = add(&store, channel, guest("boat")).await;
    store.end_guest_link(channel, boat.key.id).await.unwrap();
    assert!(all(&store, channel).await[1].guest.is_none());
}

#[tokio::test]
async fn the_last_use_is_kept_whatever_comes_late() {
    let (_database, store, channel) = store().await;
    let made = add(&store, channel, new_key(full_terms())).await;
    let used = |seconds, address: &str| KeyUse {
        key_id: made.key.id,
        used_at: NOW + Duration::seconds(seconds),
        address: address.to_owned(),
        encoder: "van".to_owned(),
        protocol: "srt".to_owned(),
    };
    for used in [used(5, "192.0.2.7:4000"), used(2, "192.0.2.1:4000")] {
        store.write_key_use(&used).await.unwrap();
    }
    assert_eq!(all(&store, channel).await[0].last_use, Some(used(5, "192.0.2.7:4000")));
}

#[tokio::test]
async fn a_channel_takes_so_many_keys() {
    let (_database, store, channel) = store().await;
    let many = vec![new_key(KeyTerms { label: "van".to_owned(), ..KeyTerms::default() }); 500];
    for _ in 0..2 {
        store.add_keys(channel, &many, NOW, &password).await.unwrap();
    }
    let refused = store.add_keys(channel, &many[..1], NOW, &password).await;
    assert!(matches!(refused, Err(StoreError::TooMany { most: 1000, .. })));
    assert_eq!(all(&store, channel).await.len(), 1000);
}
