use std::io::Write;

use serde_json::{Value, json};
use waverant_standin::{EncoderEnd, MarkKind, compare, read_take};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD, PATIENCE, PLATFORM_KEY};

/// The slice: one encoder, one recording, three platforms, all payloads equal everywhere.
#[tokio::test(flavor = "multi_thread")]
async fn one_show_from_encoder_to_three_platforms() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let mut platforms = Vec::new();
    for name in ["plovio", "tindrel", "quayside"] {
        platforms.push(house.add_platform(name, None).await);
    }
    let publish = house.publish(house.encoder(&key, 6.0));
    let watch = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        house
            .wait_until("all legs carry and rates are known", |house| {
                let live = house.live();
                let carrying = live["legs"].as_array().unwrap().iter().all(|leg| leg["state"] == "carrying");
                carrying && live["session"]["video"]["frame_rate"].as_f64().unwrap_or(0.0) > 25.0
            })
            .await;
        house.live()
    };
    let (sent, live) = tokio::join!(publish, watch);
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert_eq!(live["session"]["video"]["width"], 1280);
    assert_eq!(live["session"]["audio"][0]["sample_rate_hz"], 48_000);
    assert_eq!(live["session"]["key_label"], "van");

    for platform in &platforms {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        let report = platform.report();
        assert_eq!(report.connections.len(), 1);
        let received = &report.connections[0].received;
        assert_eq!(report.connections[0].fault, None);
        let video: Vec<MarkKind> = received
            .iter()
            .map(|mark| mark.kind)
            .filter(|kind| kind.is_picture() || *kind == MarkKind::VideoHeader)
            .collect();
        assert_eq!(video[..2], [MarkKind::VideoHeader, MarkKind::Keyframe]);
        assert_eq!(received.iter().find(|mark| mark.kind.is_picture()).unwrap().timestamp_ms, 0);
        let found = compare(&sent.sent, received, true);
        assert_eq!((found.fault, found.first_picture), (None, Some(0)));
    }

    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the encoder stopped");
    assert_eq!(session["legs"].as_array().unwrap().len(), 3);
    assert_eq!(session["legs"][0]["sent_frame_count"], 180);
    let take = &session["takes"][0];
    assert_eq!(take["state"], "complete");
    let length = take["duration_ms"].as_u64().unwrap();
    assert!((5950..6100).contains(&length), "the take plays {length} ms");
    let file = ground.path("recordings").join(take["path"].as_str().unwrap());
    let (marks, seconds) = read_take(&file).unwrap();
    assert_eq!(compare(&sent.sent, &marks, true).fault, None);
    assert!((5.95..6.1).contains(&seconds), "the file plays {seconds} s");
    assert_eq!(house.fetch("/takes/1/1/file"), std::fs::read(&file).unwrap());
    check_with_mediainfo(&file);
}

/// Debian's mediainfo reads the take's length, tracks and frame rate.
fn check_with_mediainfo(file: &std::path::Path) {
    let Ok(output) = std::process::Command::new("mediainfo").arg("--Output=JSON").arg(file).output() else {
        let _ = writeln!(std::io::stderr(), "SKIPPED: mediainfo is not installed");
        return;
    };
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let tracks = report["media"]["track"].as_array().unwrap();
    let find = |kind: &str| tracks.iter().find(|track| track["@type"] == kind).unwrap();
    let number = |track: &serde_json::Value, field: &str| track[field].as_str().unwrap().parse::<f64>().unwrap();
    let (general, video, audio) = (find("General"), find("Video"), find("Audio"));
    assert!((5.9..6.1).contains(&number(general, "Duration")), "{general}");
    assert_eq!((video["Format"].as_str(), video["Width"].as_str()), (Some("AVC"), Some("1280")));
    assert!((29.9..30.1).contains(&number(video, "FrameRate")), "{video}");
    assert!((5.9..6.1).contains(&number(video, "Duration")), "{video}");
    assert_eq!((audio["Format"].as_str(), audio["SamplingRate"].as_str()), (Some("AAC"), Some("48000")));
}

/// No stream key, destination key, password, passphrase or token in the log, in a support bundle, or in an answer but
/// the one that hands a new key out.
#[tokio::test(flavor = "multi_thread")]
async fn secrets_stay_secret() {
    let ground = Ground::new().await;
    let metrics_token = ground.path("metrics-token");
    std::fs::write(&metrics_token, "the-weir-keeper-reads-figures").unwrap();
    let settings = format!("[log]\nlevel = \"trace\"\n[metrics]\ntoken_file = \"{}\"\n", metrics_token.display());
    ground.write_settings(&settings);
    let mut house = ground.start();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    let given = people_secrets(&house);
    house.change_channel(json!({ "srt": { "passphrase": "sluice-gate-seven" } }));
    let link = house.call("POST", "/channels/finish-line/links", Some(json!({ "label": "the crew" })));
    let link = link["addresses"]["page"].as_str().unwrap().rsplit('-').next().unwrap().to_owned();
    house.publish(house.encoder(&key, 1.0)).await;
    house.publish(house.encoder("abcdefg-secretguess", 1.0)).await;
    house.ended_session(1).await;
    let answers: String = [
        "/channels",
        "/channels/finish-line/keys",
        "/destinations",
        "/sessions",
        "/sessions/1",
        "/turned-away",
        "/live",
        "/me",
    ]
    .iter()
    .map(|path| house.get(path).to_string())
    .collect();
    let bundle = bundle(&house);
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    let log = ground.log();
    assert!(log.contains("turned away"), "the log is there");
    let without_channel: Vec<&str> = log
        .lines()
        .filter(|line| line.contains(" waverant_show::") && line.contains(" session="))
        .filter(|line| !line.contains(" channel="))
        .collect();
    assert!(without_channel.is_empty(), "each line of a show has its channel: {without_channel:?}");
    let secret_part = key.split('-').nth(1).unwrap();
    let known = [secret_part, PLATFORM_KEY, "secretguess", PASSWORD, "sluice-gate-seven", "the-weir-keeper"];
    for secret in known.into_iter().chain([link.as_str()]).chain(given.iter().map(String::as_str)) {
        assert!(!log.contains(secret), "{secret} is in the log");
        assert!(!answers.contains(secret), "{secret} is in an answer");
        assert!(!bundle.contains(secret), "{secret} is in the support bundle");
    }
}

/// Whoever steals the database has all its files: tables, what was removed from them, and logs of what was written.
#[tokio::test(flavor = "multi_thread")]
async fn a_stolen_database_opens_nothing() {
    let ground = Ground::new().await;
    ground.use_private_database();
    let mut house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({ "srt": { "passphrase": "sluice-gate-seven" } }));
    let destination = json!({"name": "plovio", "address": "srt://127.0.0.1:9", "key": PLATFORM_KEY, "srt": {"passphrase": "lock-keeper-nine"}});
    house.call("POST", "/destinations", Some(destination));
    let attic = json!({"name": "attic", "endpoint": "http://127.0.0.1:9", "region": "here", "bucket": "regatta", "access_key": "harbour", "secret_key": "attic-stairs-two"});
    house.call("POST", "/depots", Some(attic));
    let link = house.call("POST", "/channels/finish-line/links", Some(json!({ "label": "the crew" })));
    let link = link["addresses"]["page"].as_str().unwrap().rsplit('-').next().unwrap().to_owned();
    let program = house.call("POST", "/tokens", Some(json!({"label": "score board"})))["token"].clone();
    let mut secrets = people_secrets(&house);
    secrets.extend([key.split('-').nth(1).unwrap(), PLATFORM_KEY, &link, program.as_str().unwrap()].map(str::to_owned));
    secrets.extend([PASSWORD, "sluice-gate-seven", "lock-keeper-nine", "attic-stairs-two"].map(str::to_owned));
    house.wait_until("acts are written down", |house| house.get("/acts?what=add_token")["items"][0].is_object()).await;
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    let database = ground.path("state/database/data");
    for known in ["finish-line", "cox", "score board", "attic"] {
        assert!(holds(&database, known), "{known} is there to be found");
    }
    for secret in &secrets {
        assert!(!holds(&database, secret), "{secret} is in the database");
    }
}

/// What people are given, and what they type: a token, a one-time code, a password, an authenticator's key, recovery codes.
fn people_secrets(house: &House<'_>) -> Vec<String> {
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let invitation = house.call("POST", "/people", Some(json!({"name": "cox", "role": "observer"})));
    let open = house.call("POST", "/people", Some(json!({"name": "bow", "role": "observer"})));
    let form = json!({"code": invitation["code"], "password": "weir heron ferry", "token_label": "bow"});
    let token = text(&house.call("POST", "/invitations/accept", Some(form))["token"]);
    let password = json!({"password": "weir heron ferry"});
    let key = text(&house.call_as(&token, "POST", "/me/second-factor", Some(password)).1["key"]);
    let codes = waverant_relay::TimeCodes::typed(&waverant_relay::Secret::new(key.as_str()), "").unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let code = json!({"code": codes.code_at(now)});
    let recovery = house.call_as(&token, "POST", "/me/second-factor/confirm", Some(code)).1;
    let mut secrets = vec!["weir heron ferry".to_owned(), token, key, text(&invitation["code"]), text(&open["code"])];
    secrets.extend(recovery["codes"].as_array().unwrap().iter().map(text));
    secrets
}

/// True if a file below `folder` has these bytes somewhere.
fn holds(folder: &std::path::Path, text: &str) -> bool {
    let mut grep = std::process::Command::new("grep");
    let status = grep.args(["-rqaF", "-e", text]).arg(folder).status().unwrap();
    assert!(matches!(status.code(), Some(0 | 1)), "{status}");
    status.success()
}

/// A support bundle, as one text.
fn bundle(house: &House<'_>) -> String {
    let shell = Shell { house };
    shell.sign_in();
    let file = house.ground.path("support.tar.gz");
    let file = file.to_str().unwrap();
    let told = shell.run(&["support-bundle", "--output", file]);
    for part in
        ["contents.txt", "settings.txt", "log.jsonl", "reports/1.json", "timeline/1.json", "keys/finish-line.json"]
    {
        assert!(told.contains(&format!("waverant-support/{part}")), "{part}: {told}");
    }
    assert!(shell.fail(&["support-bundle", "--output", file], 2).contains(file), "nothing is written over");
    let unpacked = std::process::Command::new("tar").args(["-xOzf", file]).output().unwrap();
    assert!(unpacked.status.success());
    let text = String::from_utf8(unpacked.stdout).unwrap();
    // Settings, the machine, what was turned away, lines at trace level, a leg's figures.
    for part in ["log.level = trace", "\"kernel\": \"", "\"level\":\"debug\"", "\"leg_bitrate\"", "…@"] {
        assert!(text.contains(part), "no {part} in the bundle");
    }
    text
}

/// A destination is switched off and on in mid-show; its neighbour loses nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_destination_is_switched_in_mid_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let switched = house.add_platform("plovio", None).await;
    let neighbour = house.add_platform("quayside", None).await;
    let publish = house.publish(house.encoder(&key, 7.0));
    let control = async {
        assert!(switched.wait_for(PATIENCE, |report| report.connections.iter().any(|c| c.received.len() > 60)).await);
        house.switch("plovio", false);
        assert!(switched.wait_for(PATIENCE, |report| report.connections[0].was_ended).await, "it is ended in order");
        house.switch("plovio", true);
        assert!(switched.wait_for(PATIENCE, |report| report.connections.len() == 2).await);
    };
    let (sent, ()) = tokio::join!(publish, control);
    assert!(neighbour.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(compare(&sent.sent, &neighbour.report().connections[0].received, true).fault, None);
    assert!(switched.wait_for(PATIENCE, |report| report.connections[1].was_ended).await);
    let report = switched.report();
    assert_eq!(compare(&sent.sent, &report.connections[0].received, false).fault, None);
    assert_eq!(compare(&sent.sent, &report.connections[1].received, true).fault, None);
    let before = report.connections[0].received.last().unwrap().timestamp_ms;
    let again = report.connections[1].received[0].timestamp_ms;
    assert!(again > before, "timestamps go on across connections: {again} after {before}");
}

/// A graceful stop in mid-show: encoder and platform are told, the take is complete.
#[tokio::test(flavor = "multi_thread")]
async fn a_stop_ends_the_show_in_order() {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(10_000);
    let platform = house.add_platform("plovio", None).await;
    let options = house.encoder(&key, 30.0);
    let encoder = tokio::spawn(waverant_standin::Encoder::new(crate::house::clip(), options).run());
    assert!(platform.wait_for(PATIENCE, |report| report.connections.iter().any(|c| c.received.len() > 100)).await);
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    let sent = encoder.await.unwrap().unwrap();
    assert!(
        matches!(&sent.end, EncoderEnd::Refused { code, .. } if code == "NetStream.Unpublish.Success"),
        "{:?}",
        sent.end
    );
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert!(!ground.path("ready.json").exists());
    let house = ground.start();
    let session = house.get("/sessions/1");
    assert_eq!(session["session"]["end_reason"], "the server is stopping");
    assert_eq!(session["takes"][0]["state"], "complete");
}

/// Channels and destinations answer bad input with the field and what was expected.
#[tokio::test(flavor = "multi_thread")]
async fn the_api_names_what_is_wrong() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    for (path, body, status, code, part) in [
        ("/channels", json!({"name": "Finish Line"}), 422, "invalid_field", "small letters"),
        ("/channels", json!({"name": "finish-line"}), 409, "name_taken", "finish-line"),
        ("/channels", json!({"title": "x"}), 422, "invalid_field", "missing field `name`"),
        ("/channels/nowhere/keys", json!({"label": "x"}), 404, "not_found", "nowhere"),
        ("/channels/finish-line/keys", json!({"label": ""}), 422, "invalid_field", "1 to 96"),
        ("/destinations", json!({"name": "p", "address": "http://a/b", "key": "k"}), 422, "invalid_field", "rtmp://"),
        ("/destinations", json!({"name": "p", "address": "rtmp://a/b", "key": " "}), 422, "invalid_field", "key"),
        ("/sign-in", json!({"name": "harbour", "password": "wrong"}), 401, "wrong_password", "belong together"),
        (
            "/first-run",
            json!({"code": "x", "name": "a", "password": "long enough"}),
            403,
            "wrong_code",
            "one-time code",
        ),
    ] {
        let (found, problem) = house.try_call("POST", path, Some(body.clone()));
        assert_eq!((found, problem["code"].as_str()), (status, Some(code)), "{path} {body} {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(part), "{problem}");
        assert!(!problem["next_step"].as_str().unwrap().is_empty());
    }
    let (status, problem) = house.try_call("GET", "/nothing-here", None);
    assert_eq!((status, problem["code"].as_str()), (404, Some("not_found")));
    let bare = ureq::get(format!("http://{}/api/v1/channels", house.http)).call();
    assert!(matches!(bare, Err(ureq::Error::StatusCode(401))), "{bare:?}");
}
