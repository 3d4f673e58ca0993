//! The second factor of the crew.

use std::time::{SystemTime, UNIX_EPOCH};

use serde_json::{Value, json};
use waverant_relay::{Secret, TimeCodes};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD};

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()
}

/// Signs in as an encoder's crew does who is not our client.
fn sign_in(house: &House<'_>, name: &str, code: Option<&str>) -> (u16, Value) {
    let form = json!({"name": name, "password": PASSWORD, "second_factor": code, "token_label": "van"});
    house.call_as("", "POST", "/sign-in", Some(form))
}

/// Makes a key for the authenticator of who holds `token`.
fn new_key(house: &House<'_>, token: &str) -> TimeCodes {
    let (status, key) = house.call_as(token, "POST", "/me/second-factor", Some(json!({"password": PASSWORD})));
    assert_eq!(status, 201, "{key}");
    assert!(key["address"].as_str().unwrap().starts_with("otpauth://totp/Waverant:"), "{key}");
    TimeCodes::typed(&Secret::new(key["key"].as_str().unwrap()), "").unwrap()
}

fn set_up(house: &House<'_>, token: &str) -> (TimeCodes, Vec<String>) {
    let codes = new_key(house, token);
    let (status, recovery) =
        house.call_as(token, "POST", "/me/second-factor/confirm", Some(json!({"code": codes.code_at(now())})));
    assert_eq!(status, 200, "{recovery}");
    (codes, serde_json::from_value(recovery["codes"].clone()).unwrap())
}

/// Lets somebody in with the password of all.
fn let_in(house: &House<'_>, name: &str, role: &str) -> String {
    let invitation = house.call("POST", "/people", Some(json!({"name": name, "role": role})));
    accept(house, &invitation, None).1["token"].as_str().unwrap().to_owned()
}

fn accept(house: &House<'_>, invitation: &Value, code: Option<&str>) -> (u16, Value) {
    let form = json!({"code": invitation["code"], "password": PASSWORD, "second_factor": code, "token_label": "bow"});
    house.call_as("", "POST", "/invitations/accept", Some(form))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_asked_for_and_no_code_is_taken_twice() {
    let ground = Ground::new().await;
    let house = ground.start();
    let cox = let_in(&house, "cox", "operator");
    let other = sign_in(&house, "cox", None).1["token"].as_str().unwrap().to_owned();
    let wrong = house.call_as(&cox, "POST", "/me/second-factor", Some(json!({"password": "not this one"})));
    assert_eq!((wrong.0, &wrong.1["code"]), (422, &json!("invalid_field")), "a stolen sign-in sets up nothing");

    // A key that was never confirmed asks nobody for anything.
    let first = new_key(&house, &cox);
    assert_eq!(sign_in(&house, "cox", None).0, 200);
    let (codes, recovery) = set_up(&house, &cox);
    assert_ne!(first.key(), codes.key());
    assert_eq!((recovery.len(), house.call_as(&other, "GET", "/me", None).0), (10, 401), "other sign-ins end");
    assert_eq!(house.call_as(&cox, "GET", "/me/second-factor", None).1["recovery_codes_left"], 10);
    assert_eq!(house.call_as(&cox, "POST", "/me/second-factor", Some(json!({"password": PASSWORD}))).0, 401);

    let needed = sign_in(&house, "cox", None);
    assert_eq!((needed.0, &needed.1["code"]), (401, &json!("second_factor_needed")));
    let replayed = sign_in(&house, "cox", Some(&codes.code_at(now())));
    assert_eq!(
        (replayed.0, &replayed.1["code"]),
        (401, &json!("wrong_second_factor")),
        "it was taken when it was set up"
    );
    let next = codes.code_at(now() + 30);
    assert_eq!(sign_in(&house, "cox", Some(&next)).0, 200, "clocks may differ by half a minute");
    assert_eq!(sign_in(&house, "cox", Some(&next)).0, 401, "and it is good once");
    let typed = recovery[0].to_uppercase().replace('-', " ");
    assert_eq!(sign_in(&house, "cox", Some(&typed)).0, 200);
    assert_eq!(sign_in(&house, "cox", Some(&recovery[0])).0, 401);

    let form = json!({"password": PASSWORD, "second_factor": recovery[1]});
    let renewed = house.call_as(&cox, "POST", "/me/second-factor/recovery-codes", Some(form)).1;
    assert_eq!(sign_in(&house, "cox", Some(&recovery[2])).0, 401, "those there were are worthless");
    // Six wrong ones by now, from wherever: the person waits, and others do not.
    let slowed = (0..3).map(|_| sign_in(&house, "cox", Some("000000"))).find(|answer| answer.0 == 429);
    assert_eq!(slowed.unwrap().1["code"], "slow_down");
    assert_eq!(sign_in(&house, "harbour", None).0, 200);

    // An administrator's link asks for it too, but for one that drops it.
    let kept = house.call("POST", "/people/cox/invitation", Some(json!({})));
    let look = house.call_as("", "POST", "/invitations/look", Some(json!({"code": kept["code"]}))).1;
    assert_eq!(look["needs_second_factor"], true);
    assert_eq!(accept(&house, &kept, None).1["code"], "second_factor_needed");
    let dropping = house.call("POST", "/people/cox/invitation", Some(json!({"drops_second_factor": true})));
    assert_eq!(accept(&house, &dropping, None).0, 200);
    assert_eq!(sign_in(&house, "cox", None).0, 200);

    let told = serde_json::to_string(&house.get("/acts?limit=500")["items"]).unwrap() + &house.ground.log();
    for secret in [codes.key().reveal(), renewed["codes"][0].as_str().unwrap(), &recovery[0], PASSWORD] {
        assert!(!told.contains(secret), "{secret}");
    }
    for what in ["begin_second_factor", "confirm_second_factor", "renew_recovery_codes"] {
        assert!(told.contains(what), "{what}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_asks_for_it() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let known = ["second-factor", "set-up", "--password-file", "-"];
    let told = shell.run_with(&known, PASSWORD);
    let told = String::from_utf8_lossy(&told.stdout).into_owned();
    let codes = TimeCodes::typed(&Secret::new(told.lines().nth(1).unwrap()), "").unwrap();
    let confirmed = shell.run_with(&["second-factor", "confirm", "--code-file", "-"], &codes.code_at(now()));
    let confirmed = String::from_utf8_lossy(&confirmed.stdout).into_owned();
    let recovery: Vec<&str> = confirmed.lines().skip(1).collect();
    assert_eq!(recovery.len(), 10, "{confirmed}");

    let url = format!("http://{}/", house.http);
    let sign_in = ["sign-in", &url, "--name", "harbour", "--password-file", "-"];
    let refused = shell.run_with(&sign_in, PASSWORD);
    let refused = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.contains("no terminal to ask for it; use --second-factor-file"), "{refused}");
    let with = [&sign_in[..], &["--second-factor-file", "-"]].concat();
    let done = shell.run_with(&with, &format!("{PASSWORD}\n{}\n", codes.code_at(now() + 30)));
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    assert!(shell.run(&["second-factor", "show"]).contains("10 recovery codes are left"));
    let remove = ["second-factor", "remove", "--password-file", "-", "--second-factor-file"];
    std::fs::write(ground.path("code"), recovery[0]).unwrap();
    let file = ground.path("code").display().to_string();
    let removed = shell.run_with(&[&remove[..], &[&file]].concat(), PASSWORD);
    assert!(removed.status.success(), "{}", String::from_utf8_lossy(&removed.stderr));
    assert!(shell.run(&["second-factor", "show"]).contains("None."));
}

/// By rule those from a role on do nothing before it is set up: not by a token either.
#[tokio::test(flavor = "multi_thread")]
async fn a_rule_asks_for_it_from_a_role_on() {
    let ground = Ground::new().await;
    ground.write_settings("[people]\nsecond_factor_from = \"engineer\"\n");
    let house = ground.start_unsigned();
    let harbour = sign_in(&house, "harbour", None).1;
    assert_eq!(harbour["lacks_second_factor"], true);
    let harbour = harbour["token"].as_str().unwrap();
    let shut = house.call_as(harbour, "GET", "/live", None);
    assert_eq!((shut.0, &shut.1["code"]), (403, &json!("second_factor_missing")));
    assert_eq!(house.call_as(harbour, "GET", "/me/second-factor", None).1["is_required"], true);
    // A token that is for less than the rule speaks of goes on.
    let screen = json!({"label": "screen", "role": "observer"});
    let screen = house.call_as(harbour, "POST", "/tokens", Some(screen)).1["token"].as_str().unwrap().to_owned();
    assert_eq!(house.call_as(&screen, "GET", "/live", None).0, 200);
    set_up(&house, harbour);
    assert_eq!(house.call_as(harbour, "GET", "/live", None).0, 200);
    assert_eq!(house.call_as(&screen, "GET", "/live", None).0, 401, "all others ended when it was set up");
}

/// A call of a browser that shows a page of this address.
fn call_from(house: &House<'_>, page: &str, (token, path): (&str, &str), body: &Value) -> (u16, Value) {
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let request = agent.post(format!("http://{}/api/v1{path}", house.http));
    let request = request.header("authorization", format!("Bearer {token}")).header("origin", page);
    let request = request.header("sec-fetch-site", "same-origin");
    let mut response = request.content_type("application/json").send(body.to_string()).unwrap();
    let text = response.body_mut().read_to_string().unwrap();
    (response.status().as_u16(), serde_json::from_str(&text).unwrap_or(Value::Null))
}

/// What is good of passkeys is tried in a browser; here is what others may send.
#[tokio::test(flavor = "multi_thread")]
async fn what_passkeys_are_asked_is_bound_to_person_and_page_and_good_once() {
    const PAGE: &str = "https://relay.wexcombe.test";
    const MAKE: &str = "/me/second-factor/passkeys";
    let ground = Ground::new().await;
    let house = ground.start();
    let cox = let_in(&house, "cox", "operator");
    let stroke = let_in(&house, "stroke", "operator");
    let password = json!({"password": PASSWORD});
    let (status, problem) = house.call_as(&cox, "POST", MAKE, Some(password.clone()));
    assert!(status == 409 && problem["detail"].as_str().unwrap().contains("for browsers"), "{problem}");
    for page in ["http://relay.wexcombe.test", "https://192.0.2.16:7801", "null"] {
        assert_eq!(call_from(&house, page, (&cox, MAKE), &password).0, 409, "{page}");
    }
    let wrong = json!({"password": "not this one"});
    assert_eq!(call_from(&house, PAGE, (&cox, MAKE), &wrong).0, 422, "a stolen sign-in makes none");

    let (status, asked) = call_from(&house, PAGE, (&cox, MAKE), &password);
    assert_eq!(status, 200, "{asked}");
    let options = &asked["options"];
    assert_eq!((&options["rp"]["id"], &options["user"]["name"]), (&json!("relay.wexcombe.test"), &json!("cox")));
    assert_eq!(options["authenticatorSelection"]["userVerification"], "required");
    assert!(options["challenge"].as_str().unwrap().len() >= 43 && options["timeout"] == 300_000, "{options}");
    let confirm = |token: &str, credential: Value| {
        let form = json!({"ceremony": asked["ceremony"], "label": "van", "credential": credential});
        call_from(&house, PAGE, (token, "/me/second-factor/passkeys/confirm"), &form)
    };
    let nonsense = json!({
        "id": "AAAA", "rawId": "AAAA", "type": "public-key", "extensions": {},
        "response": {"attestationObject": "oA", "clientDataJSON": "e30"},
    });
    assert_eq!(confirm(&stroke, nonsense.clone()).1["detail"].as_str().unwrap().split(':').next(), Some("ceremony"));
    let refused = confirm(&cox, nonsense.clone());
    assert!(refused.0 == 422 && refused.1["detail"].as_str().unwrap().starts_with("credential"), "{}", refused.1);
    let refused = confirm(&cox, nonsense.clone());
    assert!(refused.0 == 422 && refused.1["detail"].as_str().unwrap().starts_with("ceremony"), "{}", refused.1);
    let long = confirm(&cox, json!({"id": "A".repeat(40_000)})).1;
    assert!(long["detail"].as_str().unwrap().contains("length limit"), "its size is bounded: {long}");

    // A stranger learns nothing; who knows the password learns what there is.
    let ask = |name: &str, password: &str| {
        let form = json!({"name": name, "password": password});
        let (status, answer) = call_from(&house, PAGE, ("", "/sign-in/passkey"), &form);
        (status, answer["code"].clone())
    };
    assert_eq!(ask("cox", "wrong password"), (401, json!("wrong_password")));
    assert_eq!(ask("nobody", "wrong password"), (401, json!("wrong_password")));
    assert_eq!(ask("cox", PASSWORD), (409, json!("conflict")));

    // What no passkey said is a wrong code, and as many are taken.
    set_up(&house, &cox);
    let tries: Vec<u16> = (0..7)
        .map(|_| {
            let proof = json!({"ceremony": "AAAA", "credential": nonsense});
            let form = json!({"name": "cox", "password": PASSWORD, "passkey": proof, "token_label": "van"});
            house.call_as("", "POST", "/sign-in", Some(form)).0
        })
        .collect();
    assert!(tries.iter().all(|status| [422, 429].contains(status)), "{tries:?}");
}
