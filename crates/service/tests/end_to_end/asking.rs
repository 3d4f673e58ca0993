//! Another system of the house is asked before somebody is let in; a club plays it, well and badly.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use standardwebhooks::Webhook;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_standin::{Club, ClubAnswer, ClubQuestion, Encoder, EncoderEnd, EncoderOptions, EncoderReport, compare};

use crate::house::{Ground, House, PATIENCE, clip};
use crate::play::{options, watch};

const HERE: &str = "[calls]\nprivate_addresses = \"127.0.0.1\"\n";

async fn ground() -> Ground {
    let ground = Ground::new().await;
    ground.write_settings(HERE);
    ground
}

/// Has `club` asked for the house, by these rules; returns the secret.
fn ask(house: &House<'_>, club: &Club, rules: Value) -> String {
    ask_at(house, "/house-system", &club.url(), rules)
}

fn ask_at(house: &House<'_>, path: &str, address: &str, mut rules: Value) -> String {
    rules["address"] = json!(address);
    let set = house.call("PUT", path, Some(json!({ "rules": rules })));
    set["secret"].as_str().unwrap_or_default().to_owned()
}

fn begin(options: EncoderOptions) -> tokio::task::JoinHandle<EncoderReport> {
    tokio::spawn(async move { Encoder::new(clip(), options).run().await.unwrap() })
}

/// What an encoder hears that is not let in.
async fn refusal(options: EncoderOptions) -> String {
    match begin(options).await.unwrap().end {
        EncoderEnd::Refused { code, description, .. } => format!("{code} {description}"),
        end => panic!("{end:?}"),
    }
}

async fn on_air(house: &House<'_>) {
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
}

fn turned_away(house: &House<'_>) -> Vec<Value> {
    house.get("/turned-away")["items"].as_array().unwrap().clone()
}

fn in_seconds(seconds: i64) -> String {
    (OffsetDateTime::now_utc() + time::Duration::seconds(seconds)).format(&Rfc3339).unwrap()
}

fn yes(_: &Value) -> ClubAnswer {
    ClubAnswer::new(200, "")
}

fn no(_: &Value) -> ClubAnswer {
    ClubAnswer::new(403, r#"{"message": "Your boat is not entered."}"#)
}

/// The signature is looked at by a library that is not ours.
fn verify(secret: &str, asked: &ClubQuestion) {
    Webhook::new(secret).unwrap().verify(&asked.body, &asked.headers).unwrap();
}

/// Comes again until somebody answers: over SRT callers give up after three seconds.
async fn until_answered(options: EncoderOptions) -> EncoderReport {
    for _ in 0..10 {
        if let Ok(report) = Encoder::new(clip_once(), options.clone()).run().await {
            return report;
        }
    }
    panic!("nobody answers");
}

/// The clip, read once for many.
fn clip_once() -> waverant_standin::Clip {
    static CLIP: std::sync::OnceLock<waverant_standin::Clip> = std::sync::OnceLock::new();
    CLIP.get_or_init(clip).clone()
}

#[rstest]
#[case::rtmp(false, "rtmp")]
#[case::srt(true, "srt")]
#[tokio::test(flavor = "multi_thread")]
async fn who_has_a_key_is_asked_about_and_let_in(#[case] is_srt: bool, #[case] protocol: &str) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(yes).await.unwrap();
    let secret = ask(&house, &club, json!({}));
    let sent = house.publish(house.encoder_at(is_srt, &format!("{key}?from=phone"), 1.0)).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    let questions = club.questions();
    assert_eq!(questions.len(), 1, "a caller that repeats itself is asked about once");
    verify(&secret, &questions[0]);
    let told = &questions[0].question;
    assert_eq!((&told["protocol"], &told["channel"]), (&json!(protocol), &json!("finish-line")));
    assert_eq!((&told["purpose"], &told["right"]), (&json!("enter"), &json!("publish")));
    assert_eq!((&told["address"], &told["key"]["label"]), (&json!("127.0.0.1"), &json!("van")));
    assert_eq!(told["stream_name"], "…?from=phone");
    assert_eq!(told["id"], questions[0].headers["webhook-id"].to_str().unwrap());
    assert!(!told["encoder"].as_str().unwrap().is_empty());
    assert!(!String::from_utf8_lossy(&questions[0].body).contains(&key), "the key is not told");
    let system = house.get("/house-system")["system"].clone();
    assert_eq!((&system["condition"]["asked"], &system["condition"]["silent"]), (&json!(1), &json!(0)));
    assert!(!house.get("/acts").to_string().contains(&secret) && !ground.log().contains(&secret));
}

#[rstest]
#[case::rtmp(false, "Your boat is not entered.")]
#[case::srt(true, "1403")]
#[tokio::test(flavor = "multi_thread")]
async fn who_is_refused_hears_the_words_of_the_club(#[case] is_srt: bool, #[case] words: &str) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(no).await.unwrap();
    ask(&house, &club, json!({}));
    let told = refusal(house.encoder_at(is_srt, &key, 1.0)).await;
    assert!(told.contains(words), "{told}");
    house.wait_until("it is listed", |house| turned_away(house).len() == 1).await;
    let listed = turned_away(&house).remove(0);
    assert_eq!((&listed["reason"], &listed["channel"]), (&json!("declined"), &json!("finish-line")));
    assert!(listed["detail"].as_str().unwrap().contains("Your boat is not entered."), "{listed}");
    assert!(house.get("/sessions")["items"].as_array().unwrap().is_empty());
}

/// It names who it is, where it goes, what is recorded and when it has to go. What people say in the show counts more.
#[tokio::test(flavor = "multi_thread")]
async fn the_club_steers_the_show() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let kept = house.add_platform("plovio", None).await;
    let left_out = house.add_platform("tindrel", None).await;
    let added = house.add_platform("quayside", None).await;
    house.switch("quayside", false);
    let until = in_seconds(20);
    let answer = json!({"label": "Mira's phone", "until": until, "recording": "off",
        "destinations": {"tindrel": false, "quayside": true, "nowhere": true}});
    let club = Club::open(move |_| ClubAnswer::new(200, &answer)).await.unwrap();
    ask(&house, &club, json!({}));
    let sent = begin(house.encoder(&key, 60.0));
    on_air(&house).await;
    house.wait_until("it is sent where the club wants", |house| house.leg("quayside")["state"] == "carrying").await;
    let live = house.live();
    assert_eq!(live["session"]["key_label"], "Mira's phone");
    assert_eq!(live["session"]["recorder"], "off");
    let leg = house.leg("tindrel");
    assert!(leg["reason"].as_str().unwrap().contains("as the house's system wants"), "{leg}");
    // Other changes of the channel leave that as it is; a hand on the switch does not.
    house.change_channel(json!({"title": "Finish"}));
    house.send("tindrel", json!({"start_after_ms": 0}));
    assert!(house.leg("tindrel")["reason"].as_str().unwrap().contains("as the house's system wants"));
    house.switch("tindrel", true);
    house.wait_until("it is switched on", |house| house.leg("tindrel")["state"] == "carrying").await;
    let sent = sent.await.unwrap();
    assert!(OffsetDateTime::now_utc() >= OffsetDateTime::parse(&until, &Rfc3339).unwrap());
    assert!(matches!(sent.end, EncoderEnd::Refused { .. }), "{:?}", sent.end);
    let id = live["session"]["id"].as_u64().unwrap();
    let ended = house.ended_session(id).await;
    assert!(ended["session"]["end_reason"].as_str().unwrap().contains("the house's system let it in"), "{ended}");
    assert!(ended["takes"].as_array().unwrap().is_empty());
    let report = house.get(&format!("/sessions/{id}/report"));
    assert!(report["events"].to_string().contains("destinations that are not here: nowhere"), "{report}");
    for platform in [&kept, &added] {
        let received = &platform.report().connections[0].received;
        assert_eq!(compare(&sent.sent[..received.len()], received, false).fault, None);
    }
    drop(left_out);
}

#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn the_club_names_another_channel(#[case] is_srt: bool) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "boathouse"})));
    let club = Club::open(|_| ClubAnswer::new(200, json!({"channel": "boathouse"}))).await.unwrap();
    ask(&house, &club, json!({}));
    assert_eq!(house.publish(house.encoder_at(is_srt, &key, 1.0)).await.end, EncoderEnd::Finished);
    house.wait_until("it is written", |house| house.get("/sessions")["items"][0]["channel"] == "boathouse").await;
    // The system of one channel speaks for that alone.
    ask_at(&house, "/channels/finish-line/house-system", &club.url(), json!({}));
    refusal(house.encoder_at(is_srt, &key, 1.0)).await;
    house.wait_until("it is listed", |house| turned_away(house).len() == 1).await;
    let listed = turned_away(&house).remove(0);
    assert!(listed["detail"].as_str().unwrap().contains("`boathouse`, and is asked for another one"), "{listed}");
    // Switched off there, nobody is asked for that channel.
    let rules = json!({"is_on": false});
    ask_at(&house, "/channels/finish-line/house-system", &club.url(), rules);
    let asked = club.questions().len();
    assert_eq!(house.publish(house.encoder_at(is_srt, &key, 1.0)).await.end, EncoderEnd::Finished);
    assert_eq!(club.questions().len(), asked);
    house.call("DELETE", "/channels/finish-line/house-system", None);
    assert_eq!(house.publish(house.encoder_at(is_srt, &key, 1.0)).await.end, EncoderEnd::Finished);
    assert_eq!(club.questions().len(), asked + 1);
}

/// Who asks waits, and nobody else does; who hangs up is forgotten.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_slow_answer_holds_nobody_else(#[case] is_srt: bool) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "boathouse"})));
    let made = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "quick"})));
    let quick = made["encoder"]["key"].as_str().unwrap().to_owned();
    let slow = |question: &Value| {
        let answer = ClubAnswer::new(200, "");
        if question["channel"] == "finish-line" { answer.after(Duration::from_millis(2500)) } else { answer }
    };
    let club = Club::open(slow).await.unwrap();
    ask(&house, &club, json!({"time_limit_ms": 8000}));
    let waiting = tokio::spawn(until_answered(house.encoder_at(is_srt, &key, 1.0)));
    house.wait_until("the club is asked", |_| club.questions().len() == 1).await;
    let others = Instant::now();
    assert_eq!(house.publish(house.encoder_at(is_srt, &quick, 0.3)).await.end, EncoderEnd::Finished);
    assert!(!waiting.is_finished(), "a whole show went by in {:?}", others.elapsed());
    assert_eq!(waiting.await.unwrap().end, EncoderEnd::Finished);
    assert_eq!(club.questions().len(), 2);
}

/// Encoders over SRT give up after three seconds: what comes later is found by those who come again, and begins nothing
/// for those who do not.
#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_comes_too_late_is_found_by_who_comes_again() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(|_| ClubAnswer::new(200, "").after(Duration::from_secs(6))).await.unwrap();
    ask(&house, &club, json!({"time_limit_ms": 8000}));
    let mut tries = 1;
    let sent = loop {
        match Encoder::new(clip(), house.encoder_at(true, &key, 1.0)).run().await {
            Ok(sent) => break sent,
            Err(error) => assert!(error.to_string().contains("no answer"), "{error}"),
        }
        tries += 1;
        assert!(tries < 10, "it never comes in");
    };
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert_eq!(club.questions().len(), 1, "all tries wait for one answer");
    house.wait_until("it is written", |house| house.get("/sessions")["items"].as_array().unwrap().len() == 1).await;
}

#[rstest]
#[case::down(None)]
#[case::broken(Some(ClubAnswer { breaks_off: true, ..ClubAnswer::new(200, "") }))]
#[case::error(Some(ClubAnswer::new(500, "it hurts")))]
#[case::garbage(Some(ClubAnswer::new(200, "<html>Sign in first</html>")))]
#[case::endless(Some(ClubAnswer::new(200, "x".repeat(200_000))))]
#[case::too_slow(Some(ClubAnswer::new(200, "").after(Duration::from_secs(3600))))]
#[tokio::test(flavor = "multi_thread")]
async fn a_club_that_does_not_answer_is_followed_by_the_rule(#[case] answer: Option<ClubAnswer>) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut club = Club::open(yes).await.unwrap();
    match answer {
        Some(answer) => club.answer(move |_| answer.clone()),
        None => club.close(),
    }
    ask(&house, &club, json!({"time_limit_ms": 1000, "unknown_keys": "digest"}));
    for is_srt in [false, true] {
        let told = refusal(house.encoder_at(is_srt, &key, 1.0)).await;
        assert!(told.contains("not decided in time") || told.contains("1503"), "{told}");
        assert!(!told.contains("127.0.0.1"), "a stranger does not hear where the club is: {told}");
    }
    house.wait_until("both are listed", |house| turned_away(house).len() == 2).await;
    for listed in turned_away(&house) {
        assert!(listed["detail"].as_str().unwrap().contains("(the house system: "), "{listed}");
    }
    ask(&house, &club, json!({"time_limit_ms": 1000, "unknown_keys": "digest", "when_silent": "known_keys"}));
    let sent = begin(house.encoder(&key, 4.0));
    on_air(&house).await;
    let findings = house.live().to_string();
    assert!(findings.contains("let in by the key alone"), "{findings}");
    assert_eq!(sent.await.unwrap().end, EncoderEnd::Finished);
    // Who has no key that is known has none.
    let told = refusal(house.encoder(&key.replace('-', "x"), 1.0)).await;
    assert!(told.contains("not a stream key") || told.contains("not known"), "{told}");
}

/// One that flaps is asked once more, and the second answer counts; of both tries the club sees one number.
#[tokio::test(flavor = "multi_thread")]
async fn a_flapping_club_is_asked_once_more() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let count = Arc::new(AtomicUsize::new(0));
    let seen = count.clone();
    let flapping = move |_: &Value| {
        ClubAnswer::new(if seen.fetch_add(1, Ordering::SeqCst).is_multiple_of(2) { 503 } else { 204 }, "")
    };
    let club = Club::open(flapping).await.unwrap();
    ask(&house, &club, json!({}));
    for _ in 0..8 {
        assert_eq!(house.publish(house.encoder(&key, 0.2)).await.end, EncoderEnd::Finished);
    }
    let questions = club.questions();
    assert_eq!(questions.len(), 16);
    assert!(questions.chunks(2).all(|tries| tries[0].question["id"] == tries[1].question["id"]));
    let condition = house.get("/house-system")["system"]["condition"].clone();
    assert_eq!((&condition["silent"], &condition["is_resting"]), (&json!(0), &json!(false)));
}

/// What a question holds is meant for one address: nobody leads it to another, least of all into the house.
#[tokio::test(flavor = "multi_thread")]
async fn a_club_that_sends_elsewhere_is_not_followed() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let inside = Club::open(yes).await.unwrap();
    let location = Some(inside.url());
    let elsewhere = move |_: &Value| ClubAnswer { location: location.clone(), ..ClubAnswer::new(307, "") };
    let club = Club::open(elsewhere).await.unwrap();
    ask(&house, &club, json!({}));
    refusal(house.encoder(&key, 1.0)).await;
    assert_eq!((club.questions().len(), inside.questions().len()), (1, 0), "and it is not asked again");
    let tried = house.call("POST", "/house-system/try", Some(json!({})));
    assert!(tried["meaning"].as_str().unwrap().contains("sends elsewhere"), "{tried}");
    // Nor is an address of this machine called that the settings do not name.
    let address = club.url().replace("127.0.0.1", "127.0.0.2");
    ask_at(&house, "/house-system", &address, json!({}));
    let tried = house.call("POST", "/house-system/try", Some(json!({})));
    assert!(tried["meaning"].as_str().unwrap().contains("may not lead to"), "{tried}");
    let (status, told) = house.try_call(
        "PUT",
        "/house-system",
        Some(json!({"rules": {"address": "http://club.wexcombe.example", "unknown_keys": "whole"}})),
    );
    assert!(status == 422 && told.to_string().contains("over https:// only"), "{told}");
}

/// A house keeps its keys itself: they open what it says, for encoders of both protocols.
#[rstest]
#[case::rtmp(false, "whole", "member 0815 of the club")]
#[case::srt(true, "digest", "member-0815")]
#[tokio::test(flavor = "multi_thread")]
async fn the_house_keeps_its_keys_itself(#[case] is_srt: bool, #[case] rule: &str, #[case] member: &str) {
    let ground = ground().await;
    let house = ground.start();
    house.make_channel(20_000);
    let club = Club::open(|_| ClubAnswer::new(403, "Not a member.")).await.unwrap();
    let secret = ask(&house, &club, json!({ "unknown_keys": rule }));
    assert!(refusal(house.encoder_at(is_srt, "another", 1.0)).await.contains(if is_srt { "1403" } else { "member." }));
    // The club knows the key, or what comes of it with the secret.
    let known = match rule {
        "whole" => member.to_owned(),
        _ => {
            refusal(house.encoder_at(is_srt, member, 1.0)).await;
            club.questions().last().unwrap().question["key"]["digest"].as_str().unwrap().to_owned()
        }
    };
    let rule = rule.to_owned();
    club.answer(move |question| match question["key"][&rule] == known {
        true => ClubAnswer::new(200, json!({"channel": "finish-line", "label": "Member 0815"})),
        false => ClubAnswer::new(403, "Not a member."),
    });
    let first = EncoderOptions {
        fault: Some(waverant_standin::EncoderFault::BreakAfter(Duration::from_secs(2))),
        ..house.encoder_at(is_srt, member, 30.0)
    };
    let first = begin(first);
    on_air(&house).await;
    assert_eq!(house.live()["session"]["key_label"], "Member 0815");
    first.await.unwrap();
    // Who comes again with the same is the same encoder, and goes on with its show.
    assert_eq!(house.publish(house.encoder_at(is_srt, member, 2.0)).await.end, EncoderEnd::Finished);
    house.wait_until("it is written", |house| house.get("/sessions")["items"].as_array().unwrap().len() == 1).await;
    verify(&secret, club.questions().last().unwrap());
    assert!(!ground.log().contains(member), "no log tells the key");
}

/// The passphrase of the channel that the club names is asked for, though the key is not known here.
#[tokio::test(flavor = "multi_thread")]
async fn a_key_of_the_club_opens_with_the_channels_passphrase_only() {
    let ground = ground().await;
    let house = ground.start();
    house.make_channel(0);
    house.change_channel(json!({"srt": {"passphrase": "over the weir"}}));
    let club = Club::open(|_| ClubAnswer::new(200, json!({"channel": "finish-line"}))).await.unwrap();
    ask(&house, &club, json!({"unknown_keys": "prefix"}));
    let told = refusal(house.encoder_at(true, "member-0815", 1.0)).await;
    assert!(told.starts_with("11 "), "{told}");
    assert!(club.questions()[0].question["key"]["prefix"] == "membe");
    let mut right = house.encoder_at(true, "member-0815", 1.0);
    right.srt.passphrase = Some("over the weir".to_owned());
    assert_eq!(house.publish(right).await.end, EncoderEnd::Finished);
    house.wait_until("it is listed", |house| turned_away(house)[0]["reason"] == "passphrase_differs").await;
}

/// "Still allowed?": a no ends the show in order, silence ends nobody's.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn who_is_in_is_asked_about_again(#[case] is_srt: bool) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut club = Club::open(yes).await.unwrap();
    ask(&house, &club, json!({"again_s": 10, "retries": 0}));
    let sent = begin(house.encoder_at(is_srt, &key, 90.0));
    on_air(&house).await;
    let session = house.live()["session"]["id"].clone();
    club.close();
    let silent = |house: &House<'_>| house.get("/house-system")["system"]["condition"]["silent"].as_u64() > Some(0);
    house.wait_until("it was silent", silent).await;
    assert_eq!(house.live()["state"], "on air");
    club.answer(no);
    club.reopen().await.unwrap();
    let sent = sent.await.unwrap();
    if !is_srt {
        let EncoderEnd::Refused { description, .. } = &sent.end else { panic!("{:?}", sent.end) };
        assert!(description.contains("Your boat is not entered."), "{description}");
    }
    let asked = club.questions().last().unwrap().question.clone();
    assert_eq!((&asked["purpose"], &asked["session"]), (&json!("stay"), &session));
    let ended = house.ended_session(session.as_u64().unwrap()).await;
    assert!(ended["session"]["end_reason"].as_str().unwrap().contains("Your boat is not entered."), "{ended}");
}

/// Players are asked about where that is wanted, by both protocols, and shown out when they may not stay.
#[tokio::test(flavor = "multi_thread")]
async fn players_are_asked_about_too() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let viewing = house.make_viewing_key();
    let judge = |question: &Value| match question["right"].as_str() {
        Some("view") => ClubAnswer::new(402, "The subscription has ended."),
        _ => ClubAnswer::new(500, "publishers are not to be asked about"),
    };
    let club = Club::open(judge).await.unwrap();
    ask(&house, &club, json!({"publishers": false, "players": true}));
    let sent = begin(house.encoder(&key, 8.0));
    on_air(&house).await;
    let refused = watch(options(&house, &viewing, 3.0)).await;
    assert!(format!("{refused:?}").contains("The subscription has ended."), "{refused:?}");
    club.answer(yes);
    let watched = watch(options(&house, &viewing, 3.0)).await;
    assert!(!watched.received.is_empty());
    assert_eq!(sent.await.unwrap().end, EncoderEnd::Finished);
    assert!(club.questions().iter().all(|asked| asked.question["right"] == "view"));
}

/// What is being asked while the system is changed is not kept for the new one.
#[tokio::test(flavor = "multi_thread")]
async fn an_answer_of_the_system_before_is_not_kept() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let old =
        Club::open(|_| ClubAnswer::new(200, json!({"keep_s": 3600})).after(Duration::from_secs(2))).await.unwrap();
    let new = Club::open(no).await.unwrap();
    ask(&house, &old, json!({"time_limit_ms": 8000}));
    let first = begin(house.encoder(&key, 0.2));
    house.wait_until("the first is asked", |_| old.questions().len() == 1).await;
    ask(&house, &new, json!({}));
    // Who comes now is asked about anew, also while the other answer is waited for.
    assert!(refusal(house.encoder(&key, 0.2)).await.contains("Your boat is not entered."));
    assert_eq!(first.await.unwrap().end, EncoderEnd::Finished);
    assert!(refusal(house.encoder(&key, 0.2)).await.contains("Your boat is not entered."));
    assert_eq!((old.questions().len(), new.questions().len()), (1, 2));
}

/// An answer holds as long as it says, for whom it was; another system knows nothing of it.
#[tokio::test(flavor = "multi_thread")]
async fn an_answer_may_be_kept() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let other = house.make_key("bow camera", 0);
    let club = Club::open(|_| ClubAnswer::new(200, json!({"keep_s": 3600}))).await.unwrap();
    ask(&house, &club, json!({}));
    for key in [&key, &key, &other, &key] {
        assert_eq!(house.publish(house.encoder(key, 0.2)).await.end, EncoderEnd::Finished);
    }
    assert_eq!(club.questions().len(), 2);
    ask(&house, &club, json!({"retries": 2}));
    assert_eq!(house.publish(house.encoder(&key, 0.2)).await.end, EncoderEnd::Finished);
    assert_eq!(club.questions().len(), 3);
}

/// One that does not answer is left alone after a while: whoever comes then is decided about at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_silent_club_is_left_alone_and_found_again() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut club = Club::open(yes).await.unwrap();
    club.close();
    ask(&house, &club, json!({"when_silent": "known_keys", "time_limit_ms": 1000, "retries": 0}));
    for _ in 0..5 {
        assert_eq!(house.publish(house.encoder(&key, 0.2)).await.end, EncoderEnd::Finished);
    }
    let condition = |house: &House<'_>| house.get("/house-system")["system"]["condition"].clone();
    assert_eq!(condition(&house)["is_resting"], true);
    let is_found = |house: &House<'_>| house.get("/live")["findings"].to_string().contains("house_system_silent");
    house.wait_until("it is told", is_found).await;
    assert_eq!(house.publish(house.encoder(&key, 0.2)).await.end, EncoderEnd::Finished);
    assert_eq!(condition(&house)["asked"], 5, "it is let in by its key, and the club is not asked");
    club.reopen().await.unwrap();
    let deadline = Instant::now() + PATIENCE;
    while club.questions().is_empty() {
        assert!(Instant::now() < deadline, "the club is never asked again");
        assert_eq!(house.publish(house.encoder(&key, 0.2)).await.end, EncoderEnd::Finished);
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    house.wait_until("it is found again", |house| condition(house)["is_resting"] == false).await;
}

/// Five hundred at once: each is asked about, and who is not asked about comes in meanwhile.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn five_hundred_publishers_at_once(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let more = "[limits]\nrtmp_connections = 700\nrtmp_callers = 1400\nrtmp_connections_per_address = 700\n\
                srt_connections = 700\nsrt_connections_per_address = 700\n";
    ground.write_settings(&format!("{HERE}{more}"));
    let house = ground.start();
    house.make_channel(0);
    let labels: Vec<Value> = (0..500).map(|number| json!({"label": format!("boat {number}")})).collect();
    let made = house.call("POST", "/channels/finish-line/keys/list", Some(json!({ "keys": labels })));
    let keys: Vec<String> =
        made.as_array().unwrap().iter().map(|made| made["encoder"]["key"].as_str().unwrap().to_owned()).collect();
    house.call("POST", "/channels", Some(json!({"name": "boathouse"})));
    let made = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "camera"})));
    let unasked = made["encoder"]["key"].as_str().unwrap().to_owned();
    let judge = |_: &Value| no(&Value::Null).after(Duration::from_millis(100));
    let club = Club::open(judge).await.unwrap();
    ask_at(&house, "/channels/finish-line/house-system", &club.url(), json!({"time_limit_ms": 8000}));
    let all: Vec<_> = keys.iter().map(|key| tokio::spawn(until_answered(house.encoder_at(is_srt, key, 1.0)))).collect();
    house.wait_until("the club is asked", |_| club.questions().len() > 20).await;
    assert_eq!(house.publish(house.encoder(&unasked, 0.5)).await.end, EncoderEnd::Finished);
    for encoder in all {
        let EncoderEnd::Refused { code, description, .. } = encoder.await.unwrap().end else { panic!("it was let in") };
        assert!(code == "1403" || description.contains("Your boat is not entered."), "{code} {description}");
    }
    let asked = club.questions().len();
    assert!(asked == 500 || (is_srt && asked > 500), "{asked}");
}
