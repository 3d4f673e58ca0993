//! Other systems and people are told what happens; a club and a mailroom play them, well and badly.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use standardwebhooks::Webhook;
use waverant_standin::{
    Club, ClubAnswer, ClubQuestion, Encoder, EncoderFault, EncoderOptions, Mailroom, PlatformFault,
};

use crate::command_line::Shell;
use crate::house::{Ground, House, PATIENCE, clip};

const HERE: &str = "[calls]\nprivate_addresses = \"127.0.0.1\"\n";

/// What a show without trouble is told by, apart from the findings that a busy machine may have.
const SHOW: [&str; 5] = ["session.begins", "key.used", "leg.carries", "take.ready", "session.is_over"];

async fn ground() -> Ground {
    let ground = Ground::new().await;
    ground.write_settings(HERE);
    ground
}

fn takes(_: &Value) -> ClubAnswer {
    ClubAnswer::new(204, "")
}

/// Has `club` told of what a show is told by; returns the secret.
fn tell(house: &House<'_>, name: &str, club: &Club, more: Value) -> String {
    let mut form = json!({"name": name, "address": format!("{}?token=oarlock", club.url()), "kinds": SHOW});
    form.as_object_mut().unwrap().extend(more.as_object().cloned().unwrap_or_default());
    house.call("POST", "/call-targets", Some(form))["secret"].as_str().unwrap_or_default().to_owned()
}

fn kinds_of(told: &[ClubQuestion]) -> Vec<String> {
    let kind =
        |event: &ClubQuestion| event.question["type"].as_str().unwrap().trim_start_matches("waverant.").to_owned();
    told.iter().map(kind).collect()
}

fn target(house: &House<'_>, name: &str) -> Value {
    let all = house.get("/call-targets");
    all["items"].as_array().unwrap().iter().find(|target| target["name"] == name).unwrap().clone()
}

fn is_told_all(house: &House<'_>) -> bool {
    house.get("/call-targets")["items"].as_array().unwrap().iter().all(|target| target["waiting"] == 0)
}

fn deliveries(house: &House<'_>, query: &str) -> Vec<Value> {
    house.get(&format!("/deliveries?limit=500{query}"))["items"].as_array().unwrap().clone()
}

/// Each call is looked at by a library that is not ours.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_show_is_told_from_begin_to_end(#[case] is_srt: bool) {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(takes).await.unwrap();
    let secret = tell(&house, "club", &club, json!({}));
    let _platform = house.add_platform("plovio", None).await;
    house.publish(house.encoder_at(is_srt, &key, 2.0)).await;
    let is_over = |_: &House<'_>| kinds_of(&club.questions()).last().is_some_and(|kind| kind == "session.is_over");
    house.wait_until("all is told", is_over).await;
    let told = club.questions();
    let kinds = kinds_of(&told);
    assert_eq!(kinds.iter().map(String::as_str).collect::<BTreeSet<_>>(), SHOW.into(), "{kinds:?}");
    assert_eq!(kinds.len(), SHOW.len(), "{kinds:?}");
    assert_eq!(kinds[0], "session.begins");
    let mut sequence = String::new();
    for event in &told {
        Webhook::new(&secret).unwrap().verify(&event.body, &event.headers).unwrap();
        let (body, header) = (&event.question, |name: &str| event.headers[name].to_str().unwrap());
        assert_eq!((header("content-type"), &body["specversion"]), ("application/cloudevents+json", &json!("1.0")));
        assert_eq!(
            (header("webhook-id"), &body["source"]),
            (body["id"].as_str().unwrap(), &json!("/channels/finish-line"))
        );
        let next = body["sequence"].as_str().unwrap().to_owned();
        assert!(next > sequence, "they rise");
        sequence = next;
        assert!(!body.to_string().contains(&key));
    }
    let of = |kind: &str| &told[kinds.iter().position(|known| known == kind).unwrap()].question;
    assert_eq!(of("leg.carries")["subject"], "session/1/destination/plovio");
    assert_eq!(of("key.used")["data"]["protocol"], if is_srt { "srt" } else { "rtmp" });
    assert_eq!(of("take.ready")["data"]["is_whole"], true);
    assert_eq!(of("session.is_over")["data"]["reason"], "the encoder stopped");
    house.wait_until("all is written", is_told_all).await;
    let all = deliveries(&house, "");
    assert!(
        all.len() == SHOW.len() && all.iter().all(|one| one["state"] == "delivered" && one["status"] == 204),
        "{all:?}"
    );
    let told = house.get("/call-targets").to_string() + &house.get("/acts").to_string() + &ground.log();
    assert!(!told.contains("oarlock") && !told.contains(&secret), "addresses of chats are secrets");
}

/// A lost encoder, a platform that breaks off and refuses, somebody without a key, sound that is silent.
#[tokio::test(flavor = "multi_thread")]
async fn trouble_is_told() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(15_000);
    let club = Club::open(takes).await.unwrap();
    let kinds: Vec<Value> =
        house.get("/call-targets")["kinds"].as_array().unwrap().iter().map(|kind| kind["kind"].clone()).collect();
    tell(&house, "club", &club, json!({ "kinds": kinds }));
    let _flapping = house.add_platform("quayside", Some(PlatformFault::ResetOnceAfter(Duration::from_secs(1)))).await;
    let _refusing = house.add_platform("tindrel", Some(PlatformFault::Refuse)).await;
    let lost =
        EncoderOptions { fault: Some(EncoderFault::BreakAfter(Duration::from_secs(3))), ..house.encoder(&key, 20.0) };
    let _ = Encoder::new(clip(), lost).run().await;
    let _ = Encoder::new(clip(), house.encoder("abcdefg-zyxwvutsrqponmlkjihgfedcba", 1.0)).run().await;
    house.publish(house.encoder(&key, 3.0)).await;
    let expected = [
        "session.begins",
        "session.holds",
        "session.is_back",
        "session.is_over",
        "leg.redials",
        "leg.recovered",
        "leg.refused",
        "turned_away",
        "finding.raised",
        "key.used",
    ];
    for kind in expected {
        house.wait_until(kind, |_| kinds_of(&club.questions()).iter().any(|known| known == kind)).await;
    }
    let told = club.questions();
    let away = told.iter().find(|event| event.question["type"] == "waverant.turned_away").unwrap();
    assert_eq!((&away.question["source"], &away.question["data"]["reason"]), (&json!("/house"), &json!("unknown_key")));
    let refused = told.iter().find(|event| event.question["type"] == "waverant.leg.refused").unwrap();
    assert_eq!(refused.question["data"]["destination"], "tindrel");
}

/// The target is away, the service is killed twice, its database once: each event arrives, in order in its channel, under
/// the number that it has.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_and_all_is_in_order() {
    let ground = ground().await;
    ground.use_private_database();
    let mut club = Club::open(takes).await.unwrap();
    club.close();
    let mut house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "weir"})));
    let other = house.call("POST", "/channels/weir/keys", Some(json!({"label": "weir"})));
    let other = other["encoder"]["key"].as_str().unwrap().to_owned();
    let secret = tell(&house, "club", &club, json!({}));
    let shows = |house: &House<'_>, seconds: f64| {
        [&key, &other].map(|key| {
            let options = house.encoder(key, seconds);
            tokio::spawn(async move {
                let _ = Encoder::new(clip(), options).run().await;
            })
        })
    };
    for round in 0..2 {
        for show in shows(&house, 1.0) {
            show.await.unwrap();
        }
        let _shows = shows(&house, 60.0);
        // What a kill must not lose is what stands in the records; a busy machine takes a while until it does.
        let are_written = |house: &House<'_>| {
            let waiting = deliveries(house, "&state=waiting");
            let count = |kind: &str| waiting.iter().filter(|one| one["kind"] == kind).count();
            let over = 4 * round + 2;
            let takes = house.get("/takes?limit=100")["items"].as_array().unwrap().len();
            (count("session.begins"), count("session.is_over"), count("take.ready"), takes)
                == (over + 2, over, over, over + 2)
        };
        house.wait_until("it is in the records", are_written).await;
        house.signal("-KILL");
        house.wait_for_exit();
        drop(house);
        house = ground.start();
    }
    let ready: Value = serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let database = ready["database_pid"].as_u64().unwrap().to_string();
    let signal = |signal: &str| assert!(Command::new("kill").args([signal, &database]).status().unwrap().success());
    signal("-STOP");
    for show in shows(&house, 2.0) {
        show.await.unwrap();
    }
    house.wait_until("it waits on the disk", |_| ground.path("state/unwritten-records.json").exists()).await;
    club.reopen().await.unwrap();
    signal("-CONT");
    house
        .wait_up_to(4 * PATIENCE, "all is told", |house| {
            let (status, all) = house.try_call("GET", "/call-targets", None);
            let has_last =
                club.questions().iter().filter(|event| event.question["type"] == "waverant.session.is_over").count()
                    >= 10;
            status == 200 && all["items"][0]["waiting"] == 0 && has_last
        })
        .await;
    let told = club.questions();
    let mut bodies: BTreeMap<String, Value> = BTreeMap::new();
    let mut last: BTreeMap<String, String> = BTreeMap::new();
    let mut ends: BTreeMap<u64, Vec<String>> = BTreeMap::new();
    for event in &told {
        Webhook::new(&secret).unwrap().verify(&event.body, &event.headers).unwrap();
        let text = |name: &str| event.question[name].as_str().unwrap().to_owned();
        if let Some(before) = bodies.insert(text("id"), event.question.clone()) {
            assert_eq!(before, event.question, "told twice is told alike");
            continue;
        }
        let before = last.insert(text("source"), text("sequence"));
        assert!(before.is_none_or(|before| before < text("sequence")), "in order in its channel");
        let session = event.question["data"]["session"].as_u64();
        let kind = text("type").trim_start_matches("waverant.").to_owned();
        session.into_iter().for_each(|session| ends.entry(session).or_default().push(kind.clone()));
    }
    let sessions = house.get("/sessions?limit=100")["items"].as_array().unwrap().len();
    assert_eq!((ends.len(), sessions), (10, 10));
    for (session, kinds) in &ends {
        assert_eq!(kinds.iter().filter(|kind| kind.as_str() == "session.begins").count(), 1, "{session}: {kinds:?}");
        assert_eq!(
            (kinds[0].as_str(), kinds.iter().filter(|kind| kind.as_str() == "session.is_over").count()),
            ("session.begins", 1),
            "{session}: {kinds:?}"
        );
        assert_eq!(kinds.iter().filter(|kind| kind.as_str() == "take.ready").count(), 1, "{session}: {kinds:?}");
    }
}

/// One target says nothing, another breaks off: a third one hears all at once. Ten thousand that wait are told in order.
#[tokio::test(flavor = "multi_thread")]
async fn a_target_that_never_answers_holds_no_other() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let (silent, breaking, club) = (
        Club::open(|_| takes(&Value::Null).after(Duration::from_secs(600))).await.unwrap(),
        Club::open(|_| ClubAnswer { breaks_off: true, ..ClubAnswer::new(200, "") }).await.unwrap(),
        Club::open(takes).await.unwrap(),
    );
    tell(&house, "silent", &silent, json!({}));
    tell(&house, "breaking", &breaking, json!({}));
    tell(&house, "club", &club, json!({}));
    house.publish(house.encoder(&key, 1.0)).await;
    house.wait_until("it is told", |_| kinds_of(&club.questions()).iter().any(|kind| kind == "session.is_over")).await;
    assert!(silent.questions().len() <= 1, "one at a time in a channel");
    house
        .wait_until("it is noticed", |house| {
            target(house, "silent")["fault"].as_str().is_some_and(|fault| fault.contains("did not answer in 15 s"))
        })
        .await;
    assert!(target(&house, "breaking")["fault"].is_string());
    let statement = "INSERT INTO deliveries (target_id, lane, event_id, kind, happened_at, event, state, next_at) \
        SELECT (SELECT id FROM call_targets WHERE name = 'club'), seq % 4, CONCAT('evt_', seq), 'test', UTC_TIMESTAMP(3), \
        CONCAT('{\"type\": \"waverant.test\", \"source\": \"/lane/', seq % 4, '\", \"number\": ', seq, '}'), 'waiting', \
        UTC_TIMESTAMP(3) FROM seq_1_to_10000";
    ground.database.execute(statement).await.unwrap();
    let before = club.questions().len();
    let began = Instant::now();
    // The house looks by itself now and then; what happens has it look at once.
    house.publish(house.encoder(&key, 0.5)).await;
    house.wait_up_to(6 * PATIENCE, "ten thousand are told", |house| target(house, "club")["waiting"] == 0).await;
    let told = club.questions().split_off(before);
    let mut last: BTreeMap<String, u64> = BTreeMap::new();
    let mut count = 0;
    for event in told.iter().filter(|event| event.question["number"].is_u64()) {
        let number = event.question["number"].as_u64().unwrap();
        let before = last.insert(event.question["source"].to_string(), number);
        assert!(before.is_none_or(|before| before < number), "in order");
        count += 1;
    }
    assert_eq!(count, 10_000, "after {:?}", began.elapsed());
}

/// Where a call may lead is looked at for each address on its way.
#[tokio::test(flavor = "multi_thread")]
async fn calls_lead_nowhere_else() {
    let ground = ground().await;
    let house = ground.start();
    let (club, other) = (Club::open(takes).await.unwrap(), Club::open(takes).await.unwrap());
    tell(&house, "club", &club, json!({}));
    let try_out = || house.call("POST", "/call-targets/club/try", None);
    let sends_to = |status, location: String| {
        club.answer(move |_| ClubAnswer { location: Some(location.clone()), ..ClubAnswer::new(status, "") });
        try_out()["fault"].as_str().unwrap_or_default().to_owned()
    };
    assert_eq!(sends_to(307, other.url()), "", "it may lead there");
    assert_eq!(other.questions()[0].body, club.questions().last().unwrap().body);
    assert!(sends_to(302, other.url()).contains("302"), "what would lose the event is not followed");
    assert!(sends_to(308, "http://127.0.0.2:7800/".to_owned()).contains("private_addresses"));
    assert!(sends_to(308, "http://169.254.169.254/latest".to_owned()).contains("may not lead"));
    assert!(sends_to(307, "file:///etc/passwd".to_owned()).contains("begins otherwise"));
    assert!(sends_to(307, club.url()).contains("more than 3 times"));
    assert_eq!(other.questions().len(), 1);
    club.answer(|_| ClubAnswer::new(200, "x".repeat(100_000)));
    let tried = try_out();
    assert_eq!((&tried["fault"], tried["answer"]["body"].as_str().unwrap().len()), (&Value::Null, 2000));
    for wrong in [
        json!({"name": "x", "address": "ftp://127.0.0.1", "kinds": SHOW}),
        json!({"name": "x", "address": club.url(), "kinds": []}),
        json!({"name": "x", "address": club.url(), "kinds": ["session"]}),
        json!({"name": "x", "address": club.url(), "kinds": SHOW, "secret": "short"}),
        json!({"name": "", "address": club.url(), "kinds": SHOW}),
        json!({"name": "x", "address": "mailto:crew@wexcombe.example", "kinds": SHOW}),
        json!({"name": "x", "address": club.url(), "kinds": SHOW, "format": {"form": "text", "content_type": "text/html", "template": ""}}),
    ] {
        let (status, told) = house.try_call("POST", "/call-targets", Some(wrong));
        assert!(status == 422 && !told["detail"].as_str().unwrap().is_empty(), "{told}");
    }
    assert_eq!(
        house.try_call("POST", "/call-targets", Some(json!({"name": "club", "address": club.url(), "kinds": SHOW}))).0,
        409
    );
    assert_eq!(
        house
            .try_call(
                "POST",
                "/call-targets",
                Some(json!({"name": "x", "address": club.url(), "kinds": SHOW, "channel": "weir"}))
            )
            .0,
        404
    );
}

/// Chats take text of one's own making. All of it by the command line.
#[tokio::test(flavor = "multi_thread")]
async fn chats_are_fed_by_the_command_line() {
    let ground = ground().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let chat = Club::open(takes).await.unwrap();
    let shell = Shell { house: &house };
    shell.sign_in();
    let (address, template) = (ground.path("address"), ground.path("template"));
    std::fs::write(&address, format!("http://{}/in/oarlock\n", chat.address())).unwrap();
    std::fs::write(&template, "{\"text\": {{ text }},\n \"boat\": {{ channel|upper }\n").unwrap();
    let add = |name: &'static str| {
        let (address, template) = (address.to_str().unwrap(), template.to_str().unwrap());
        vec![
            "call-target",
            "add",
            name,
            "--address-file",
            address,
            "--tell",
            "session.begins",
            "--tell",
            "session.is_over",
            "--channel",
            "finish-line",
            "--text-file",
            template,
        ]
        .into_iter()
        .map(str::to_owned)
        .collect::<Vec<_>>()
    };
    let words = add("a chat");
    let told = shell.fail(&words.iter().map(String::as_str).collect::<Vec<_>>(), 1);
    assert!(told.contains("line 2") && told.contains("format.template"), "{told}");
    std::fs::write(&template, "{\"text\": {{ text }}, \"boat\": {{ channel|upper }}}\n").unwrap();
    let told = shell.run(&words.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(told.contains("whsec_") && told.contains("call-target try a%20chat"), "{told}");
    let told = shell.run(&["call-target", "try", "a chat"]);
    assert!(told.contains("a test, asked for by harbour") && told.contains("204 after"), "{told}");
    house.publish(house.encoder(&key, 1.0)).await;
    house.wait_until("it is told", |_| chat.questions().len() == 3).await;
    let begins = &chat.questions()[1];
    assert_eq!(
        (&begins.question["boat"], begins.headers["content-type"].to_str().unwrap()),
        (&json!("FINISH-LINE"), "application/json")
    );
    assert!(begins.question["text"].as_str().unwrap().starts_with("finish-line is on air: “van”"));
    house.wait_until("it is written", is_told_all).await;
    let list = shell.run(&["delivery", "list", "--target", "a chat"]);
    assert!(list.contains("finish-line is on air") && list.contains("taken in"), "{list}");
    let number = deliveries(&house, "&state=delivered").last().unwrap()["id"].to_string();
    let shown = shell.run(&["delivery", "show", &number]);
    assert!(
        shown.contains("webhook-signature: v1,") && shown.contains("FINISH-LINE") && !shown.contains("oarlock"),
        "{shown}"
    );
    let signature = shown.lines().find_map(|line| line.strip_prefix("webhook-signature: ")).unwrap();
    assert_eq!(signature, begins.headers["webhook-signature"].to_str().unwrap(), "it is the call that was made");
    shell.run(&["delivery", "again", &number]);
    house.wait_until("it is told again", |_| chat.questions().len() == 4).await;
    assert_eq!(chat.questions()[3].headers["webhook-id"], begins.headers["webhook-id"]);
    let kinds = shell.run(&["call-target", "kinds"]);
    assert!(kinds.contains("leg.refused") && !kinds.contains("test"), "{kinds}");
    shell.run(&["call-target", "change", "a chat", "--events", "--on", "false", "--rename", "chat", "--new-secret"]);
    house.publish(house.encoder(&key, 0.5)).await;
    let list = shell.run(&["call-target", "list"]);
    assert!(list.contains("http://127.0.0.1") && !list.contains("oarlock"), "{list}");
    shell.run(&["call-target", "remove", "chat"]);
    assert!(deliveries(&house, "").is_empty() && chat.questions().len() == 4);
    let acts = house.get("/acts").to_string();
    assert!(acts.contains("add_call_target") && acts.contains("deliver_again"), "{acts}");
}

/// People are woken by mail: what happens together is one, over TLS of both kinds.
#[rstest]
#[case::tls(true, "tls")]
#[case::start_tls(false, "starttls")]
#[tokio::test(flavor = "multi_thread")]
async fn people_get_mail(#[case] at_once: bool, #[case] security: &str) {
    let ground = Ground::new().await;
    let mailroom = Mailroom::open("relay", "slipway", at_once).await.unwrap();
    std::fs::write(ground.path("authority.pem"), mailroom.authority().pem()).unwrap();
    std::fs::write(ground.path("password"), "slipway\n").unwrap();
    let settings = |password: &str| {
        format!(
            "[mail]\nserver = \"localhost\"\nport = {}\nsecurity = \"{security}\"\nuser = \"relay\"\npassword_file = \"{}\"\n\
             from = \"Harbour <relay@wexcombe.example>\"\ntrusted_file = \"{}\"\ndigest_minutes = 0\n",
            mailroom.address().port(),
            ground.path(password).display(),
            ground.path("authority.pem").display()
        )
    };
    ground.write_settings(&settings("password"));
    let house = ground.start();
    let key = house.make_channel(0);
    let form = json!({"name": "crew", "address": "mailto:cox@wexcombe.example, bow@wexcombe.example", "kinds": SHOW});
    assert!(house.call("POST", "/call-targets", Some(form))["secret"].is_null(), "mail is not signed");
    assert!(house.call("POST", "/call-targets/crew/try", None)["fault"].is_null());
    assert!(mailroom.mails()[0].text.contains("This is a test"));
    mailroom.refuse(Some("550 later"));
    house.publish(house.encoder(&key, 1.0)).await;
    house
        .wait_until("it is noticed", |house| {
            target(house, "crew")["fault"].as_str().is_some_and(|fault| fault.contains("later"))
        })
        .await;
    mailroom.refuse(None);
    house.wait_until("it is told", |house| mailroom.mails().len() > 1 && is_told_all(house)).await;
    let mails = mailroom.mails();
    assert_eq!((mails[1].to.len(), mails[1].from.as_str()), (2, "relay@wexcombe.example"));
    let all: String = mails[1..].iter().map(|mail| mail.text.replace("=\n", "")).collect();
    for part in
        ["finish-line is on air", "take 1 is ready", "finish-line is over", "From: Harbour", "Message-ID: <evt_"]
    {
        assert!(all.contains(part), "{part}: {all}");
    }
    assert!(mails.len() <= 3, "what happens together is one");
    drop(house);
    std::fs::write(ground.path("wrong"), "oarlock").unwrap();
    ground.write_settings(&settings("wrong"));
    let house = ground.start();
    let fault = house.call("POST", "/call-targets/crew/try", None)["fault"].as_str().unwrap().to_owned();
    assert!(fault.contains("nobody knows you") && !fault.contains("oarlock"), "{fault}");
    assert!(!ground.log().contains("slipway") && !ground.log().contains("oarlock"));
}
