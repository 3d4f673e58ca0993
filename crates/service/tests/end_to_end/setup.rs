use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use waverant_standin::{Encoder, compare};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD, PLATFORM_KEY, clip};

/// A house with something of each kind; the secrets are in a folder.
const WHOLE: &str = r##"form = 1

[depots.winter-store]
endpoint = "http://127.0.0.1:9"
bucket = "regatta"
prefix = "2026"
access_key = "harbour"
secret_key = { file = "store" }
public_address = "https://show.wexcombe.example"

[destinations.plovio]
address = "rtmp://127.0.0.1:9/live"
key = { file = "plovio key" }
limits = { video_codecs = ["H.264"], max_bitrate_bps = 6000000, on_breach = "do_not_send" }

[destinations."mixer, clubhouse"]
address = "srt://127.0.0.1:9"
batch_ms = 0
audio = "language:de"
srt = { latency_ms = 200, passphrase = { file = "mixer" } }

[channels.finish-line]
title = "Finish line"
hold_ms = 20000
takeover = "replace"
slate = "none"
loudness_lufs = -16
srt = { latency_ms = 600, passphrase = { file = "finish line" } }
recording = { format = "matroska", keep_s = 604800, depot = "winter-store" }
[channels.finish-line.viewing]
audience = "everybody"
published_to = "winter-store"
sites = ["https://www.wexcombe.example"]
[channels.finish-line.viewing.page]
description = "# The finish\n\nAll heats, \"live\"."
tags = ["rowing"]
links = [{ label = "Results", address = "https://www.wexcombe.example/results" }]
[channels.finish-line.destinations]
plovio = {}
"mixer, clubhouse" = { is_on = false, delay_ms = 30000 }
[channels.finish-line.house_system]
address = "http://127.0.0.1:9/relay"
when_silent = "known_keys"
secret = { file = "relay" }
[[channels.finish-line.keys]]
label = "van"
[[channels.finish-line.keys]]
label = "bus / two"
rank = 1
expires_at = 2031-06-01T14:00:00+02:00
allowed_from = ["192.0.2.0/24"]
protocols = ["srt"]
passphrase = { file = "bus" }
hours = { zone = "Europe/Lisbon", windows = ["mon-fri 08:00-18:00"] }
[[channels.finish-line.keys]]
label = "vision mixer"
right = "view"
most_connections = 3
[[channels.finish-line.links]]
label = "screen in the club house"
ends_at = 2026-12-24T12:00:00Z
most_viewers = 4

[channels.weir]
recording.when = "by_hand"

[house_system]
address = "http://127.0.0.1:9/club"
again_s = 600

[call_targets."club chat"]
address = { file = "chat" }
kinds = ["session.begins", "leg.refused"]
template = '{"text": {{ text }}}'

[call_targets."race office"]
address = { file = "office" }
channel = "weir"
kinds = ["take.ready"]
is_on = false

[people.harbour]
role = "administrator"

[people.cox]
channels = { weir = "operator" }

[[addresses]]
range = "192.0.2.0/24"
reception = "welcome"
note = "The boathouse."
"##;

fn secrets() -> Vec<(&'static str, &'static str)> {
    vec![
        ("store", "a key of the depot"),
        ("plovio key", PLATFORM_KEY),
        ("mixer", "over the weir"),
        ("finish line", "wexcombe reach"),
        ("relay", "whsec_d2V4Y29tYmUgcmVhY2ggcmVnYXR0YSAyMDI2"),
        ("bus", "on the towpath"),
        ("chat", "http://127.0.0.1:9/chat?room=oarlock"),
        ("office", "http://127.0.0.1:9/told"),
    ]
}

struct Folder<'a>(&'a Ground);

impl Folder<'_> {
    fn write(&self, name: &str, text: &str) -> String {
        let path = self.0.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, text).unwrap();
        path.display().to_string()
    }

    /// All secrets in a folder.
    fn secrets(&self) -> String {
        for (name, secret) in secrets() {
            self.write(&format!("secrets/{name}"), &format!("{secret}\n"));
        }
        self.0.path("secrets").display().to_string()
    }
}

fn administrator<'a>(house: &'a House<'a>) -> Shell<'a> {
    let shell = Shell { house };
    shell.sign_in_as("administrator");
    shell
}

/// Applies a text by the API.
fn apply(house: &House<'_>, text: &str) -> (u16, Value) {
    house.try_call("POST", "/setup/apply", Some(json!({ "text": text })))
}

/// What a review tells.
fn review(house: &House<'_>, text: &str) -> Value {
    house.call("POST", "/setup/review", Some(json!({ "text": text })))
}

fn changed(review: &Value) -> Vec<String> {
    let name = |change: &Value| {
        let (thing, deed) = (&change["thing"], change["deed"].as_str().unwrap());
        format!("{deed} {} {}", thing["kind"].as_str().unwrap(), thing["name"].as_str().unwrap())
    };
    review["changes"].as_array().unwrap().iter().map(name).collect()
}

/// A house is made by a file, told with its secrets, made again elsewhere, and is the same there.
#[tokio::test(flavor = "multi_thread")]
async fn a_house_is_made_told_and_made_again() {
    let (ground, other_ground) = (Ground::new().await, Ground::new().await);
    let (house, other) = (ground.start(), other_ground.start());
    let (shell, elsewhere) = (administrator(&house), administrator(&other));
    let folder = Folder(&ground);
    let (file, given) = (folder.write("regatta.toml", WHOLE), folder.secrets());
    let seen = shell.run(&["setup", "review", &file, "--secrets", &given]);
    assert!(seen.contains("+ channel finish-line") && seen.contains("hold_ms = 20000"), "{seen}");
    assert!(seen.contains("key = (a secret)") && !seen.contains(PLATFORM_KEY), "{seen}");
    assert_eq!(house.get("/channels"), json!([]), "a review changes nothing");
    let made = shell.run(&["setup", "apply", &file, "--secrets", &given]);
    assert!(made.contains("cox is invited") && made.contains("Signing secret of the call target club chat"), "{made}");
    assert_eq!(made.matches("    key     ").count(), 3, "{made}");
    let again = shell.run(&["setup", "apply", &file, "--secrets", &given]);
    assert!(again.ends_with("The house is as the file says; nothing was changed.\n"), "{again}");

    // Told, with its secrets beside it.
    let (told, kept) = (ground.path("told.toml"), ground.path("kept"));
    let (told, kept) = (told.display().to_string(), kept.display().to_string());
    let export = ["setup", "export", "--output", &told, "--secrets", &kept, "--password-file", "-"];
    let output = shell.run_with(&export, PASSWORD);
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    let text = fs::read_to_string(&told).unwrap();
    assert!(secrets().iter().all(|(_, secret)| !text.contains(secret)), "{text}");
    assert!(text.contains("expires_at = 2031-06-01T12:00:00Z") && !text.contains("hold_ms = 10000"), "{text}");
    let bus = PathBuf::from(&kept).join("channels/finish-line/keys/bus %2F two/passphrase");
    assert_eq!(fs::read_to_string(bus).unwrap(), "on the towpath");
    assert_eq!(shell.run(&["setup", "export"]), text);
    assert!(shell.run(&["setup", "review", &told]).ends_with("The house is as the file says.\n"));

    // Elsewhere it is the same, and what it is made of works.
    let made = elsewhere.json(&["setup", "apply", &told, "--secrets", &kept]);
    assert_eq!(elsewhere.run(&["setup", "export"]), text);
    assert_eq!(made["secrets"], json!([]), "signing secrets were brought along: {made}");
    let revealed = other.call("POST", "/destinations/plovio/reveal", Some(json!({ "password": PASSWORD })));
    assert_eq!(revealed["key"], PLATFORM_KEY);
    let key = made["keys"][0]["key"]["encoder"]["key"].as_str().unwrap();
    other.change_channel(json!({ "srt": { "passphrase": "" } }));
    // Nobody answers there.
    for path in ["/channels/finish-line/house-system", "/house-system"] {
        other.call("DELETE", path, None);
    }
    other.publish(other.encoder(key, 1.0)).await;
    other.ended_session(1).await;
}

/// What cannot be is told with its place, all at once, and nothing is changed.
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_told_with_its_place() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = administrator(&house);
    let file = Folder(&ground).write(
        "regatta.toml",
        r#"[channels.finish-line]
hold_ms = 7200001
titel = "Finish"
recording = { depot = "nowhere" }
destinations = { plovio = {}, tindrel = {} }
[[channels.finish-line.keys]]
label = "van"
most_connections = 7
[[channels.finish-line.keys]]
label = "bus"
key = { env = "WAVERANT_TEST_NO_KEY" }
[[channels.finish-line.links]]
label = "screen"
ends_at = 2040-01-01T00:00:00Z
[channels.Weir]
[destinations.plovio]
address = "http://127.0.0.1/live"
key = "not a secret"
[destinations.tindrel]
address = "rtmp://127.0.0.1/live"
[call_targets.chat]
address = "http://127.0.0.1/chat"
kinds = ["session.sinks"]
[people.harbour]
role = "observer"
[people.cox]
channels = { weir = "administrator" }
[[addresses]]
range = "the boathouse"
reception = "blocked"
"#,
    );
    let output = shell.run_with(&["setup", "apply", &file], "");
    assert_eq!(output.status.code(), Some(1));
    let told = String::from_utf8(output.stdout).unwrap();
    let places: Vec<String> = told
        .lines()
        .map(|line| {
            let (place, rest) = line.strip_prefix(&format!("{file}:")).expect(line).split_once(": ").unwrap();
            format!("{place} {}", rest.split(": ").next().unwrap())
        })
        .collect();
    let expected = [
        "2:1 channels.finish-line.hold_ms",
        "3:1 channels.finish-line.titel",
        "8:1 channels.finish-line.keys[1].most_connections",
        "11:1 channels.finish-line.keys[2].key",
        "14:1 channels.finish-line.links[1].ends_at",
        "15:11 channels.Weir",
        "17:1 destinations.plovio.address",
        "19:15 destinations.tindrel.key",
        "23:1 call_targets.chat.kinds",
        "24:2 people",
        "27:14 people.cox.channels.weir",
        "29:1 addresses[1].range",
    ];
    assert_eq!(places, expected, "{told}");
    assert!(told.contains("set the variable WAVERANT_TEST_NO_KEY"), "{told}");
    assert_eq!((house.get("/channels"), house.get("/destinations")), (json!([]), json!([])));
    // One who asks for no review is told as well.
    let (status, answer) = apply(&house, "[channels.weir]\nhold_ms = 7200001\nrecording.depot = 'nowhere'\n");
    assert_eq!(status, 422);
    assert!(answer["detail"].as_str().unwrap().contains("line 2, column 1: channels.weir.hold_ms"), "{answer}");
    let (status, answer) = apply(&house, "[channels.weir]\nrecording.depot = 'nowhere'\n");
    assert!(status == 422 && answer["detail"].as_str().unwrap().contains("line 2, column 11"), "{answer}");
    let refused = review(&house, "[channels.weir\n");
    assert_eq!((&refused["faults"][0]["line"], &refused["changes"]), (&json!(1), &json!([])));
}

/// A set-up is applied in mid-show: what it does not change goes on, and of what it changes one leg alone redials.
#[tokio::test(flavor = "multi_thread")]
async fn hundreds_of_channels_come_in_mid_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let plovio = house.add_platform("plovio", None).await;
    let tindrel = house.add_platform("tindrel", None).await;
    let show = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 25.0)).run());
    house
        .wait_until("it is on air", |house| {
            ["plovio", "tindrel"].iter().all(|name| house.leg(name)["state"] == "carrying")
        })
        .await;
    let mut text = house.get("/setup")["text"].as_str().unwrap().to_owned();
    for number in 0..500 {
        text.push_str(&format!(
            "\n[channels.heat-{number}]\ntitle = \"Heat {number}\"\nhold_ms = 5000\nslate = \"none\"\n\
             [channels.heat-{number}.destinations]\nplovio = {{ delay_ms = 1000 }}\ntindrel = {{ is_on = false }}\n\
             [[channels.heat-{number}.keys]]\nlabel = \"van\"\n[[channels.heat-{number}.keys]]\nlabel = \"bus\"\n"
        ));
    }
    let began = Instant::now();
    let (status, applied) = apply(&house, &text);
    let took = began.elapsed();
    assert_eq!((status, applied["keys"].as_array().unwrap().len()), (200, 1000), "{status}");
    println!("500 channels with 1000 keys took {took:?}");
    assert!(took < Duration::from_secs(60), "{took:?}");
    let again = review(&house, &text);
    assert_eq!(again["changes"], json!([]), "{again}");
    // Now a leg is sent elsewhere, and the show is told so beforehand.
    let moved = text.replacen(tindrel.url().as_str(), &plovio.url(), 1);
    let seen = review(&house, &moved);
    assert_eq!(changed(&seen), ["changes destination tindrel"], "{seen}");
    assert_eq!(seen["changes"][0]["on_air"], json!(["finish-line"]));
    assert_eq!(apply(&house, &moved).0, 200);
    house.wait_until("the leg goes there", |_| plovio.report().connections.len() == 2).await;
    let sent = show.await.unwrap().unwrap();
    house.ended_session(1).await;
    assert_eq!(compare(&sent.sent, &plovio.report().connections[0].received, true).fault, None);
}

/// What was reviewed is what is done, or nothing; and what fails in its middle never was.
#[tokio::test(flavor = "multi_thread")]
async fn it_is_done_as_reviewed_and_as_a_whole() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let text = "[channels.finish-line]\ntitle = 'Finish'\nslate = 'none'\nhold_ms = 0\n";
    let seen = review(&house, text);
    assert_eq!(changed(&seen), ["changes channel finish-line"]);
    assert_eq!(
        seen["changes"][0]["fields"],
        json!([{ "field": "title", "before": "\"Finish line\"", "after": "\"Finish\"" }])
    );
    house.change_channel(json!({ "hold_ms": 700 }));
    let form = json!({ "text": text, "reviewed": seen["mark"] });
    let (status, answer) = house.try_call("POST", "/setup/apply", Some(form));
    assert!(status == 409 && answer["detail"].as_str().unwrap().contains("Review it again"), "{answer}");
    assert_eq!(house.get("/channels/finish-line")["title"], "Finish line");
    let mark = &review(&house, text)["mark"];
    let form = json!({ "text": text, "reviewed": mark });
    assert_eq!(house.try_call("POST", "/setup/apply", Some(form)).0, 200);
    assert_eq!(house.get("/channels/finish-line")["hold_ms"], 0);

    // More keys than a channel may have: it is found when all the rest is written.
    let mut many = String::from("[channels.weir]\n");
    (0..1001).for_each(|number| many.push_str(&format!("[[channels.weir.keys]]\nlabel = 'boat {number}'\n")));
    let (status, answer) = apply(&house, &many);
    assert!(status == 409 && answer["detail"].as_str().unwrap().contains("1000"), "{status} {answer}");
    assert_eq!(house.get("/channels").as_array().unwrap().len(), 1);
    assert_eq!(apply(&house, "[channels.weir]\n").0, 200, "the name is free");

    // Two at once: each as a whole, one after the other.
    let one = |number: u32| {
        let channels = (0..20).map(|weir| format!("[channels.weir-{weir}]\ntitle = 'Number {number}'\n"));
        channels.collect::<String>()
    };
    std::thread::scope(|scope| {
        for number in 0..4 {
            let house = &house;
            scope.spawn(move || assert_eq!(apply(house, &one(number)).0, 200));
        }
    });
    let channels = house.get("/channels");
    let titles: std::collections::BTreeSet<&str> = channels
        .as_array()
        .unwrap()
        .iter()
        .filter(|channel| channel["name"].as_str().unwrap().starts_with("weir-"))
        .map(|channel| channel["title"].as_str().unwrap())
        .collect();
    assert_eq!(titles.len(), 1, "{titles:?}");
}

/// Who hangs up in the middle has all of it done.
#[tokio::test(flavor = "multi_thread")]
async fn who_hangs_up_leaves_nothing_half_done() {
    let ground = Ground::new().await;
    let house = ground.start();
    let text: String =
        (0..50).map(|weir| format!("[channels.weir-{weir}]\n[[channels.weir-{weir}.keys]]\nlabel = 'van'\n")).collect();
    let body = json!({ "text": text }).to_string();
    let token = house.call("POST", "/tokens", Some(json!({ "label": "a hasty one" })))["token"].clone();
    let mut line = std::net::TcpStream::connect(house.http).unwrap();
    let head = format!(
        "POST /api/v1/setup/apply HTTP/1.1\r\nhost: {}\r\nauthorization: Bearer {}\r\ncontent-type: application/json\r\n\
         content-length: {}\r\n\r\n{body}",
        house.http,
        token.as_str().unwrap(),
        body.len()
    );
    std::io::Write::write_all(&mut line, head.as_bytes()).unwrap();
    tokio::time::sleep(Duration::from_millis(20)).await;
    drop(line);
    house.wait_until("all is there", |house| house.get("/channels").as_array().unwrap().len() == 50).await;
    house.wait_until("doors know it", |house| house.get("/live")["channels"].as_array().unwrap().len() == 50).await;
    assert_eq!(review(&house, &text)["changes"], json!([]));
}

/// What the file does not list stays, or goes if that is wished; a show is not taken off the air by it.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_listed_goes_only_if_it_is_to() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.make_key("bus", 1);
    let _plovio = house.add_platform("plovio", None).await;
    assert_eq!(apply(&house, "[channels.weir]\n[people.cox]\nrole = 'observer'\n").0, 200);
    let only = "[channels.weir]\n[people.harbour]\nrole = 'administrator'\n";
    let seen = review(&house, only);
    assert_eq!(seen["changes"], json!([]));
    let unlisted: Vec<&str> =
        seen["unlisted"].as_array().unwrap().iter().map(|thing| thing["name"].as_str().unwrap()).collect();
    assert_eq!(unlisted, ["finish-line", "cox"], "destinations are none of its kinds");

    let show = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 8.0)).run());
    house.wait_until("it is on air", |house| house.live()["state"] == "on air").await;
    let strict = |text: &str| {
        let form = json!({ "text": text, "removes_unlisted": true });
        (house.call("POST", "/setup/review", Some(form.clone())), house.try_call("POST", "/setup/apply", Some(form)))
    };
    let (seen, (status, _)) = strict(only);
    assert!(status == 422 && seen["faults"][0]["text"].as_str().unwrap().contains("on air"), "{seen}");
    // A key that goes leaves its show alone; a destination is taken from a show.
    let kept = "[channels.finish-line]\nslate = 'none'\nhold_ms = 0\ntitle = 'Finish line'\nkeys = []\ndestinations = {}\n\
                [channels.weir]\n";
    let (seen, (status, _)) = strict(kept);
    assert_eq!(status, 200, "{seen}");
    let expected = ["removes sending plovio", "removes key van", "removes key bus"];
    assert_eq!(changed(&seen), expected);
    house.wait_until("the leg is gone", |house| house.live()["legs"][0]["state"] != "carrying").await;
    assert_eq!(house.live()["state"], "on air");
    show.await.unwrap().unwrap();
    house.ended_session(1).await;
    let (_, (status, applied)) = strict(only);
    assert_eq!(
        (status, changed(&applied)),
        (200, vec!["removes channel finish-line".into(), "removes person cox".into()])
    );
    assert_eq!(house.get("/people").as_array().unwrap().len(), 1);
    let (seen, (status, _)) = strict("[people.cox]\nrole = 'administrator'\n");
    assert!(status == 422 && seen["faults"][0]["text"].as_str().unwrap().contains("keep one"), "{seen}");
}

/// Secrets are told to who proves to be an administrator, and stay where nobody gives others.
#[tokio::test(flavor = "multi_thread")]
async fn secrets_stay_where_they_are() {
    let ground = Ground::new().await;
    let house = ground.start();
    let text = "[destinations.plovio]\naddress = 'rtmp://127.0.0.1:9/live'\nkey = { env = 'PLOVIO_KEY' }\n";
    let form = |value: &str| json!({ "text": text, "secrets": [{ "reference": "env:PLOVIO_KEY", "value": value }] });
    let seen = review(&house, text);
    assert!(seen["faults"][0]["text"].as_str().unwrap().contains("set the variable PLOVIO_KEY"), "{seen}");
    house.call("POST", "/setup/apply", Some(form("weir 7")));
    let seen = review(&house, text);
    assert_eq!((&seen["changes"], &seen["wanted"][0]["is_given"]), (&json!([]), &json!(false)), "{seen}");
    let other = house.call("POST", "/setup/review", Some(form("weir 8")));
    assert_eq!(other["changes"][0]["fields"][0]["after"], "(another secret)", "{other}");
    let another = house.call("POST", "/setup/review", Some(form("weir 9")));
    assert_ne!(other["mark"], another["mark"], "what was reviewed was another secret");

    let asked = |password: &str| house.try_call("POST", "/setup/secrets", Some(json!({ "password": password })));
    assert_eq!(asked("not it, really").0, 422);
    let (status, told) = asked(PASSWORD);
    let expected = json!([{ "reference": "file:destinations/plovio/key", "value": "weir 7" }]);
    assert_eq!((status, told), (200, expected));
    let acts = house.get("/acts?what=reveal_setup_secrets");
    assert_eq!(acts["items"][0]["outcome"], "done", "{acts}");
    let acts = house.get("/acts?what=apply_setup");
    assert!(acts["items"][0]["after"].to_string().contains("adds destination plovio"), "{acts}");
    assert!(!acts.to_string().contains("weir 7") && !ground.log().contains("weir 7"));
}

/// A house that has nothing yet is made from files at its start; one that has something is left as it is.
#[tokio::test(flavor = "multi_thread")]
async fn a_first_start_sets_the_house_up() {
    let ground = Ground::new().await;
    let folder = Folder(&ground);
    let given = folder.secrets();
    let file = folder.write("regatta.toml", &WHOLE.replace("hold_ms = 20000", "hold_ms = \"long\""));
    ground.write_settings(&format!("setup_file = \"{file}\"\nsecrets_folder = \"{given}\""));
    let settings = fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let without: Vec<&str> = settings.lines().filter(|line| !line.starts_with("administrator_file")).collect();
    fs::write(ground.path("waverant.toml"), without.join("\n")).unwrap();
    let (code, said) = ground.run_to_end();
    assert_eq!(code, Some(2), "{said}");
    assert!(said.contains(&format!("{file}:24:11: channels.finish-line.hold_ms: string")), "{said}");
    // Nobody is there yet: an administrator is invited.
    folder.write("regatta.toml", WHOLE);
    let mut house = ground.start_unsigned();
    assert_eq!(house.call_as("", "GET", "/first-run", None).1["is_needed"], false);
    let path = ground.path("state/first-run-made.toml");
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&path).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let made = fs::read_to_string(&path).unwrap();
    let after = |part: &str, name: &str| {
        let rest = made.split_once(part).unwrap_or_else(|| panic!("no {part} in {made}")).1;
        rest.split_once(&format!("{name} = \"")).unwrap().1.split('"').next().unwrap().to_owned()
    };
    let form = json!({ "code": after("name = \"harbour\"", "code"), "password": PASSWORD, "token_label": "test" });
    let (status, me) = house.call_as("", "POST", "/invitations/accept", Some(form));
    let token = me["token"].as_str().unwrap();
    assert_eq!((status, house.call_as(token, "GET", "/channels", None).1.as_array().unwrap().len()), (200, 2), "{me}");
    for path in ["/channels/finish-line/house-system", "/house-system"] {
        assert_eq!(house.call_as(token, "DELETE", path, None).0, 204);
    }
    let form = Some(json!({ "srt": { "passphrase": "" } }));
    assert_eq!(house.call_as(token, "PATCH", "/channels/finish-line", form).0, 200);
    house.publish(house.encoder(&after("label = \"van\"", "key"), 1.0)).await;
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);
    // The next start changes nothing.
    let house = ground.start_unsigned();
    let system = house.call_as(token, "GET", "/house-system", None).1;
    assert_eq!(system["system"], Value::Null);
    assert!(ground.log().contains("the house is set up already"));
}
