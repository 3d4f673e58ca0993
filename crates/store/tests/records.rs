//! Every query against a real server.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use sqlx::{Connection, Executor, MySqlConnection};
use time::macros::datetime;
use time::{Duration, OffsetDateTime};
use waverant_relay::{
    AddressRange, AddressRule, AskingRules, AwayAttempt, AwayGroup, CallForm, CallRules, CallTarget, Grants,
    HouseSystem, KeyRight, KeyRules, LegPhase, LegRecord, NewSession, OccurrenceKind, Reception, RecordingMode, Role,
    Scope, Secret, SessionEnd, SlateChoice, TakeMark, TakeRecord, TakeState, Takeover, UnknownKeys, ViewerCounts,
    ViewingLink, ViewingRules, WhenSilent,
};
use waverant_store::{
    ChannelSettings, CopyRecord, CopyState, CopyUpload, Depot, DestinationSettings, KeyPassword, KeyTerms, Keychain,
    MadeStreamKey, NewPasskey, NewStreamKey, NewToken, NewViewingLink, PrivateServer, RecordingSettings, Sending,
    SessionFilter, SrtTerms, Store, StoreError, TakeCard, TakeChange, TakeFilter, TestDatabase, Turn, ViewerMinute,
};

const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

async fn store() -> (TestDatabase, Store) {
    let database = TestDatabase::create().await.unwrap();
    let store = database.store().await.unwrap();
    (database, store)
}

fn settings() -> ChannelSettings {
    ChannelSettings {
        title: "Finish line".into(),
        hold_ms: 10_000,
        recording: RecordingSettings::default(),
        takeover: Takeover::Refuse,
        slate: SlateChoice::BuiltIn,
        loudness: Some(-16),
        srt: SrtTerms::default(),
        viewing: ViewingRules::default(),
    }
}

fn destination(address: &str) -> DestinationSettings {
    DestinationSettings {
        address: address.into(),
        authority: Some("PEM".into()),
        batch_ms: 20,
        ..DestinationSettings::default()
    }
}

fn session(id: u64) -> NewSession {
    NewSession {
        id,
        channel_id: 1,
        channel_name: "finish-line".into(),
        key_label: "van".into(),
        publisher_address: "192.0.2.7:50000".into(),
        encoder: "stand-in".into(),
        started_at: NOW,
        is_rehearsal: id == 3,
    }
}

fn take(session_id: u64, number: u32) -> TakeRecord {
    TakeRecord {
        session_id,
        number,
        path: format!("finish-line/{session_id}-{number}.mp4"),
        state: TakeState::Complete,
        started_at: NOW + Duration::hours(i64::try_from(session_id).unwrap()),
        duration_ms: 0,
        size_bytes: 1_000,
        gap_count: 1,
        gap_ms: 400,
        marks: vec![TakeMark { at_ms: 1_500, title: "Finish of heat 2".into() }],
        repair: None,
    }
}

#[tokio::test]
async fn recording_rules_are_kept() {
    let (_database, store) = store().await;
    let recording = RecordingSettings {
        mode: RecordingMode::ByHand,
        matroska: true,
        split_ms: 60_000,
        split_bytes: 1 << 40,
        split_at_return: true,
        names: "{date}/{session}-{take}".into(),
        pre_roll_ms: 5_000,
        keep_s: 86_400,
        keep_count: 7,
        keep_bytes: 1 << 41,
        depot: Some("attic".into()),
        removes_copied: true,
    };
    let settings = ChannelSettings { recording, ..settings() };
    assert_eq!(store.add_channel("finish-line", &settings, NOW).await.unwrap().settings, settings);
    let plain = ChannelSettings { recording: RecordingSettings::default(), ..settings };
    assert_eq!(store.change_channel("finish-line", &plain).await.unwrap().settings, plain);
}

#[tokio::test]
async fn takes_are_found_by_channel_time_length_and_place() {
    let (_database, store) = store().await;
    for id in 1..=3 {
        store.begin_session(&session(id)).await.unwrap();
        for number in 1..=2 {
            let duration_ms = id * 10_000;
            store.write_take(&TakeRecord { duration_ms, ..take(id, number) }, 1).await.unwrap();
        }
    }
    let found = async |filter: TakeFilter| -> Vec<(u64, u32)> {
        let takes = store.takes(&filter).await.unwrap();
        takes.iter().map(|take| (take.record.session_id, take.record.number)).collect()
    };
    let all = TakeFilter::default();
    assert_eq!(found(all.clone()).await, [(3, 2), (3, 1), (2, 2), (2, 1), (1, 2), (1, 1)]);
    assert_eq!(found(TakeFilter { limit: 1, before: Some((3, 1)), ..all.clone() }).await, [(2, 2)]);
    let second_hour =
        TakeFilter { from: Some(NOW + Duration::hours(2)), until: Some(NOW + Duration::hours(3)), ..all.clone() };
    assert_eq!(found(second_hour).await, [(2, 2), (2, 1)]);
    let short = TakeFilter { max_ms: Some(15_000), ..all.clone() };
    assert_eq!(found(short).await, [(1, 2), (1, 1)]);
    let long = TakeFilter { min_ms: Some(30_000), channel_name: Some("finish-line".into()), ..all.clone() };
    assert_eq!(found(long).await, [(3, 2), (3, 1)]);
    assert!(found(TakeFilter { channel_name: Some("boathouse".into()), ..all }).await.is_empty());
}

#[tokio::test]
async fn what_people_make_of_a_take_outlives_what_the_recorder_writes() {
    let (_database, store) = store().await;
    store.begin_session(&session(1)).await.unwrap();
    store.write_take(&take(1, 1), 1).await.unwrap();
    let change = TakeChange { title: Some("Heat 2".into()), note: Some("windy".into()), is_locked: Some(true) };
    store.change_take(1, 1, &change).await.unwrap();
    store.set_take_digest(1, 1, Some([7; 32])).await.unwrap();
    store.write_take(&TakeRecord { duration_ms: 5, ..take(1, 1) }, 1).await.unwrap();
    let card = store.take(1, 1).await.unwrap().card;
    let expected = TakeCard {
        title: Some("Heat 2".into()),
        note: Some("windy".into()),
        is_locked: true,
        cut_from: None,
        removed_at: None,
        sha256: Some([7; 32]),
        is_here: true,
    };
    assert_eq!(card, expected);
    let cleared = TakeChange { note: Some(String::new()), ..TakeChange::default() };
    store.change_take(1, 1, &cleared).await.unwrap();
    let card = store.take(1, 1).await.unwrap().card;
    assert_eq!((card.title.as_deref(), card.note), (Some("Heat 2"), None));

    let locked = store.set_take_removed(1, 1, Some(NOW)).await;
    assert!(matches!(locked, Err(StoreError::NotFound { .. })), "it is locked");
    let unlocked = TakeChange { is_locked: Some(false), ..TakeChange::default() };
    store.change_take(1, 1, &unlocked).await.unwrap();
    store.set_take_removed(1, 1, Some(NOW)).await.unwrap();
    assert!(store.takes_of_session(1).await.unwrap().is_empty());
    assert_eq!(store.takes(&TakeFilter { removed: true, ..TakeFilter::default() }).await.unwrap().len(), 1);
    store.set_take_removed(1, 1, None).await.unwrap();
    assert_eq!(store.last_take_number(1).await.unwrap(), 1);
    store.forget_take(1, 1).await.unwrap();
    assert!(store.take(1, 1).await.is_ok(), "its removal was not begun");
    assert!(store.begin_forgetting(1, 1, None).await.unwrap());
    store.forget_take(1, 1).await.unwrap();
    assert!(matches!(store.take(1, 1).await, Err(StoreError::NotFound { kind: "take", .. })));
}

/// The keeper decides on a list that it read; what people did to the take since then counts.
#[tokio::test]
async fn a_take_that_was_touched_meanwhile_is_not_removed() {
    let (_database, store) = store().await;
    store.begin_session(&session(1)).await.unwrap();
    for number in 1..=5 {
        store.write_take(&take(1, number), 1).await.unwrap();
    }
    let lock = |is_locked| TakeChange { is_locked: Some(is_locked), ..TakeChange::default() };
    // Locked, removed, had back, and a second keeper.
    store.change_take(1, 1, &lock(true)).await.unwrap();
    assert!(!store.begin_forgetting(1, 1, None).await.unwrap());
    store.set_take_removed(1, 2, Some(NOW)).await.unwrap();
    assert!(!store.begin_forgetting(1, 2, None).await.unwrap());
    store.set_take_removed(1, 2, None).await.unwrap();
    assert!(!store.begin_forgetting(1, 2, Some(NOW)).await.unwrap());
    assert!(store.begin_forgetting(1, 3, None).await.unwrap());
    assert!(!store.begin_forgetting(1, 3, None).await.unwrap());
    // From then on it is nobody's: no click brings half of it back.
    assert!(store.change_take(1, 3, &lock(true)).await.is_err());
    assert!(store.set_take_removed(1, 3, None).await.is_err());
    assert_eq!(store.going_takes().await.unwrap().len(), 1);
    assert_eq!(store.takes(&TakeFilter::default()).await.unwrap().len(), 4);
    // Without a whole copy nothing is left to a depot.
    assert!(!store.leave_take_to_depot(1, 4).await.unwrap());
    // A cut never writes over another take.
    assert!(!store.add_cut_take(&take(1, 4), 1, Some("finish")).await.unwrap());
    assert!(store.add_cut_take(&take(1, 6), 1, Some("finish")).await.unwrap());
    assert_eq!(store.take(1, 6).await.unwrap().card.cut_from, Some(1));
}

fn depot() -> Depot {
    Depot {
        name: "attic".into(),
        endpoint: "http://127.0.0.1:9".into(),
        region: "here".into(),
        bucket: "regatta".into(),
        prefix: "takes".into(),
        access_key: "harbour".into(),
        secret_key: Secret::new("kept sealed"),
        public_address: None,
        created_at: NOW,
    }
}

#[tokio::test]
async fn copies_remember_how_far_they_came() {
    let (_database, store) = store().await;
    let depot = depot();
    store.add_depot(&depot).await.unwrap();
    assert_eq!(store.depot("attic").await.unwrap(), depot);
    assert!(matches!(store.add_depot(&depot).await, Err(StoreError::NameTaken(_))));
    store.begin_session(&session(1)).await.unwrap();
    store.write_take(&take(1, 1), 1).await.unwrap();
    assert_eq!(store.copy_of(1, 1).await.unwrap(), None);
    let upload = CopyUpload { id: "u".into(), part_bytes: 8 };
    let copy = CopyRecord {
        session_id: 1,
        number: 1,
        depot: "attic".into(),
        object_key: "takes/1.mp4".into(),
        state: CopyState::Failing,
        upload: Some(upload),
        sent_bytes: 16,
        attempt_count: 2,
        error: Some("refused".into()),
        changed_at: NOW,
    };
    store.write_copy(&copy).await.unwrap();
    assert_eq!(store.copies_of(&[(1, 1), (1, 2)]).await.unwrap(), std::slice::from_ref(&copy));
    assert_eq!(store.unfinished_copies("attic").await.unwrap(), std::slice::from_ref(&copy));
    assert_eq!(store.depots_in_use().await.unwrap(), ["attic"]);
    for (part, content_id) in [(1, "b"), (0, "a"), (1, "c")] {
        store.write_copy_part(&copy, part, content_id).await.unwrap();
    }
    assert_eq!(store.copy_parts(1, 1).await.unwrap(), ["a", "c"], "in order, and the newest of each");
    store.write_copy(&copy).await.unwrap();
    assert_eq!(store.copy_parts(1, 1).await.unwrap().len(), 2, "parts stay when the copy is written again");
    store.forget_copy_parts(1, 1).await.unwrap();
    assert!(store.copy_parts(1, 1).await.unwrap().is_empty());
    let done = CopyRecord { state: CopyState::There, upload: None, error: None, ..copy };
    store.write_copy(&done).await.unwrap();
    assert_eq!(store.copy_of(1, 1).await.unwrap(), Some(done));
    assert!(
        store.unfinished_copies("attic").await.unwrap().is_empty() && store.depots_in_use().await.unwrap().is_empty()
    );
    assert!(store.leave_take_to_depot(1, 1).await.unwrap());
    assert!(!store.leave_take_to_depot(1, 1).await.unwrap(), "it is there already");
    assert!(store.begin_forgetting(1, 1, None).await.unwrap());
    store.forget_take(1, 1).await.unwrap();
    assert!(
        store.copies_of(&[(1, 1)]).await.unwrap().is_empty(),
        "the copy of a take that is forgotten is forgotten too"
    );
    store.remove_depot("attic").await.unwrap();
    assert!(store.depots().await.unwrap().is_empty());
}

#[tokio::test]
async fn users_sign_in_with_their_password_only() {
    let (_database, store) = store().await;
    assert!(store.has_no_users().await.unwrap());
    let user = store.add_user("harbour", &Secret::new("long enough"), NOW).await.unwrap();
    assert!(!store.has_no_users().await.unwrap());
    assert_eq!(store.sign_in("harbour", &Secret::new("long enough"), Turn::First).await.unwrap(), Some(user));
    assert_eq!(store.sign_in("harbour", &Secret::new("wrong"), Turn::First).await.unwrap(), None);
    assert_eq!(store.sign_in("nobody", &Secret::new("wrong"), Turn::First).await.unwrap(), None);
    let again = store.add_user("harbour", &Secret::new("other"), NOW).await;
    assert!(matches!(again, Err(StoreError::NameTaken(name)) if name == "harbour"));
}

fn token(label: &str, expires_at: Option<OffsetDateTime>) -> NewToken {
    NewToken { label: label.to_owned(), expires_at, ..NewToken::default() }
}

#[tokio::test]
async fn tokens_keep_within_what_they_are_for() {
    let (_database, store) = store().await;
    let user = store.add_user("harbour", &Secret::new("long enough"), NOW).await.unwrap();
    let scope = Scope { most: Some(Role::Operator), channels: Some(vec![3, 70]) };
    let addresses: Vec<AddressRange> = ["192.0.2.0/24", "2001:db8::7"].map(|range| range.parse().unwrap()).into();
    let wanted = NewToken { scope, addresses, ..token("buttons", None) };
    let made = store.add_token(user.id, &wanted, NOW).await.unwrap();
    let holder = store.token_holder(made.reveal(), NOW).await.unwrap().unwrap();
    assert_eq!((&holder.scope, &holder.addresses), (&wanted.scope, &wanted.addresses));
    let none = NewToken { scope: Scope { most: None, channels: Some(Vec::new()) }, ..token("nothing", None) };
    let made = store.add_token(user.id, &none, NOW).await.unwrap();
    let holder = store.token_holder(made.reveal(), NOW).await.unwrap().unwrap();
    assert_eq!(holder.scope.channels, Some(Vec::new()), "no channel is not every channel");
}

#[tokio::test]
async fn tokens_are_no_more_than_there_may_be() {
    let (_database, store) = store().await;
    let user = store.add_user("harbour", &Secret::new("long enough"), NOW).await.unwrap();
    let first = store.add_token(user.id, &token("console", None), NOW).await.unwrap();
    for _ in 0..100 {
        store.add_token(user.id, &token("console", None), NOW).await.unwrap();
    }
    assert_eq!(store.token_holder(first.reveal(), NOW).await.unwrap(), None, "the oldest console is signed out");
    assert_eq!(store.tokens_of(user.id, NOW).await.unwrap().len(), 100);
    for _ in 0..200 {
        store.add_token(user.id, &token("script", None), NOW).await.unwrap();
    }
    let more = store.add_token(user.id, &token("script", None), NOW).await;
    assert!(matches!(more, Err(StoreError::TooMany { most: 200, .. })), "{more:?}");
}

#[tokio::test]
async fn roles_on_channels_go_with_the_channel() {
    let (_database, store) = store().await;
    store.add_user("harbour", &Secret::new("long enough"), NOW).await.unwrap();
    let weir = store.add_channel("weir", &settings(), NOW).await.unwrap();
    let grants = Grants::new(None, [(weir.id, Role::Operator), (weir.id + 50, Role::Engineer)]);
    store.add_person("cox", &grants, NOW).await.unwrap();
    let found = || async { store.people(NOW).await.unwrap().into_iter().find(|person| person.user.name == "cox") };
    let expected = Grants::new(None, [(weir.id, Role::Operator)]);
    assert_eq!(found().await.unwrap().user.grants, expected, "there is no such other channel");
    let before = store.change_grants("cox", &Grants::new(Some(Role::Observer), [])).await.unwrap();
    assert_eq!(before, expected);
    store.change_grants("cox", &expected).await.unwrap();
    store.remove_channel("weir").await.unwrap();
    assert_eq!(found().await.unwrap().user.grants, Grants::default());
    let alone = store.change_grants("harbour", &expected).await;
    assert!(matches!(alone, Err(StoreError::LastAdministrator)));
}

#[tokio::test]
async fn tokens_are_valid_until_they_expire_or_are_removed() {
    let (_database, store) = store().await;
    let user = store.add_user("harbour", &Secret::new("long enough"), NOW).await.unwrap();
    let lasting = store.add_token(user.id, &token("laptop", None), NOW).await.unwrap();
    let short = store.add_token(user.id, &token("console", Some(NOW + Duration::HOUR)), NOW).await.unwrap();
    let later = NOW + Duration::HOUR;
    let holder = store.token_holder(short.reveal(), NOW).await.unwrap().unwrap();
    assert_eq!((&holder.user, holder.label.as_str(), holder.expires_at), (&user, "console", Some(later)));
    assert_eq!(store.token_holder(short.reveal(), later).await.unwrap(), None);
    let holder = store.token_holder(lasting.reveal(), later).await.unwrap().unwrap();
    assert_eq!((holder.user, holder.expires_at), (user.clone(), None));
    let tokens = store.tokens_of(user.id, later).await.unwrap();
    assert_eq!(tokens.len(), 1, "the other has ended");
    assert!(store.withdraw_token(user.id + 1, tokens[0].id).await.is_err(), "it is another's");
    store.withdraw_token(user.id, tokens[0].id).await.unwrap();
    assert_eq!(store.token_holder(lasting.reveal(), later).await.unwrap(), None);
    store.remove_token(lasting.reveal()).await.unwrap();
    assert_eq!(store.token_holder(lasting.reveal(), NOW).await.unwrap(), None);
    assert_eq!(store.token_holder("wvt-guess", NOW).await.unwrap(), None);
}

fn new_key(label: &str) -> NewStreamKey {
    let terms = KeyTerms { label: label.to_owned(), ..KeyTerms::default() };
    NewStreamKey { right: KeyRight::Publish, terms, own: None, guest_until: None }
}

#[tokio::test]
async fn channels_and_keys_come_and_go() {
    let (database, store) = store().await;
    let channel = store.add_channel("finish-line", &settings(), NOW).await.unwrap();
    assert!(matches!(store.add_channel("finish-line", &settings(), NOW).await, Err(StoreError::NameTaken(_))));
    let srt = SrtTerms { latency_ms: 1_200, passphrase: Some(Secret::new("wexcombe reach")) };
    let changed =
        ChannelSettings { hold_ms: 0, takeover: Takeover::Replace, slate: SlateChoice::Uploaded, srt, ..settings() };
    assert_eq!(store.change_channel("finish-line", &changed).await.unwrap().settings, changed);
    let rules = KeyRules {
        expires_at: Some(NOW + Duration::DAY),
        allowed_from: vec!["192.0.2.0/24".parse().unwrap(), "2001:db8::1".parse().unwrap()],
        ..KeyRules::default()
    };
    let van = NewStreamKey {
        right: KeyRight::Publish,
        terms: KeyTerms { label: "van".to_owned(), rank: 1, rules, passphrase: None },
        own: None,
        guest_until: None,
    };
    let mixer = NewStreamKey { right: KeyRight::View, ..new_key("mixer") };
    let password = KeyPassword { salt: "salt".into(), digest: Secret::new("digest-of-it") };
    let made = store.add_keys(channel.id, &[van.clone(), mixer.clone()], NOW, &|_, _| password.clone()).await.unwrap();
    let (key, secret, viewing) = (made[0].key.clone(), &made[0].secret, made[1].key.clone());
    assert_eq!((key.right, viewing.right), (KeyRight::Publish, KeyRight::View));
    assert_eq!((&key.terms, &viewing.terms), (&van.terms, &mixer.terms));
    let keys = store.keys_of(&[channel.id, channel.id + 1]).await.unwrap();
    assert_eq!(keys.iter().map(|key| key.password.as_ref()).collect::<Vec<_>>(), [Some(&password); 2]);
    assert!(store.keys_of(&[]).await.unwrap().is_empty());
    let raw = sqlx::MySqlPool::connect(database.url()).await.unwrap();
    let query = sqlx::query_scalar("SELECT sealed_password_digest FROM stream_keys WHERE id = ?");
    let sealed: Vec<u8> = query.bind(viewing.id).fetch_one(&raw).await.unwrap();
    assert!(!String::from_utf8_lossy(&sealed).contains("digest-of-it"));
    store.remove_key(channel.id, viewing.id).await.unwrap();
    assert_eq!(key.digest, store.keychain().digest(secret.reveal()));
    assert!(secret.reveal().starts_with(&key.prefix));
    assert_eq!(store.keys_of(&[channel.id]).await.unwrap(), std::slice::from_ref(&key));
    assert!(matches!(store.remove_key(channel.id + 1, key.id).await, Err(StoreError::NotFound { .. })));
    assert_eq!(store.channels_by_id(&[channel.id, 99]).await.unwrap().len(), 1);
    store.remove_channel("finish-line").await.unwrap();
    // Added, changed, two keys made at once, two tries to remove one, gone.
    let versions = store.channel_versions().await.unwrap();
    assert_eq!(versions.iter().find(|(id, _)| *id == channel.id), Some(&(channel.id, 5)));
    assert!(store.all_keys().await.unwrap().is_empty());
    assert!(matches!(store.channel("finish-line").await, Err(StoreError::NotFound { kind: "channel", .. })));
}

#[tokio::test]
async fn destination_keys_are_sealed_in_the_database() {
    let (database, store) = store().await;
    let channel = store.add_channel("finish-line", &settings(), NOW).await.unwrap();
    let key = Secret::new("quayside-live-key");
    let made = store.add_destination("quayside", &destination("rtmp://127.0.0.1/in"), &key, NOW).await.unwrap();
    assert_eq!((&made.key, &made.settings), (&key, &destination("rtmp://127.0.0.1/in")));
    let raw = sqlx::MySqlPool::connect(database.url()).await.unwrap();
    let sealed: Vec<u8> = sqlx::query_scalar("SELECT sealed_key FROM destinations").fetch_one(&raw).await.unwrap();
    assert!(!String::from_utf8_lossy(&sealed).contains("quayside-live-key"));

    store.set_channel_destination(channel.id, made.id, Sending::default()).await.unwrap();
    let sending = Sending { switched_on: true, delay_ms: 30_000, start_after_ms: 5_000 };
    store.set_channel_destination(channel.id, made.id, sending).await.unwrap();
    let all = store.channel_destinations().await.unwrap();
    assert_eq!((all.len(), all[0].sending), (1, sending));
    let settings = DestinationSettings {
        authority: None,
        batch_ms: 0,
        limits_sheet: Some("{}".into()),
        audio_pick: Some("language:de".into()),
        or_no_audio: true,
        srt: SrtTerms { latency_ms: 900, passphrase: Some(Secret::new("wexcombe reach")) },
        ..destination("rtmp://127.0.0.1/b")
    };
    let (moved, channels) = store.change_destination("quayside", &settings, None).await.unwrap();
    assert_eq!(channels, [channel.id], "these are to follow");
    assert_eq!(store.destinations_of(&[channel.id]).await.unwrap().len(), 1);
    assert_eq!((&moved.settings, &moved.key), (&settings, &key));
    assert_eq!(store.remove_destination("quayside").await.unwrap(), [channel.id]);
    assert!(store.channel_destinations().await.unwrap().is_empty());
}

/// Each sealed secret is sealed anew, whatever column it lies in; nothing is lost, and what was recognised still is.
#[tokio::test]
async fn all_is_sealed_anew_under_another_key() {
    let (database, store) = store().await;
    let keys = tempfile::tempdir().unwrap();
    let first = store.keychain().clone();
    let srt = SrtTerms { latency_ms: 300, passphrase: Some(Secret::new("wexcombe reach")) };
    let channel = ChannelSettings { srt: srt.clone(), ..settings() };
    let channel = store.add_channel("finish-line", &channel, NOW).await.unwrap();
    let mut van = NewStreamKey { guest_until: Some(NOW + Duration::DAY), ..new_key("van") };
    van.terms.passphrase = Some(Secret::new("over the weir"));
    let password = KeyPassword { salt: "salt".into(), digest: Secret::new("digest-of-it") };
    let made = store.add_keys(channel.id, &[van], NOW, &|_, _| password.clone()).await.unwrap();
    let MadeStreamKey { key, secret, guest_token } = made.into_iter().next().unwrap();
    let quay = DestinationSettings { srt, ..destination("rtmp://127.0.0.1/in") };
    store.add_destination("quayside", &quay, &Secret::new("quay-key"), NOW).await.unwrap();
    let attic = Depot { secret_key: Secret::new("attic-secret"), name: "attic".into(), ..depot() };
    store.add_depot(&attic).await.unwrap();
    let system = house_system(channel.id);
    store.set_house_system(&system).await.unwrap();
    let target = call_target("club");
    store.add_call_target(&target, 10).await.unwrap();
    let user = store.add_user("harbour", &Secret::new("regatta morning"), NOW).await.unwrap();
    store.begin_second_factor(&user).await.unwrap().unwrap();
    let token = store.add_token(user.id, &token("van", None), NOW).await.unwrap();
    let before = sealed_values(database.url()).await;

    let second = first.successor(keys.path()).unwrap();
    assert_eq!(store.seal_anew(&second).await.unwrap(), 11);
    let after = sealed_values(database.url()).await;
    assert_eq!(before.keys().collect::<Vec<_>>(), after.keys().collect::<Vec<_>>());
    for (column, values) in &after {
        assert!(!values.is_empty(), "{column}: this test puts a secret into each sealed column");
        assert!(values.iter().all(|value| !before[column].contains(value)), "{column} was forgotten");
    }
    assert!(matches!(Store::open(database.url(), first).await, Err(StoreError::ForeignKeyFile)));
    let store = Store::open(database.url(), second).await.unwrap();
    assert_eq!(store.depot("attic").await.unwrap(), attic);
    assert_eq!(store.house_systems().await.unwrap(), [system]);
    assert_eq!(store.call_targets().await.unwrap(), [CallTarget { id: 1, ..target }]);
    let again = store.keys_of(&[channel.id]).await.unwrap().remove(0);
    assert_eq!((again.password.as_ref(), &again.terms), (Some(&password), &key.terms));
    let shown = store.open_guest_link(&guest_token.unwrap(), &again.guest.unwrap()).unwrap();
    assert_eq!(shown, secret, "a guest's link goes on");
    assert_eq!(store.destinations().await.unwrap()[0].key.reveal(), "quay-key");
    assert_eq!(store.channel("finish-line").await.unwrap().settings.srt.passphrase, quay.srt.passphrase);
    assert_eq!(store.keychain().digest(secret.reveal()), key.digest, "encoders need no other key");
    assert_eq!(store.token_holder(token.reveal(), NOW).await.unwrap().unwrap().user.id, user.id);
}

/// What lies in columns of sealed secrets, whichever there are.
async fn sealed_values(url: &str) -> std::collections::BTreeMap<String, Vec<Vec<u8>>> {
    let raw = sqlx::MySqlPool::connect(url).await.unwrap();
    let columns: Vec<(String, String)> = sqlx::query_as(
        "SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS \
         WHERE TABLE_SCHEMA = DATABASE() AND COLUMN_NAME LIKE 'sealed%'",
    )
    .fetch_all(&raw)
    .await
    .unwrap();
    let mut values = std::collections::BTreeMap::new();
    for (table, column) in columns {
        let query = format!("SELECT {column} FROM {table} WHERE {column} IS NOT NULL");
        let found = sqlx::query_scalar(sqlx::AssertSqlSafe(query)).fetch_all(&raw).await.unwrap();
        values.insert(format!("{table}.{column}"), found);
    }
    values
}

#[tokio::test]
async fn another_key_file_is_noticed() {
    let (database, _store) = store().await;
    let elsewhere = tempfile::tempdir().unwrap();
    let opened = Store::open(database.url(), Keychain::open(elsewhere.path()).unwrap()).await;
    assert!(matches!(opened, Err(StoreError::ForeignKeyFile)));
}

#[tokio::test]
async fn sessions_legs_and_takes_are_kept() {
    let (_database, store) = store().await;
    for id in 1..=3 {
        store.begin_session(&session(id)).await.unwrap();
        store.begin_session(&session(id)).await.unwrap();
    }
    let end = SessionEnd {
        id: 2,
        ended_at: NOW + Duration::MINUTE,
        reason: "the encoder stopped".into(),
        loss_count: 1,
        report: "{\"legs\":[]}".into(),
    };
    assert_eq!(store.report(2).await.unwrap(), None);
    store.end_session(&end).await.unwrap();
    assert_eq!(store.report(2).await.unwrap(), Some(end.report.clone()));
    assert!(store.session(3).await.unwrap().begun.is_rehearsal);
    let ended = store.session(2).await.unwrap();
    assert_eq!((ended.ended_at, ended.loss_count), (Some(end.ended_at), 1));
    let filter = SessionFilter { channel_name: Some("finish-line".into()), before: Some(3), limit: 1, channels: None };
    let listed: Vec<u64> = store.sessions(&filter).await.unwrap().iter().map(|session| session.begun.id).collect();
    assert_eq!(listed, [2]);

    let mut leg = LegRecord {
        session_id: 2,
        destination_id: 9,
        destination_name: "plovio".into(),
        state: LegPhase::Carrying,
        reason: None,
        sent_frame_count: 1,
        sent_bytes: 2,
        dropped_frame_count: 0,
        dropped_ms: 0,
        redial_count: 0,
    };
    store.write_leg(&leg, 1).await.unwrap();
    leg.redial_count = 4;
    leg.reason = Some("reset".repeat(100));
    store.write_leg(&leg, 1).await.unwrap();
    assert_eq!(store.legs(2).await.unwrap()[0].redial_count, 4);

    let take = TakeRecord { state: TakeState::Writing, ..take(2, 1) };
    store.write_take(&take, 1).await.unwrap();
    assert_eq!(store.unfinished_takes().await.unwrap(), std::slice::from_ref(&take));
    let done = TakeRecord { state: TakeState::Complete, duration_ms: 60_000, ..take };
    store.write_take(&done, 1).await.unwrap();
    let listed = store.takes(&TakeFilter { limit: 10, ..TakeFilter::default() }).await.unwrap();
    assert_eq!((&listed[0].record, listed[0].channel_name.as_str()), (&done, "finish-line"));
    assert_eq!(store.takes_of_session(2).await.unwrap(), listed);

    let closed = store.close_unfinished(NOW + Duration::HOUR, "the service ended").await.unwrap();
    assert_eq!(closed.sessions, [1, 3]);
}

#[tokio::test]
async fn turned_away_publishers_are_listed_newest_first() {
    let (_database, store) = store().await;
    let group = |id: u64, second: i64, count, channel_name: Option<&str>| AwayGroup {
        id,
        first_at: NOW,
        count,
        last: AwayAttempt {
            at: NOW + Duration::seconds(second),
            address: Some("192.0.2.7".parse().unwrap()).filter(|_| id != 2),
            reason: format!("reason_{id}"),
            detail: format!("words {count}"),
            protocol: "srt".into(),
            encoder: "van".into(),
            key_prefix: Some("abcdefg".into()),
            channel_name: channel_name.map(str::to_owned),
        },
    };
    store.write_turned_away(&[group(1, 1, 1, Some("finish-line")), group(2, 2, 7, None)]).await.unwrap();
    store.write_turned_away(&[group(1, 3, 4, Some("finish-line"))]).await.unwrap();
    let listed = store.turned_away(None, 10).await.unwrap();
    let expected = [group(1, 3, 4, Some("finish-line")), group(2, 2, 7, None)];
    assert_eq!(listed, expected, "who came last is first");
    assert_eq!(store.turned_away(Some(1), 10).await.unwrap().len(), 1);
    let strangers: Vec<AwayGroup> = (0..1500).map(|number| group(100 + number, 100, 1, None)).collect();
    let later: Vec<AwayGroup> = (0..1001).map(|number| group(5000 + number, 101, 1, None)).collect();
    for groups in [&strangers, &later] {
        store.write_turned_away(groups).await.unwrap();
    }
    let listed = store.turned_away(None, 5000).await.unwrap();
    assert_eq!(listed.len(), 1002, "a thousand strangers and one, and who had a key");
    assert_eq!(listed.last().unwrap().last.channel_name.as_deref(), Some("finish-line"));
}

#[tokio::test]
async fn the_private_server_keeps_its_data_and_can_be_started_again() {
    let folder = tempfile::tempdir().unwrap();
    let keys = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let store = Store::open(&server.url("waverant"), Keychain::open(keys.path()).unwrap()).await.unwrap();
    store.add_channel("finish-line", &settings(), NOW).await.unwrap();
    store.close().await;
    server.stop();

    let server = PrivateServer::start(folder.path()).unwrap();
    let store = Store::open(&server.url("waverant"), Keychain::open(keys.path()).unwrap()).await.unwrap();
    assert_eq!(store.channels().await.unwrap().len(), 1);
    assert!(store.is_reachable().await);
    store.close().await;
    server.stop();
}

/// A lock that somebody else forgot is waited for by nobody for ever.
#[tokio::test]
async fn a_statement_that_waits_for_a_lock_is_given_up() {
    let (database, store) = store().await;
    let mut other = MySqlConnection::connect(database.url()).await.unwrap();
    other.execute("LOCK TABLES channels WRITE").await.unwrap();
    let waited = tokio::time::timeout(std::time::Duration::from_secs(20), store.channels()).await.expect("it ends");
    assert!(waited.as_ref().is_err_and(StoreError::is_unavailable), "{waited:?}");
    other.close().await.unwrap();
    assert_eq!(store.channels().await.unwrap().len(), 0, "the connection goes on");
}

/// Numbers go on where they stopped, and a block is another's for good.
#[tokio::test]
async fn session_numbers_follow_and_are_given_once() {
    let (_database, store) = store().await;
    assert_eq!(store.session_numbers().await.unwrap(), (1, 64));
    assert_eq!(store.session_numbers().await.unwrap(), (1, 64), "nothing was used");
    store.begin_session(&session(1)).await.unwrap();
    store.begin_session(&session(2)).await.unwrap();
    assert_eq!(store.session_numbers().await.unwrap(), (3, 64));
    assert_eq!(store.new_session_numbers().await.unwrap(), (65, 128));
    let both = tokio::join!(store.new_session_numbers(), store.new_session_numbers());
    let mut firsts = [both.0.unwrap().0, both.1.unwrap().0];
    firsts.sort_unstable();
    assert_eq!(firsts, [129, 193], "two at once get two blocks");
    assert_eq!(store.session_numbers().await.unwrap(), (193, 256));
}

/// The keeper asks for what is due, and gets nothing else.
#[tokio::test]
async fn the_keeper_finds_what_is_due() {
    let (_database, store) = store().await;
    store.begin_session(&session(1)).await.unwrap();
    let states = [TakeState::Writing, TakeState::Complete, TakeState::CutOff, TakeState::Complete];
    for (number, state) in (1..).zip(states) {
        store.write_take(&TakeRecord { state, ..take(1, number) }, 1).await.unwrap();
    }
    let mended = TakeRecord { state: TakeState::CutOff, repair: Some("the index was written".into()), ..take(1, 5) };
    store.write_take(&mended, 1).await.unwrap();
    store.set_take_digest(1, 4, Some([7; 32])).await.unwrap();
    let numbers =
        |takes: Vec<waverant_store::StoredTake>| -> Vec<u32> { takes.iter().map(|take| take.record.number).collect() };
    assert_eq!(numbers(store.takes_to_mend().await.unwrap()), [3]);
    assert_eq!(numbers(store.takes_to_take_in().await.unwrap()), [5, 2]);
    assert_eq!(numbers(store.takes_here("finish-line").await.unwrap()), [5, 4, 3, 2, 1]);
    assert!(store.takes_here("boathouse").await.unwrap().is_empty());
    store.set_take_removed(1, 2, Some(NOW)).await.unwrap();
    assert!(store.takes_removed_until(NOW - Duration::SECOND).await.unwrap().is_empty());
    assert_eq!(numbers(store.takes_removed_until(NOW).await.unwrap()), [2]);
    assert!(store.begin_forgetting(1, 2, Some(NOW)).await.unwrap());
    assert_eq!(numbers(store.going_takes().await.unwrap()), [2]);
    assert_eq!(numbers(store.takes_to_take_in().await.unwrap()), [5]);
    assert!(store.copied_takes_here("finish-line").await.unwrap().is_empty());
}

fn link(label: &str) -> NewViewingLink {
    NewViewingLink {
        label: label.to_owned(),
        ends_at: NOW + Duration::hours(3),
        most_viewers: Some(4),
        sites: vec!["https://club.example".parse().unwrap(), "http://192.0.2.7:8080".parse().unwrap()],
        shows_rehearsals: true,
        take: (label == "a take").then_some((7, 2)),
    }
}

/// The address of a link can be told again at any time, and is not in the database.
#[tokio::test]
async fn links_are_signed_and_revoked() {
    let (_database, store) = store().await;
    let channel = store.add_channel("boathouse", &settings(), NOW).await.unwrap();
    let made = store.add_viewing_link(channel.id, &link("club"), NOW).await.unwrap();
    assert_eq!(store.viewing_links_of(&[channel.id]).await.unwrap(), std::slice::from_ref(&made));
    assert_eq!(store.all_viewing_links().await.unwrap(), std::slice::from_ref(&made));
    assert_eq!((made.most_viewers, made.sites.len(), made.shows_rehearsals), (Some(4), 2, true));
    let other = store.add_viewing_link(channel.id, &link("family"), NOW).await.unwrap();
    assert_eq!(ViewingLink::id_in(other.token.reveal()), Some(other.id));
    let of_take = store.add_viewing_link(channel.id, &link("a take"), NOW).await.unwrap();
    assert_eq!((of_take.take, made.take), (Some((7, 2)), None));
    assert!(made.has_token(made.token.reveal()) && !made.has_token(other.token.reveal()));
    store.remove_viewing_link(channel.id, made.id).await.unwrap();
    assert!(matches!(store.remove_viewing_link(channel.id, made.id).await, Err(StoreError::NotFound { .. })));
    // Those that ended long ago make room, and a channel takes its links with it.
    store.add_viewing_link(channel.id, &link("next year"), NOW + Duration::days(365)).await.unwrap();
    assert_eq!(store.all_viewing_links().await.unwrap().len(), 1);
    store.remove_channel("boathouse").await.unwrap();
    assert!(store.all_viewing_links().await.unwrap().is_empty());
}

#[tokio::test]
async fn a_channel_has_so_many_links_and_no_more() {
    let (_database, store) = store().await;
    let channel = store.add_channel("boathouse", &settings(), NOW).await.unwrap();
    for number in 0..500 {
        store.add_viewing_link(channel.id, &link(&number.to_string()), NOW).await.unwrap();
    }
    let refused = store.add_viewing_link(channel.id, &link("one more"), NOW).await.unwrap_err();
    assert!(matches!(refused, StoreError::TooMany { most: 500, .. }), "{refused}");
}

#[tokio::test]
async fn of_each_minute_the_most_viewers_are_kept() {
    let (_database, store) = store().await;
    let channel = store.add_channel("finish-line", &settings(), NOW).await.unwrap();
    let minute = |minutes: i64, counts| ViewerMinute {
        channel_id: channel.id,
        minute: NOW + Duration::minutes(minutes),
        counts,
    };
    let few = ViewerCounts { pictures: 3, segments: 1, ..ViewerCounts::default() };
    let many = ViewerCounts { pictures: 1, segments: 90, srt: 2, ..ViewerCounts::default() };
    let gone = ViewerMinute { channel_id: channel.id + 1, ..minute(0, few) };
    store.write_viewer_minutes(&[minute(0, few), minute(1, few), gone]).await.unwrap();
    store.write_viewer_minutes(&[minute(1, many)]).await.unwrap();
    store.write_viewer_minutes(&[]).await.unwrap();
    let read = store.viewer_minutes(channel.id, NOW, NOW + Duration::minutes(2)).await.unwrap();
    assert_eq!(read, [minute(0, few), minute(1, few.max(many))]);
    assert_eq!(store.viewer_minutes(channel.id, NOW, NOW + Duration::minutes(1)).await.unwrap(), read[..1]);
    store.forget_viewer_minutes(NOW + Duration::days(400) + Duration::seconds(30)).await.unwrap();
    assert_eq!(store.viewer_minutes(channel.id, NOW, NOW + Duration::hours(1)).await.unwrap(), read[1..]);
}

/// The first factor of a person, whichever, ends other sign-ins and comes with recovery codes; the last one takes them away.
#[tokio::test]
async fn passkeys_stand_beside_the_authenticator() {
    let (_database, store) = store().await;
    let user = store.add_user("harbour", &Secret::new("regatta morning"), NOW).await.unwrap();
    let [kept, other] = ["console", "van"].map(|label| token(label, None));
    let kept = store.add_token(user.id, &kept, NOW).await.unwrap();
    let other = store.add_token(user.id, &other, NOW).await.unwrap();
    let holder = async |token: &Secret| store.token_holder(token.reveal(), NOW).await.unwrap();
    let at = (holder(&kept).await.unwrap().token_id, NOW);
    let passkey = |name: &str| NewPasskey {
        label: name.to_owned(),
        host: "relay.test".to_owned(),
        name: name.as_bytes().to_vec(),
        credential: format!("{{\"of\": \"{name}\", \"counter\": 1}}"),
    };
    let codes = store.add_passkey(&user, &passkey("laptop"), at).await.unwrap();
    assert_eq!((codes.len(), holder(&other).await.is_none()), (10, true));
    assert!(holder(&kept).await.unwrap().user.has_second_factor);
    assert_eq!(store.add_passkey(&user, &passkey("phone"), at).await.unwrap().len(), 0, "there are codes");
    assert!(matches!(store.add_passkey(&user, &passkey("phone"), at).await, Err(StoreError::NameTaken(_))));
    assert!(store.pass_second_factor(&user, &codes[0], NOW).await.unwrap());

    // Of two who use copies of one passkey at once, one is told no.
    let there = store.passkeys(user.id).await.unwrap();
    let (used, copy) = ("{\"of\": \"laptop\", \"counter\": 2}", "{\"of\": \"laptop\", \"counter\": 3}");
    assert!(store.use_passkey(user.id, &there[0], used, NOW).await.unwrap());
    assert!(!store.use_passkey(user.id, &there[0], copy, NOW).await.unwrap());
    assert_eq!(store.passkeys(user.id).await.unwrap()[0].last_used_at, Some(NOW));
    assert!(!store.use_passkey(user.id + 1, &there[1], used, NOW).await.unwrap());

    assert!(!store.remove_passkey(user.id + 1, there[1].id).await.unwrap(), "of another one");
    assert!(store.remove_passkey(user.id, there[0].id).await.unwrap());
    assert_eq!(store.second_factor(user.id).await.unwrap().recovery_codes_left, 9);
    assert!(store.remove_passkey(user.id, there[1].id).await.unwrap());
    assert_eq!(store.second_factor(user.id).await.unwrap().recovery_codes_left, 0);
    assert!(!holder(&kept).await.unwrap().user.has_second_factor);

    // A link for who lost all takes all away.
    store.add_passkey(&user, &passkey("laptop"), at).await.unwrap();
    let link = store.invite("harbour", NOW + time::Duration::hours(1), true).await.unwrap();
    assert!(store.accept(&user, &link, &Secret::new("weir heron ferry")).await.unwrap());
    assert_eq!(store.passkeys(user.id).await.unwrap(), []);
    for number in 0..20 {
        store.add_passkey(&user, &passkey(&number.to_string()), at).await.unwrap();
    }
    assert!(matches!(store.add_passkey(&user, &passkey("more"), at).await, Err(StoreError::TooMany { .. })));
    assert_ne!(store.passkey_handle(1), store.passkey_handle(2));
}

async fn written(database: &TestDatabase) -> String {
    let mut text = Vec::new();
    waverant_store::write_records(database.url(), &mut text).await.unwrap();
    String::from_utf8(text).unwrap()
}

/// All that records can hold comes back as it was, and is written the same again.
#[tokio::test]
async fn records_are_copied_into_an_empty_database() {
    let (database, store) = store().await;
    let odd = "quay '\"\\\n\0 ; -- Ü 🚣";
    let title = ChannelSettings { title: odd.to_owned(), ..settings() };
    let channel = store.add_channel("finish-line", &title, NOW).await.unwrap();
    let quay = DestinationSettings { ..destination("rtmp://127.0.0.1/in") };
    store.add_destination("quayside", &quay, &Secret::new("quay-key"), NOW).await.unwrap();
    let user = store.add_user("harbour", &Secret::new("regatta morning"), NOW).await.unwrap();
    let made = store.add_token(user.id, &token("van", Some(NOW + time::Duration::DAY)), NOW).await.unwrap();
    for number in 0..40 {
        let act = waverant_relay::Act {
            at: NOW,
            person: "harbour".to_owned(),
            by: waverant_relay::ActBy::Console,
            token: String::new(),
            address: String::new(),
            what: "change_channel".to_owned(),
            channel: None,
            subject: format!("{number} {odd}").chars().take(40).collect(),
            outcome: waverant_relay::ActOutcome::Done,
            reason: None,
            before: Some(serde_json::json!({"title": odd}).to_string()),
            after: None,
            mark: String::new(),
        };
        store.write_act(&act).await.unwrap();
    }
    let text = written(&database).await;
    assert!(text.is_ascii() && !text.contains("quay-key"), "texts are told in hexadecimal digits, secrets sealed");

    let other = TestDatabase::create().await.unwrap();
    let rows = waverant_store::read_records(other.url(), text.as_bytes()).await.unwrap();
    assert_eq!(text.lines().last(), Some(format!("-- rows: {rows}").as_str()));
    assert_eq!(written(&other).await, text, "to the letter");
    let again = waverant_store::read_records(other.url(), text.as_bytes()).await.unwrap_err().to_string();
    assert!(again.contains("is not empty"), "{again}");
    let copy = Store::open(other.url(), store.keychain().clone()).await.unwrap();
    assert_eq!(copy.channel("finish-line").await.unwrap(), channel);
    assert_eq!(copy.destinations().await.unwrap()[0].key.reveal(), "quay-key");
    assert_eq!(copy.token_holder(made.reveal(), NOW).await.unwrap().unwrap().user, user);
    let foreign = tempfile::tempdir().unwrap();
    let foreign = Keychain::open(foreign.path()).unwrap();
    assert!(matches!(Store::open(other.url(), foreign).await, Err(StoreError::ForeignKeyFile)));
}

/// Records of a version before this one are brought up to date; of what is not whole, or later, nothing is taken for good.
#[tokio::test]
async fn records_of_an_older_version_are_taken_and_damaged_ones_are_not() {
    let (database, store) = store().await;
    store.add_user("harbour", &Secret::new("regatta morning"), NOW).await.unwrap();
    let text = written(&database).await;
    let (first, rest) = text.split_once('\n').unwrap();
    let schema: i64 = first.rsplit_once(' ').unwrap().1.parse().unwrap();
    let with_schema = |schema: i64| format!("{} {schema}\n{rest}", first.rsplit_once(' ').unwrap().0);
    // The newest tables are empty here, and their numbers the only word of them.
    let newer = ["`passkeys`", "`address_rules`", "`call_targets`", "`deliveries`"];
    let is_newer = |line: &&str| newer.iter().any(|table| line.contains(table));
    let older = with_schema(24);
    let older: String = older.lines().filter(|line| !is_newer(line)).map(|line| format!("{line}\n")).collect();
    let other = TestDatabase::create().await.unwrap();
    waverant_store::read_records(other.url(), older.as_bytes()).await.unwrap();
    let copy = Store::open(other.url(), store.keychain().clone()).await.unwrap();
    assert_eq!(copy.passkeys(1).await.unwrap(), []);
    assert_eq!(written(&other).await.lines().next(), Some(first), "it is up to date now");

    let lines: Vec<&str> = text.lines().collect();
    let cut = lines[..lines.len() - 1].join("\n");
    let short = lines.iter().filter(|line| !line.contains("INTO `users`")).copied().collect::<Vec<_>>().join("\n");
    let foreign = text.replacen("INSERT INTO `users`", "DROP TABLE `users`; --", 1);
    let later = with_schema(schema + 1);
    for (damaged, told) in [
        (cut, "their last line is missing"),
        (short, "rows are missing"),
        (foreign, "neither rows nor a number"),
        (later, "of a newer version"),
        ("SELECT 1;".to_owned(), "their first line is missing"),
        (String::new(), "their first line is missing"),
    ] {
        let empty = TestDatabase::create().await.unwrap();
        let error = waverant_store::read_records(empty.url(), damaged.as_bytes()).await.unwrap_err().to_string();
        assert!(error.contains(told), "{told}: {error}");
    }
}

fn house_system(id: u64) -> HouseSystem {
    let rules = AskingRules {
        is_on: true,
        address: "https://club.wexcombe.example/relay".to_owned(),
        publishers: true,
        players: false,
        unknown_keys: UnknownKeys::Digest,
        when_silent: WhenSilent::KnownKeys,
        time_limit: std::time::Duration::from_millis(2500),
        retries: 2,
        again: Some(std::time::Duration::from_secs(600)),
    };
    HouseSystem { id, rules, secret: Secret::new("whsec_of the club") }
}

/// A slow server may do a statement late that was given up and sent again.
#[tokio::test]
async fn what_is_done_late_undoes_nothing() {
    let (_database, store) = store().await;
    store.begin_session(&session(1)).await.unwrap();
    let writing = TakeRecord { state: TakeState::Writing, duration_ms: 10, ..take(1, 1) };
    let done = TakeRecord { duration_ms: 900, ..take(1, 1) };
    let leg = |state, sent_bytes| LegRecord {
        session_id: 1,
        destination_id: 3,
        destination_name: "plovio".into(),
        state,
        reason: None,
        sent_frame_count: 0,
        sent_bytes,
        dropped_frame_count: 0,
        dropped_ms: 0,
        redial_count: 0,
    };
    let (early, late) = (leg(LegPhase::Carrying, 5), leg(LegPhase::Off, 9));
    for (take, leg, written) in [(&writing, &early, 7), (&done, &late, 9), (&writing, &early, 8), (&done, &late, 9)] {
        store.write_take(take, written).await.unwrap();
        store.write_leg(leg, written).await.unwrap();
    }
    assert_eq!(store.take(1, 1).await.unwrap().record, done);
    assert_eq!(store.legs(1).await.unwrap(), [late]);
    let act = waverant_relay::Act {
        at: NOW,
        person: "cox".to_owned(),
        by: waverant_relay::ActBy::Console,
        token: String::new(),
        address: String::new(),
        what: "end_session".to_owned(),
        channel: None,
        subject: String::new(),
        outcome: waverant_relay::ActOutcome::Done,
        reason: None,
        before: None,
        after: None,
        mark: "act_1".to_owned(),
    };
    let unmarked = waverant_relay::Act { mark: String::new(), ..act.clone() };
    for act in [&act, &act, &unmarked, &unmarked] {
        store.write_act(act).await.unwrap();
    }
    let kept = store.acts(&waverant_store::ActFilter { limit: 10, ..Default::default() }).await.unwrap();
    assert_eq!(kept.len(), 3, "what has a mark is kept once");
}

fn call_target(name: &str) -> CallTarget {
    let kinds = [OccurrenceKind::SessionBegins].into();
    let rules = CallRules { is_on: true, channel: None, kinds, form: CallForm::Event };
    let (address, secret) = (Secret::new("https://club.wexcombe.example/told"), Secret::new("whsec_of the calls"));
    CallTarget { id: 0, name: name.to_owned(), address, secret, rules }
}

/// That of the house and that of a channel are two; one goes with its channel.
#[tokio::test]
async fn house_systems_are_kept_and_go_with_their_channels() {
    let (_database, store) = store().await;
    let channel = store.add_channel("finish-line", &settings(), NOW).await.unwrap();
    let (of_house, of_channel) = (house_system(HouseSystem::OF_HOUSE), house_system(channel.id));
    for system in [&of_channel, &of_house, &of_house] {
        store.set_house_system(system).await.unwrap();
    }
    assert_eq!(store.house_systems().await.unwrap(), [of_house.clone(), of_channel.clone()]);
    let changed = HouseSystem { secret: Secret::new("another"), ..of_house };
    store.set_house_system(&changed).await.unwrap();
    assert_eq!(store.house_systems_of(&[0]).await.unwrap(), [changed]);
    store.remove_channel("finish-line").await.unwrap();
    assert!(store.house_systems_of(&[channel.id]).await.unwrap().is_empty());
    store.remove_house_system(0).await.unwrap();
    assert!(matches!(store.remove_house_system(0).await, Err(StoreError::NotFound { .. })));
    assert!(store.set_house_system(&of_channel).await.is_err(), "the channel is not there any more");
}

#[tokio::test]
async fn rules_for_addresses_are_kept_until_they_are_over() {
    let (_database, store) = store().await;
    let rule = |range: &str, until| AddressRule {
        id: 0,
        range: range.parse().unwrap(),
        reception: Reception::Blocked,
        until,
        note: "a guesser".to_owned(),
        made_at: NOW,
        made_by: "harbour".to_owned(),
    };
    let for_ever = rule("192.0.2.0/24", None);
    let first = store.set_address_rule(&for_ever, 2).await.unwrap();
    let second = store.set_address_rule(&rule("2001:db8::/32", Some(NOW + Duration::HOUR)), 2).await.unwrap();
    let full = store.set_address_rule(&rule("198.51.100.1", None), 2).await;
    assert!(matches!(full, Err(StoreError::TooMany { most: 2, .. })));
    let again = AddressRule { reception: Reception::Welcome, ..for_ever };
    let third = store.set_address_rule(&again, 2).await.unwrap();
    assert!(third > second && second > first, "it takes the place of the one for the same addresses");
    let ids = |rules: Vec<AddressRule>| rules.iter().map(|rule| rule.id).collect::<Vec<_>>();
    assert_eq!(ids(store.address_rules(NOW).await.unwrap()), [third, second]);
    assert_eq!(store.address_rules(NOW + Duration::HOUR).await.unwrap(), [AddressRule { id: third, ..again }]);
    store.remove_address_rule(third).await.unwrap();
    assert!(matches!(store.remove_address_rule(third).await, Err(StoreError::NotFound { .. })));
}
