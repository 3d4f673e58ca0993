//! Stream keys by rule: when, from where and how they open, and what becomes of shows meanwhile.

use std::time::Duration;

use rstest::rstest;
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_standin::{Encoder, EncoderEnd, EncoderFault, EncoderOptions, EncoderReport, compare};

use crate::command_line::Shell;
use crate::house::{Ground, House, PATIENCE, clip};
use crate::play::{options, watch};

const KEYS: &str = "/channels/finish-line/keys";

fn in_seconds(seconds: i64) -> String {
    (OffsetDateTime::now_utc() + time::Duration::seconds(seconds)).format(&Rfc3339).unwrap()
}

/// Makes a key; returns its number and the key.
fn make(house: &House<'_>, form: Value) -> (u64, String) {
    let made = house.call("POST", KEYS, Some(form));
    (made["key"]["id"].as_u64().unwrap(), made["encoder"]["key"].as_str().unwrap().to_owned())
}

fn listed(house: &House<'_>, id: u64) -> Value {
    let keys = house.get(KEYS);
    keys.as_array().unwrap().iter().find(|key| key["id"] == id).cloned().unwrap_or_default()
}

fn begin(options: EncoderOptions) -> tokio::task::JoinHandle<EncoderReport> {
    tokio::spawn(async move { Encoder::new(clip(), options).run().await.unwrap() })
}

async fn on_air(house: &House<'_>) {
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
}

/// What an encoder hears that is not let in.
async fn refusal(options: EncoderOptions) -> String {
    match begin(options).await.unwrap().end {
        EncoderEnd::Refused { code, description, .. } => format!("{code} {description}"),
        end => panic!("{end:?}"),
    }
}

/// No hour of this day of the week, and all others.
fn other_days() -> Value {
    let today = OffsetDateTime::now_utc().weekday().number_days_from_monday();
    let days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    // A test that runs over midnight finds the day after closed as well.
    let closed = [usize::from(today), usize::from(today + 1) % 7];
    let open: Vec<&str> = (0..7).filter(|day| !closed.contains(day)).map(|day| days[day]).collect();
    json!({"zone": "UTC", "windows": [format!("{} 00:00-24:00", open.join(","))]})
}

#[rstest]
#[case::early(json!({"starts_at": in_seconds(3600)}), "opens from", "early_key")]
#[case::hours(json!({"hours": other_days()}), "The next begin at", "out_of_hours")]
#[case::protocol(json!({"protocols": ["rtmps"]}), "does not open over this protocol", "protocol_not_allowed")]
#[tokio::test(flavor = "multi_thread")]
async fn who_comes_otherwise_than_the_key_says_hears_why(
    #[case] rule: Value,
    #[case] words: &str,
    #[case] reason: &str,
) {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let mut form = rule;
    form["label"] = json!("camera");
    let (id, key) = make(&house, form);
    let told = refusal(house.encoder(&key, 1.0)).await;
    assert!(told.contains(words), "{told}");
    let told = refusal(house.encoder_at(true, &key, 1.0)).await;
    assert!(told.starts_with("1403"), "{told}");
    house
        .wait_until("both are listed", |house| house.get("/turned-away")["items"].as_array().unwrap().len() == 2)
        .await;
    for item in house.get("/turned-away")["items"].as_array().unwrap() {
        assert_eq!((&item["reason"], &item["channel"]), (&json!(reason), &json!("finish-line")));
    }
    let clear = json!({"starts_at": null, "hours": null, "protocols": []});
    house.call("PATCH", &format!("{KEYS}/{id}"), Some(clear));
    assert_eq!(house.publish(house.encoder(&key, 1.0)).await.end, EncoderEnd::Finished);
}

/// All that can be changed of a key is changed in mid-show: nothing of the show is touched.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_change_of_its_key_leaves_the_show_alone(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let (id, key) = make(&house, json!({"label": "camera"}));
    let sent = begin(house.encoder_at(is_srt, &key, 16.0));
    on_air(&house).await;
    let changes = [
        json!({"label": "bow camera", "rank": 3}),
        json!({"expires_at": in_seconds(6)}),
        json!({"allowed_from": ["192.0.2.0/24"], "protocols": ["rtmps"], "most_connections": 1}),
        json!({"hours": other_days(), "passphrase": "over the weir", "show_when_over": "ends"}),
    ];
    for change in changes {
        house.call("PATCH", &format!("{KEYS}/{id}"), Some(change));
    }
    // The end that was set in mid-show comes, and the key is looked at again.
    house.wait_until("the key is over", |house| listed(house, id)["state"] == "expired").await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    assert_eq!(house.live()["state"], "on air");
    let sent = sent.await.unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections.iter().any(|one| one.was_ended)).await);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    assert_eq!(house.get("/sessions")["items"].as_array().unwrap().len(), 1);
}

/// Both keys open until the moment that was said; the encoder changes in mid-show, though another key of the same rank
/// would be turned away, and what the old one opened goes on after its end.
#[tokio::test(flavor = "multi_thread")]
async fn a_renewed_key_takes_the_place_of_the_old_one_in_mid_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let stranger = house.make_channel(20_000);
    let (old_id, old) = make(&house, json!({"label": "camera", "most_connections": null}));
    let first = begin(house.encoder(&old, 30.0));
    on_air(&house).await;
    let form = json!({"both_until": in_seconds(4)});
    let made = house.call("POST", &format!("{KEYS}/{old_id}/renewal"), Some(form));
    let new = made["encoder"]["key"].as_str().unwrap().to_owned();
    assert_eq!((&made["key"]["label"], &made["key"]["stands_for"]), (&json!("camera"), &json!(old_id)));
    assert!(new != old);
    house.wait_until("the old one is over", |house| listed(house, old_id)["state"] == "expired").await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    assert_eq!(house.live()["state"], "on air", "what it opened goes on");
    assert!(refusal(house.encoder(&stranger, 1.0)).await.contains("Another encoder is already on this channel"));
    let second = house.publish(house.encoder(&new, 3.0)).await;
    assert_eq!(second.end, EncoderEnd::Finished);
    let EncoderEnd::Refused { description, .. } = first.await.unwrap().end else { panic!("it was not replaced") };
    assert!(description.contains("another encoder took over"), "{description}");
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the encoder stopped");
    assert!(refusal(house.encoder(&old, 1.0)).await.contains("has expired"), "there is no show that it was in");
    let form = json!({"both_until": in_seconds(60)});
    let (status, problem) = house.try_call("POST", &format!("{KEYS}/{old_id}/renewal"), Some(form));
    assert!(status == 409 && problem["detail"].as_str().unwrap().contains("time is over"), "{problem}");
}

/// An encoder whose line breaks after the end of its key comes back into the show that is to go on.
#[tokio::test(flavor = "multi_thread")]
async fn who_is_in_a_show_that_goes_on_comes_back_after_the_keys_end() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(20_000);
    let form = json!({"label": "camera", "expires_at": in_seconds(8), "show_when_over": "goes_on"});
    let (id, key) = make(&house, form);
    let mut options = house.encoder(&key, 3.0);
    options.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(2)));
    begin(options).await.unwrap();
    house.wait_until("the key is over", |house| listed(house, id)["state"] == "expired").await;
    house.wait_until("it holds", |house| house.live()["state"] == "holding").await;
    assert_eq!(house.publish(house.encoder(&key, 2.0)).await.end, EncoderEnd::Finished);
    let session = house.ended_session(1).await;
    assert_eq!(
        (&session["session"]["loss_count"], &session["session"]["end_reason"]),
        (&json!(1), &json!("the encoder stopped"))
    );
    assert!(refusal(house.encoder(&key, 1.0)).await.contains("has expired"));
}

#[rstest]
#[case::with_its_show("ends")]
#[case::without_its_show("goes_on")]
#[tokio::test(flavor = "multi_thread")]
async fn a_retired_key_opens_nothing_from_that_moment_on(#[case] show: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(20_000);
    let (id, key) = make(&house, json!({"label": "camera"}));
    let sent = begin(house.encoder(&key, 6.0));
    on_air(&house).await;
    house.call("POST", &format!("{KEYS}/{id}/retirement"), Some(json!({ "show": show })));
    assert!(refusal(house.encoder(&key, 1.0)).await.contains("was retired"));
    let end = sent.await.unwrap().end;
    let reason = house.ended_session(1).await["session"]["end_reason"].clone();
    if show == "ends" {
        let EncoderEnd::Refused { description, .. } = end else { panic!("{end:?}") };
        assert!(description.contains("the stream key was retired"), "{description}");
        assert_eq!(reason, "the stream key was retired");
    } else {
        assert_eq!((end, reason), (EncoderEnd::Finished, json!("the encoder stopped")));
    }
    assert_eq!(listed(&house, id)["retired"]["show"], show);
    house
        .wait_until("who still comes with it is listed", |house| {
            let item = house.get("/turned-away")["items"][0].clone();
            item["reason"] == "retired_key" && item["key_prefix"] == listed(house, id)["prefix"]
        })
        .await;
    let changed = house.try_call("PATCH", &format!("{KEYS}/{id}"), Some(json!({"label": "x"})));
    assert_eq!((changed.0, &changed.1["code"]), (409, &json!("conflict")));
}

/// A copy of the key does not push the true encoder off the air.
#[rstest]
#[case::rtmp(false, "in use")]
#[case::srt(true, "1409")]
#[tokio::test(flavor = "multi_thread")]
async fn a_key_for_one_at_a_time_is_not_taken_over(#[case] is_srt: bool, #[case] words: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    house.change_channel(json!({"takeover": "replace"}));
    let (_, key) = make(&house, json!({"label": "camera", "most_connections": 1}));
    let first = begin(house.encoder_at(is_srt, &key, 4.0));
    on_air(&house).await;
    let told = refusal(house.encoder_at(is_srt, &key, 1.0)).await;
    assert!(told.contains(words), "{told}");
    assert_eq!(first.await.unwrap().end, EncoderEnd::Finished);
    assert_eq!(house.publish(house.encoder_at(is_srt, &key, 1.0)).await.end, EncoderEnd::Finished);
}

/// A key that encoders in the field have: they need no change, and it is told what that costs.
#[tokio::test(flavor = "multi_thread")]
async fn a_key_that_somebody_chose_opens_wherever_encoders_put_it() {
    const OWN: &str = "Boathouse_7";
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    for (key, words) in
        [("seven77", "between 8 and 128"), ("live/boathouse", "`/` stands in it"), ("Finish-Line", "name of a channel")]
    {
        let (status, problem) = house.try_call("POST", KEYS, Some(json!({"label": "van", "key": key})));
        assert!(status == 422 && problem["detail"].as_str().unwrap().contains(words), "{problem}");
    }
    let made = house.call("POST", KEYS, Some(json!({"label": "van", "key": OWN})));
    assert!(made["warning"].as_str().unwrap().contains("characters"), "{made}");
    assert_eq!((&made["key"]["is_own"], &made["encoder"]["key"]), (&json!(true), &json!(OWN)));
    let again = house.try_call("POST", KEYS, Some(json!({"label": "bus", "key": OWN})));
    assert_eq!(again.0, 409, "{again:?}");
    let taken = house.try_call("POST", "/channels", Some(json!({"name": "boathouse-7", "title": "x"})));
    assert_eq!(taken.0, 201, "another spelling is another text");

    let mut ways = vec![house.encoder(OWN, 1.0), house.encoder(&format!("cam?key={OWN}"), 1.0)];
    let mut old_path = house.encoder(OWN, 1.0);
    old_path.server = format!("rtmp://{}/live", house.rtmp);
    let mut credentials = house.encoder("camera", 1.0);
    credentials.server = format!("rtmp://{}/door", house.rtmp);
    credentials.credentials = Some((made["key"]["prefix"].as_str().unwrap().to_owned(), OWN.to_owned()));
    let mut user = house.encoder_at(true, OWN, 1.0);
    user.srt.stream_id = Some(format!("#!::r=camera,u={OWN},m=publish"));
    ways.extend([old_path, credentials, house.encoder_at(true, OWN, 1.0), user]);
    for options in ways {
        let told = format!("{} {}", options.server, options.key);
        assert_eq!(begin(options).await.unwrap().end, EncoderEnd::Finished, "{told}");
    }
    assert!(refusal(house.encoder("Boathouse_8", 1.0)).await.contains("not a stream key"));
    assert!(!ground.log().contains(OWN) && !ground.log().contains("Boathouse_8"), "no key stands in the log");
}

/// Who tries one key after the other finds none that somebody chose; what was made here opens meanwhile, also there.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_chosen_key_cannot_be_tried_for_long(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let house = ground.start();
    let made = house.make_channel(0);
    make(&house, json!({"label": "van", "key": "Boathouse_7"}));
    let is_held_off = |told: &String| told.contains("Too many wrong keys") || told.starts_with("1402");
    let guesses = || async {
        let guess = |number: u32| house.encoder_at(is_srt, &format!("Boathouse_{}", 100 + number), 1.0);
        let tasks: Vec<_> = (0..10).map(|number| tokio::spawn(refusal(guess(number)))).collect();
        let mut told = Vec::new();
        for task in tasks {
            told.push(task.await.unwrap());
        }
        told
    };
    // It is held off for some seconds, which may be over before a busy machine comes with the right one.
    let mut rounds = 0;
    loop {
        let told = guesses().await.into_iter().find(is_held_off);
        rounds += 1;
        assert!(rounds < 40, "it may try for ever");
        let Some(told) = told else { continue };
        if let EncoderEnd::Refused { code, description, .. } =
            begin(house.encoder_at(is_srt, "Boathouse_7", 1.0)).await.unwrap().end
        {
            assert_eq!(format!("{code} {description}"), told, "right or wrong, it is told the same");
            break;
        }
    }
    assert_eq!(begin(house.encoder_at(is_srt, &made, 1.0)).await.unwrap().end, EncoderEnd::Finished);
    // The way back is to wait.
    let deadline = tokio::time::Instant::now() + 3 * PATIENCE;
    while begin(house.encoder_at(is_srt, "Boathouse_7", 1.0)).await.unwrap().end != EncoderEnd::Finished {
        assert!(tokio::time::Instant::now() < deadline, "it never opens");
        tokio::time::sleep(Duration::from_secs(3)).await;
    }
}

/// The key's own passphrase counts, in the place of the channel's; and what is listed is when it was used last.
#[tokio::test(flavor = "multi_thread")]
async fn a_key_has_a_passphrase_of_its_own() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    house.change_channel(json!({"srt": {"passphrase": "wexcombe reach"}}));
    let made = house.call("POST", KEYS, Some(json!({"label": "camera", "makes_passphrase": true})));
    let own = made["encoder"]["srt"]["passphrase"].as_str().unwrap().to_owned();
    let (id, key) = (made["key"]["id"].as_u64().unwrap(), made["encoder"]["key"].as_str().unwrap().to_owned());
    let with = |passphrase: &str| {
        let mut options = house.encoder_at(true, &key, 1.0);
        options.srt.passphrase = Some(passphrase.to_owned());
        options
    };
    let told = refusal(with("wexcombe reach")).await;
    assert!(told.contains("wrong passphrase"), "{told}");
    assert_eq!(begin(with(&own)).await.unwrap().end, EncoderEnd::Finished);
    house.wait_until("it is noted", |house| listed(house, id)["last_use"].is_object()).await;
    let used = listed(&house, id)["last_use"].clone();
    assert!(used["protocol"] == "srt" && used["encoder"].as_str().unwrap().starts_with("SRT "), "{used}");
    assert!(used["address"].as_str().unwrap().starts_with("127.0.0.1:"));
    house.call("PATCH", &format!("{KEYS}/{id}"), Some(json!({"passphrase": ""})));
    assert_eq!(begin(with("wexcombe reach")).await.unwrap().end, EncoderEnd::Finished, "the channel's counts again");
    assert!(!house.get(KEYS).to_string().contains(&own));
}

/// Keys from a list, over the command line: as in a move from another house.
#[tokio::test(flavor = "multi_thread")]
async fn keys_come_from_a_list() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let shell = Shell { house: &house };
    shell.sign_in();
    let list = ground.path("keys.csv");
    let path = list.to_str().unwrap();
    std::fs::write(&list, "label,key,rank\nvan,Riverbank-2019,0\nbus,Riverbank-2020,12\n").unwrap();
    let said = shell.fail(&["key", "import", "finish-line", path], 1);
    assert!(said.contains("key 2") && said.contains("12 is not between 0 and 9"), "{said}");
    assert_eq!(house.get(KEYS).as_array().unwrap().len(), 1, "all or none");
    std::fs::write(&list, "label,key,rank\nvan,Riverbank-2019,0\nbus,,2\n").unwrap();
    let said = shell.run(&["key", "import", "finish-line", path]);
    assert!(said.starts_with("2 keys are made.") && said.contains("Riverbank-2019"), "{said}");
    assert_eq!(house.publish(house.encoder("Riverbank-2019", 1.0)).await.end, EncoderEnd::Finished);
    let said = shell.run(&["key", "list", "finish-line"]);
    assert!(said.contains("(chosen)") && !said.contains("Riverbank"), "{said}");

    let until = in_seconds(3600);
    let add = ["key", "add", "finish-line", "guest", "--guest-link-until", &until, "--qr", "guest-link"];
    let rules =
        ["--hours", "mon-sun 00:00-24:00", "--zone", "Europe/Lisbon", "--protocol", "srt", "--most-connections", "1"];
    let said = shell.run(&[&add[..], &rules[..]].concat());
    assert!(said.contains("/guest#") && said.contains("▀"), "{said}");
    let id = house.get(KEYS).as_array().unwrap().last().unwrap()["id"].to_string();
    let said = shell.run(&["key", "change", "finish-line", &id, "--clear", "hours", "--allow-from", "192.0.2.7"]);
    assert!(
        said.contains("from 192.0.2.7; over srt; 1 at a time; guest's link until") && !said.contains("Lisbon"),
        "{said}"
    );
    let said = shell.run(&["key", "renew", "finish-line", &id, "--both-until", &until]);
    assert!(said.contains("The key is not shown again."), "{said}");
    shell.run(&["key", "retire", "finish-line", &id, "--show", "goes-on"]);
    assert!(shell.run(&["key", "list", "finish-line"]).contains("retired"));
}

/// A guest sees the key, and whether the relay sees the guest, without an account; and it ends by itself.
#[tokio::test(flavor = "multi_thread")]
async fn a_guests_link_shows_the_key_and_that_the_guest_is_seen() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    house.change_channel(json!({"srt": {"passphrase": "wexcombe reach"}}));
    let form = json!({"label": "guest", "guest_link_until": in_seconds(3600)});
    let made = house.call("POST", KEYS, Some(form));
    let (id, key) = (made["key"]["id"].as_u64().unwrap(), made["encoder"]["key"].as_str().unwrap().to_owned());
    let token = made["guest_token"].clone();
    let look = || house.call_as("", "POST", "/guests/look", Some(json!({ "token": token })));
    let page = look().1;
    assert_eq!((&page["encoder"]["key"], &page["seen"]["state"]), (&json!(key), &json!("not_here")), "{page}");
    assert_eq!(page["encoder"]["srt"]["passphrase"], "wexcombe reach", "a guest has no other place to see it");
    assert_eq!((&page["title"], &page["label"]), (&json!("Finish line"), &json!("guest")));
    refusal(house.encoder_at(true, &key, 1.0)).await;
    let told = look().1["turned_away"]["reason"].clone();
    assert!(told.as_str().unwrap().contains("passphrase"), "{told}");
    let sent = begin(house.encoder(&key, 4.0));
    house.wait_until("the guest is seen", |_| look().1["seen"]["state"] == "on_air").await;
    let seen = look().1;
    assert!(seen["seen"]["stream"].as_str().unwrap().contains("H.264"), "{seen}");
    assert!(seen["turned_away"].is_null() && seen["seen"]["address"] == "127.0.0.1", "{seen}");
    sent.await.unwrap();

    house.call("DELETE", &format!("{KEYS}/{id}/guest-link"), None);
    assert_eq!(look().0, 404);
    assert!(listed(&house, id)["guest_link_until"].is_null(), "nothing of the key is kept");
    assert_eq!(house.publish(house.encoder(&key, 1.0)).await.end, EncoderEnd::Finished, "the key goes on");

    let form = json!({"label": "guest", "guest_link_until": in_seconds(5)});
    let made = house.call("POST", KEYS, Some(form));
    let token = json!({"token": made["guest_token"]});
    house
        .wait_until("it is over", |house| house.call_as("", "POST", "/guests/look", Some(token.clone())).0 == 404)
        .await;
    let id = made["key"]["id"].as_u64().unwrap();
    house.wait_until("it is wiped", |house| listed(house, id)["guest_link_until"].is_null()).await;
    assert!(!ground.log().contains(made["guest_token"].as_str().unwrap()));
}

/// Who tries links has no luck, and soon waits; who has one does not wait for them.
#[tokio::test(flavor = "multi_thread")]
async fn guests_links_cannot_be_tried() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let made = house.call("POST", KEYS, Some(json!({"label": "guest", "guest_link_until": in_seconds(3600)})));
    let look = |token: &str| house.call_as("", "POST", "/guests/look", Some(json!({ "token": token }))).0;
    let answers: Vec<u16> = (0..40).map(|number| look(&format!("try{number}"))).collect();
    assert!(answers[0] == 404 && answers.contains(&429), "{answers:?}");
    assert_eq!(look(made["guest_token"].as_str().unwrap()), 200);
}

/// A viewing key for so many players.
#[tokio::test(flavor = "multi_thread")]
async fn a_viewing_key_is_for_so_many_players() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let form = json!({"label": "mixer", "right": "view", "most_connections": 1, "protocols": ["rtmp", "srt"]});
    let (id, viewing) = make(&house, form);
    let sent = begin(house.encoder(&key, 12.0));
    on_air(&house).await;
    let player = || tokio::spawn(watch(options(&house, &viewing, 20.0)));
    let first = player();
    house.wait_until("one watches", |house| house.live()["viewers"]["rtmp"] == 1).await;
    let second = player();
    let ended = first.await.unwrap().ended.unwrap().1;
    assert_eq!(ended, "Another player with this key took the place.", "the same device has one");
    house.wait_until("it is noted", |house| listed(house, id)["last_use"]["protocol"] == "rtmp").await;
    house.call("POST", "/channels/finish-line/end-session", None);
    sent.await.unwrap();
    assert!(second.await.unwrap().received.len() > 10);
}
