use std::io::{BufRead, BufReader};
use std::time::Duration;

use serde_json::{Value, json};
use waverant_standin::{Encoder, EncoderEnd, compare};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD, PATIENCE, clip};

fn raw(house: &House<'_>, path: &str, headers: &[(&str, &str)]) -> ureq::http::Response<ureq::Body> {
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let mut request = agent.get(format!("http://{}{path}", house.http));
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    request.call().unwrap()
}

/// The console's cookie opens the API until it signs out; it is closed to scripts and strangers.
#[tokio::test(flavor = "multi_thread")]
async fn the_console_cookie_lives_from_sign_in_to_sign_out() {
    let ground = Ground::new().await;
    let house = ground.start();
    let answer = ureq::post(format!("http://{}/api/v1/sign-in", house.http))
        .send_json(json!({"name": "harbour", "password": PASSWORD}))
        .unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    for part in ["HttpOnly", "SameSite=Strict", "Path=/", "Max-Age=1209600"] {
        assert!(cookie.contains(part), "{cookie}");
    }
    let pair = cookie.split(';').next().unwrap();
    let me = raw(&house, "/api/v1/me", &[("cookie", pair)]).body_mut().read_to_string().unwrap();
    assert_eq!(
        serde_json::from_str::<Value>(&me).unwrap(),
        json!({"name": "harbour", "role": "administrator", "channels": [], "lacks_second_factor": false})
    );
    let out = ureq::post(format!("http://{}/api/v1/sign-out", house.http)).header("cookie", pair).send_empty();
    assert_eq!(out.unwrap().status(), 204);
    assert_eq!(raw(&house, "/api/v1/me", &[("cookie", pair)]).status(), 401);
    assert_eq!(raw(&house, "/api/v1/me", &[("authorization", "Bearer wvt-guess")]).status(), 401);
}

/// The live state comes as events named `board`, and follows the show.
#[tokio::test(flavor = "multi_thread")]
async fn the_live_state_is_sent_as_events() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let token =
        house.call("POST", "/sign-in", Some(json!({"name": "harbour", "password": PASSWORD, "token_label": "t"})));
    let bearer = format!("Bearer {}", token["token"].as_str().unwrap());
    let mut response = raw(&house, "/api/v1/live/events", &[("authorization", &bearer)]);
    assert_eq!(response.headers()["content-type"], "text/event-stream");
    let publish = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 4.0)).run());
    let mut states = tokio::task::block_in_place(|| {
        let mut states: Vec<String> = Vec::new();
        let mut name = String::new();
        for line in BufReader::new(response.body_mut().as_reader()).lines() {
            let line = line.unwrap();
            if let Some(event) = line.strip_prefix("event: ") {
                name = event.to_owned();
            }
            let Some(data) = line.strip_prefix("data: ") else { continue };
            assert_eq!(name, "board");
            let board: Value = serde_json::from_str(data).unwrap();
            let state = board["channels"][0]["state"].as_str().unwrap().to_owned();
            if states.last() != Some(&state) {
                states.push(state);
            }
            if states.len() > 1 && states.last().is_some_and(|state| state == "off air") {
                break;
            }
        }
        states
    });
    // A show that is over may still be there for a moment.
    states.retain(|state| state != "over");
    assert!(states.ends_with(&["on air".to_owned(), "off air".to_owned()]), "{states:?}");
    assert_eq!(publish.await.unwrap().unwrap().end, EncoderEnd::Finished);
}

/// Lists are answered in parts that join without a gap.
#[tokio::test(flavor = "multi_thread")]
async fn lists_are_answered_in_parts() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    for session in 1..=3 {
        house.publish(house.encoder(&key, 0.5)).await;
        house.ended_session(session).await;
    }
    let ids = |page: &Value| {
        page["items"].as_array().unwrap().iter().map(|item| item["id"].as_u64().unwrap()).collect::<Vec<_>>()
    };
    let first = house.get("/sessions?limit=2&channel=finish-line");
    assert_eq!((ids(&first), first["next"].as_u64()), (vec![3, 2], Some(2)));
    let second = house.get("/sessions?limit=2&before=2");
    assert_eq!((ids(&second), second["next"].is_null()), (vec![1], true));
    assert_eq!(ids(&house.get("/sessions?channel=elsewhere")), Vec::<u64>::new());
    let (status, problem) = house.try_call("GET", "/sessions?limit=0", None);
    assert_eq!((status, problem["code"].as_str()), (422, Some("invalid_field")));
}

/// A part of a take can be asked for, so that players can seek and downloads go on.
#[tokio::test(flavor = "multi_thread")]
async fn takes_are_served_in_ranges() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.publish(house.encoder(&key, 2.0)).await;
    house.ended_session(1).await;
    let whole = house.fetch("/takes/1/1/file");
    let token =
        house.call("POST", "/sign-in", Some(json!({"name": "harbour", "password": PASSWORD, "token_label": "t"})));
    let bearer = format!("Bearer {}", token["token"].as_str().unwrap());
    let mut part = raw(&house, "/api/v1/takes/1/1/file", &[("authorization", &bearer), ("range", "bytes=100-199")]);
    assert_eq!(part.status(), 206);
    assert_eq!(part.headers()["content-type"], "video/mp4");
    assert_eq!(part.headers()["content-range"], format!("bytes 100-199/{}", whole.len()));
    assert!(part.headers()["content-disposition"].to_str().unwrap().contains("_s1_take-1.mp4"));
    assert_eq!(part.body_mut().read_to_vec().unwrap(), whole[100..200]);
    assert_eq!(raw(&house, "/api/v1/takes/1/1/file", &[]).status(), 401);
    let (status, problem) = house.try_call("GET", "/takes/1/9/file", None);
    assert_eq!((status, problem["detail"].as_str()), (404, Some("There is no take `1/9`.")));
    std::fs::remove_dir_all(ground.path("recordings")).unwrap();
    let (status, problem) = house.try_call("GET", "/takes/1/1/file", None);
    assert_eq!(status, 404);
    assert!(problem["detail"].as_str().unwrap().contains("file of the take"), "{problem}");
}

/// What is on air cannot be removed; its session can be ended from our side.
#[tokio::test(flavor = "multi_thread")]
async fn a_session_is_ended_from_our_side() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(60_000);
    let platform = house.add_platform("plovio", None).await;
    let (status, _) = house.try_call("POST", "/channels/finish-line/end-session", None);
    assert_eq!(status, 409);
    let publish = house.publish(house.encoder(&key, 20.0));
    let control = async {
        house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying").await;
        let (status, problem) = house.try_call("DELETE", "/channels/finish-line", None);
        assert_eq!((status, problem["code"].as_str()), (409, Some("conflict")));
        house.call("POST", "/channels/finish-line/end-session", None);
    };
    let (sent, ()) = tokio::join!(publish, control);
    let EncoderEnd::Refused { description, .. } = &sent.end else { panic!("{:?}", sent.end) };
    assert_eq!(description, "ended by harbour");
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(house.ended_session(1).await["session"]["end_reason"], "ended by harbour");
    house.wait_until("off air", |house| house.live()["state"] == "off air").await;
    house.call("DELETE", "/channels/finish-line", None);
    assert_eq!(house.get("/sessions")["items"][0]["channel"], "finish-line", "the record outlives the channel");
}

/// A destination that moves in mid-show is followed at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_destination_moves_in_mid_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let before = house.add_platform("plovio", None).await;
    let after = house.add_platform("spare", None).await;
    house.switch("spare", false);
    let publish = house.publish(house.encoder(&key, 5.0));
    let control = async {
        assert!(before.wait_for(PATIENCE, |report| report.connections.iter().any(|c| c.received.len() > 50)).await);
        house.call("PATCH", "/destinations/plovio", Some(json!({"address": after.url()})));
        assert!(before.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    };
    let (sent, ()) = tokio::join!(publish, control);
    assert!(after.wait_for(PATIENCE, |report| report.connections.first().is_some_and(|c| c.was_ended)).await);
    assert_eq!(compare(&sent.sent, &after.report().connections[0].received, true).fault, None);
}

/// A key with an end date stops opening the gate; a past date is refused when it is made.
#[tokio::test(flavor = "multi_thread")]
async fn keys_expire() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let path = "/channels/finish-line/keys";
    let (status, problem) =
        house.try_call("POST", path, Some(json!({"label": "old", "expires_at": "2020-01-01T00:00:00Z"})));
    assert_eq!(
        (status, problem["detail"].as_str()),
        (422, Some("expires_at: it is in the past; to end a key now, retire it"))
    );
    let soon = time::OffsetDateTime::now_utc() + Duration::from_millis(1500);
    let soon = soon.format(&time::format_description::well_known::Rfc3339).unwrap();
    let made = house.call("POST", path, Some(json!({"label": "today", "expires_at": soon})));
    let key = made["encoder"]["key"].as_str().unwrap().to_owned();
    assert_eq!(house.publish(house.encoder(&key, 0.3)).await.end, EncoderEnd::Finished);
    tokio::time::sleep(Duration::from_millis(1500)).await;
    let EncoderEnd::Refused { description, .. } = house.publish(house.encoder(&key, 0.3)).await.end else {
        panic!("the key still opens")
    };
    assert!(description.contains("expired"), "{description}");
    house.wait_until("it is listed", |house| house.get("/turned-away")["items"][0]["reason"] == "expired_key").await;
    assert_eq!(house.get("/turned-away")["items"][0]["channel"], "finish-line");
}

/// Health needs no token; the console's files are served with their policies.
#[tokio::test(flavor = "multi_thread")]
async fn health_and_console_are_open() {
    let ground = Ground::new().await;
    let house = ground.start();
    let mut health = raw(&house, "/api/v1/health", &[]);
    let health: Value = serde_json::from_str(&health.body_mut().read_to_string().unwrap()).unwrap();
    assert_eq!((&health["is_good"], &health["database_is_reachable"]), (&json!(true), &json!(true)));
    let page = raw(&house, "/channels/finish-line", &[]);
    assert_eq!(page.headers()["x-content-type-options"], "nosniff");
    assert!(page.headers()["content-security-policy"].to_str().unwrap().contains("frame-ancestors 'none'"));
    assert_eq!(raw(&house, "/assets/no-such-file.js", &[]).status(), 404);
    let mut document = raw(&house, "/api/v1/openapi.json", &[]);
    let document: Value = serde_json::from_str(&document.body_mut().read_to_string().unwrap()).unwrap();
    assert!(document["paths"]["/api/v1/channels"].is_object());
    let wrong = |method: &str, path: &str| house.try_call(method, path, None);
    assert_eq!((wrong("PUT", "/channels").0, &wrong("PUT", "/channels").1["code"]), (405, &json!("wrong_method")));
    assert!(wrong("PUT", "/channels").1["detail"].as_str().unwrap().contains("GET, HEAD, POST"));
    assert_eq!(wrong("GET", "/takes/one/1").1["code"], "not_found");
    assert_eq!(wrong("GET", "/sessions?limit=many").1["code"], "invalid_field");
}

/// One's own sign-ins are seen, and ended; a password is changed by who knows it, and ends all the others.
#[tokio::test(flavor = "multi_thread")]
async fn a_person_sees_ends_and_renews_what_opens_the_house() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let status = |token: &str| call_with(&house, token, "/api/v1/me");
    let sign_in = |password: &str| {
        let form = json!({"name": "harbour", "password": password, "token_label": "laptop"});
        house.try_call("POST", "/sign-in", Some(form))
    };
    let laptop = sign_in(PASSWORD).1["token"].as_str().unwrap().to_owned();
    assert_eq!(status(&laptop), "200");
    let used = |house: &House<'_>| {
        let tokens = house.get("/tokens");
        tokens.as_array().unwrap().iter().find(|token| token["label"] == "laptop").unwrap().clone()
    };
    house.wait_until("its use is noted", |house| used(house)["last_used_at"].is_string()).await;
    let seen = used(&house);
    assert_eq!((&seen["address"], &seen["is_this"]), (&json!("127.0.0.1"), &json!(false)), "{seen}");
    assert!(seen["device"].as_str().unwrap().starts_with("curl/"), "{seen}");
    assert!(shell.run(&["token", "list"]).contains("(this one)"));
    assert_eq!(house.call("DELETE", "/tokens", None)["count"], 2, "the command line and the laptop");
    assert_eq!(status(&laptop), "401");
    shell.fail(&["token", "list"], 1);

    let laptop = sign_in(PASSWORD).1["token"].as_str().unwrap().to_owned();
    let change = |present: &str, wanted: &str| {
        house.try_call("PUT", "/me/password", Some(json!({"present": present, "wanted": wanted})))
    };
    for (present, wanted, field) in [
        (PASSWORD, "Password123", "password: the password is one of those that are guessed first"),
        (PASSWORD, "harbour2026", "password: the password is the user name"),
        (PASSWORD, "short", "password: the password has 5 characters"),
        ("regatta evening", "weir heron ferry", "present: it is not the present password"),
    ] {
        let (status, problem) = change(present, wanted);
        assert!(status == 422 && problem["detail"].as_str().unwrap().starts_with(field), "{problem}");
    }
    assert_eq!(status(&laptop), "200", "nothing was changed");
    shell.sign_in();
    let passwords = format!("{PASSWORD}\nweir heron ferry\n");
    let output = shell.run_with(&["change-password", "--passwords-file", "-"], &passwords);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(status(&laptop), "401", "all others end");
    assert!(shell.run(&["token", "list"]).contains("(this one)"));
    assert_eq!((sign_in(PASSWORD).0, sign_in("weir heron ferry").0), (401, 200));
    assert!(!ground.log().contains("weir heron"), "no password in the log");
}

/// Who holds a token does not find the password by trying.
#[tokio::test(flavor = "multi_thread")]
async fn a_present_password_is_not_guessed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let form = json!({"present": "regatta evening", "wanted": "weir heron ferry"});
    let refused = (0..60).map(|_| house.try_call("PUT", "/me/password", Some(form.clone())).0);
    let refused: Vec<u16> = refused.collect();
    assert!(refused.iter().all(|status| [422, 429].contains(status)), "{refused:?}");
    assert_eq!(refused.last(), Some(&429), "{refused:?}");
}

/// The status that a call with a token gets.
fn call_with(house: &House<'_>, token: &str, path: &str) -> String {
    let (url, bearer) = (format!("http://{}{path}", house.http), format!("Authorization: Bearer {token}"));
    let mut curl = std::process::Command::new("curl");
    let output = curl.args(["-s", "-o", "/dev/null", "-w", "%{http_code}", "-H", &bearer, &url]).output().unwrap();
    String::from_utf8(output.stdout).unwrap()
}
