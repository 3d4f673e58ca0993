//! Who did what.

use std::process::Command;

use serde_json::{Value, json};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD};

/// What was noted, the oldest first.
fn noted(house: &House<'_>, query: &str) -> Vec<Value> {
    let mut acts = house.get(&format!("/acts?limit=500{query}"))["items"].as_array().unwrap().clone();
    acts.reverse();
    acts
}

async fn wait_for(house: &House<'_>, what: &str, count: usize) -> Vec<Value> {
    let query = format!("&what={what}");
    house.wait_until(what, |house| noted(house, &query).len() >= count).await;
    noted(house, &query)
}

/// Changes, reveals, sign-ins and refusals are noted with who, from where, by what, and what was before and after.
#[tokio::test(flavor = "multi_thread")]
async fn what_people_do_is_noted() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.call("POST", "/channels", Some(json!({"name": "weir", "title": "Weir"})));
    house.call("PATCH", "/channels/weir", Some(json!({"title": "The weir", "hold_ms": 2500})));
    let key = house.call("POST", "/channels/weir/keys", Some(json!({"label": "van"})));
    let form = json!({"name": "plovio", "address": "rtmp://127.0.0.1:9/in", "key": "wexcombe-first-key"});
    house.call("POST", "/destinations", Some(form));
    house.call("PATCH", "/destinations/plovio", Some(json!({"key": "wexcombe-second-key"})));
    let screen = json!({"label": "screen", "role": "observer", "channels": ["weir"], "addresses": ["192.0.2.0/24"]});
    house.call("POST", "/tokens", Some(screen));
    let revealed = house.call("POST", "/destinations/plovio/reveal", Some(json!({"password": PASSWORD})));
    assert_eq!(revealed["key"], "wexcombe-second-key");
    let guessed = house.try_call("POST", "/destinations/plovio/reveal", Some(json!({"password": "not this one"})));
    assert_eq!(guessed.0, 422, "a stolen sign-in reveals nothing");
    house.call("PUT", "/channels/weir/destinations/plovio", Some(json!({"is_on": false})));
    let invitation = house.call("POST", "/people", Some(json!({"name": "cox", "role": "observer"})));
    let code = invitation["code"].as_str().unwrap();
    let accepted = json!({"code": code, "password": "weir heron ferry", "token_label": "bow"});
    let cox = house.call("POST", "/invitations/accept", Some(accepted))["token"].as_str().unwrap().to_owned();
    assert_eq!(house.call_as(&cox, "DELETE", "/channels/weir", None).0, 403);
    let wrong = json!({"name": "harbour", "password": "not the password", "token_label": "t"});
    assert_eq!(house.call_as("", "POST", "/sign-in", Some(wrong)).0, 401);
    house.call("POST", "/capacity", Some(json!({"bitrate_bps": 6_000_000, "destinations": 1, "viewers": 0, "price_sent_tb": 0, "price_kept_tb_month": 0})));
    house.call("DELETE", "/channels/weir", None);

    wait_for(&house, "remove_channel", 2).await;
    let acts = noted(&house, "");
    let of = |what: &str| acts.iter().filter(|act| act["what"] == what).collect::<Vec<_>>();
    let changed = of("change_channel")[0];
    assert_eq!(
        (&changed["before"], &changed["after"]),
        (&json!({"title": "Weir", "hold_ms": 10000}), &json!({"title": "The weir", "hold_ms": 2500}))
    );
    assert_eq!(
        (&changed["person"], &changed["by"], &changed["channel"]),
        (&json!("harbour"), &json!("program"), &json!("weir"))
    );
    assert_eq!((&changed["address"], &changed["outcome"]), (&json!("127.0.0.1"), &json!("done")));
    assert_eq!(of("add_channel")[0]["channel"], "weir");
    assert_eq!(of("change_destination")[0]["after"], json!({"key": "(another one)"}));
    assert_eq!(of("change_destination")[0]["subject"], "destination plovio");
    let terms = json!({"role": "observer", "channels": ["weir"], "addresses": ["192.0.2.0/24"], "days": null});
    assert_eq!((&of("add_token")[0]["subject"], &of("add_token")[0]["after"]), (&json!("token screen"), &terms));
    assert_eq!(of("reveal_destination")[0]["subject"], "destination plovio");
    assert_eq!(of("switch_destination")[0]["after"]["is_on"], false);
    assert_eq!(of("add_person")[0]["subject"], "person cox");
    assert_eq!(
        (&of("accept_invitation")[0]["person"], &of("accept_invitation")[0]["outcome"]),
        (&json!("cox"), &json!("done"))
    );
    let [refused, removed] = of("remove_channel")[..] else { panic!("{acts:?}") };
    assert_eq!(
        (&refused["person"], &refused["outcome"], &refused["reason"]),
        (&json!("cox"), &json!("refused"), &json!("not_allowed"))
    );
    assert_eq!((&refused["token"], &removed["before"]["title"]), (&json!("bow"), &json!("The weir")));
    let stranger = of("sign_in").into_iter().find(|act| act["by"] == "stranger").unwrap();
    assert_eq!((&stranger["person"], &stranger["reason"]), (&json!("harbour"), &json!("wrong_password")));
    assert!(of("capacity").is_empty(), "who only asks changes nothing");

    assert_eq!(noted(&house, "&person=cox&outcome=refused").len(), 1);
    assert_eq!(house.try_call("GET", "/acts?outcome=lost", None).0, 422);
    let first = house.get("/acts?limit=2");
    let second = house.get(&format!("/acts?limit=2&before={}", first["next"]));
    assert!(first["items"][1]["id"].as_u64() > second["items"][0]["id"].as_u64());
    let all = String::from_utf8(house.fetch("/acts.jsonl")).unwrap();
    let lines: Vec<Value> = all.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), acts.len());
    let stream_key = key["encoder"]["key"].as_str().unwrap();
    for secret in [stream_key, "wexcombe-first-key", "wexcombe-second-key", code, "weir heron ferry", PASSWORD, &cox] {
        assert!(!all.contains(secret), "{secret}");
    }
    let shell = Shell { house: &house };
    shell.sign_in_as("administrator");
    let told = shell.run(&["act", "list", "--what", "change_channel"]);
    assert!(told.contains("change channel") && told.contains("token test"), "{told}");
    assert_eq!(shell.run(&["act", "export"]).lines().count(), noted(&house, "").len());
    assert!(noted(&house, "&what=sign_in").iter().any(|act| act["by"] == "command_line"));
}

/// What is done while the database is away is noted when it is back.
#[tokio::test(flavor = "multi_thread")]
async fn acts_wait_for_the_database() {
    let ground = Ground::new().await;
    ground.use_private_database();
    let house = ground.start();
    house.make_channel(0);
    house.call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 120})));
    let ready: Value = serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let database = ready["database_pid"].as_u64().unwrap().to_string();
    let signal = |signal: &str| assert!(Command::new("kill").args([signal, &database]).status().unwrap().success());
    signal("-STOP");
    let ended = house.try_call("POST", "/channels/finish-line/end-session", None);
    signal("-CONT");
    assert_eq!(ended.0, 204, "{ended:?}");
    house.wait_until("the database is back", |house| house.try_call("GET", "/acts", None).0 == 200).await;
    let acts = wait_for(&house, "end_session", 1).await;
    assert_eq!((&acts[0]["person"], &acts[0]["channel"]), (&json!("harbour"), &json!("finish-line")));
}

/// Who is refused again and again does not fill the record.
#[tokio::test(flavor = "multi_thread")]
async fn refusals_are_noted_a_few_times() {
    let ground = Ground::new().await;
    let house = ground.start();
    let guess = |number: usize| {
        let form = json!({"name": format!("guess {number}"), "password": "wrong wrong wrong", "token_label": "t"});
        house.call_as("", "POST", "/sign-in", Some(form)).0
    };
    let found: Vec<u16> = (0..30).map(guess).collect();
    assert!(found.iter().all(|status| [401, 429].contains(status)), "{found:?}");
    let observes = house.call("POST", "/tokens", Some(json!({"label": "screen", "role": "observer"})));
    let observes = observes["token"].as_str().unwrap();
    for _ in 0..100 {
        assert_eq!(house.call_as(observes, "POST", "/channels", Some(json!({"name": "weir"}))).0, 403);
    }
    wait_for(&house, "add_channel", 20).await;
    let refused = noted(&house, "&outcome=refused");
    assert!((21..=60).contains(&refused.len()), "{}", refused.len());
}
