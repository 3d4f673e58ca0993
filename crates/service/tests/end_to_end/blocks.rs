//! An address that goes on with what is wrong is slowed, then blocked for a time, on every protocol; what is right passes.

use std::io::{Read, Write};
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use waverant_srt::RejectReason;
use waverant_standin::{
    Encoder, EncoderEnd, EncoderOptions, call_srt_as, compare, connect_as, invent_srt_callers, stranger_address,
};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD, PATIENCE, clip};

const WRONG: &str = "abcdefg-zyxwvutsrqponmlkjihgfedcba";

/// Wrong tries that are more than enough.
const MANY: usize = 70;

/// What an address goes on with.
#[derive(Clone, Copy)]
enum Wrong {
    Token,
    Link,
    SrtKey,
}

fn blocked(house: &House<'_>) -> Vec<String> {
    let all = house.get("/addresses");
    all["blocked"].as_array().unwrap().iter().map(|one| one["address"].as_str().unwrap().to_owned()).collect()
}

/// Calls the API from an address; returns status and answer.
fn call_from(house: &House<'_>, from: IpAddr, head: &str, header: &str, body: &str) -> (u16, String) {
    let mut stream = connect_as(from, house.http).unwrap();
    let length = body.len();
    let request = format!(
        "{head} HTTP/1.1\r\nhost: {}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\n{header}connection: close\r\n\r\n{body}",
        house.http
    );
    let _ = stream.write_all(request.as_bytes());
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    (answer.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0), answer)
}

fn sign_in(house: &House<'_>, from: IpAddr, password: &str) -> (u16, String) {
    let form = json!({"name": "harbour", "password": password, "token_label": "x"});
    call_from(house, from, "POST /api/v1/sign-in", "", &form.to_string())
}

/// Goes on with what is wrong until the address is blocked.
fn go_on(house: &House<'_>, from: IpAddr, wrong: impl Fn()) {
    for _ in 0..MANY {
        wrong();
    }
    assert_eq!(blocked(house), [from.to_string()]);
}

/// Why a call over SRT is refused, if it is. A busy machine does not always answer in time.
fn answered_over_srt(house: &House<'_>, from: IpAddr, key: &str) -> Option<RejectReason> {
    (0..10).find_map(|_| call_srt_as(from, house.srt, key)).expect("nobody answers over SRT")
}

fn wrong_token(house: &House<'_>, from: IpAddr) -> (u16, String) {
    call_from(house, from, "GET /api/v1/me", "authorization: Bearer wvt-nothing\r\n", "")
}

/// By whatever it was blocked: at each door what is wrong opens nothing and is told so, what is right passes.
#[rstest]
#[case::by_tokens(Wrong::Token)]
#[case::by_links(Wrong::Link)]
#[case::by_keys_over_srt(Wrong::SrtKey)]
#[tokio::test(flavor = "multi_thread")]
async fn who_goes_on_is_blocked_and_what_is_right_passes(#[case] wrong: Wrong) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let from = stranger_address(1);
    let token = {
        let (status, answer) = sign_in(&house, from, PASSWORD);
        assert_eq!(status, 200);
        let body = answer.split("\r\n\r\n").nth(1).unwrap();
        let at = body.find('{').unwrap();
        let told: Value = serde_json::from_str(&body[at..=body.rfind('}').unwrap()]).unwrap();
        told["token"].as_str().unwrap().to_owned()
    };
    let until = time::OffsetDateTime::now_utc() + time::Duration::DAY;
    let until = until.format(&time::format_description::well_known::Rfc3339).unwrap();
    let form = json!({"label": "guest", "guest_link_until": until});
    let made = house.call("POST", "/channels/finish-line/keys", Some(form));
    let guest = json!({"token": made["guest_token"]}).to_string();
    go_on(&house, from, || match wrong {
        Wrong::SrtKey => drop(call_srt_as(from, house.srt, WRONG)),
        Wrong::Token => assert!([401, 403].contains(&wrong_token(&house, from).0)),
        Wrong::Link => drop(call_from(&house, from, "POST /api/v1/guests/look", "", r#"{"token": "nothing"}"#)),
    });
    // What is wrong is told that it is blocked.
    let (status, answer) = wrong_token(&house, from);
    assert!(status == 403 && answer.contains("address_blocked"), "{answer}");
    assert_eq!(answered_over_srt(&house, from, WRONG).unwrap().code(), 1403);
    let publish = |key: &str, length: f64| {
        let options = EncoderOptions { from: Some(from), ..house.encoder(key, length) };
        async move { Encoder::new(clip(), options).run().await.unwrap() }
    };
    let EncoderEnd::Refused { description, .. } = publish(WRONG, 0.5).await.end else { panic!("it was let in") };
    assert!(description.contains("blocked until"), "{description}");
    // What is right passes: a key, a link, a token, a sign-in.
    assert_eq!(call_from(&house, from, "POST /api/v1/guests/look", "", &guest).0, 200);
    let bearer = format!("authorization: Bearer {token}\r\n");
    assert_eq!(call_from(&house, from, "GET /api/v1/me", &bearer, "").0, 200);
    // A sign-in has waits of its own, for who guessed.
    house.wait_until("it signs in", |house| sign_in(house, from, PASSWORD).0 == 200).await;
    // Nobody else is meant, and whoever runs the house lets it in again; so does a right key.
    assert_eq!(wrong_token(&house, stranger_address(2)).0, 401);
    house.call("POST", "/addresses/release", Some(json!({"address": from.to_string()})));
    assert!(blocked(&house).is_empty());
    assert_eq!(wrong_token(&house, from).0, 401);
    for is_srt in [false, true] {
        let other = stranger_address(10 + usize::from(is_srt));
        go_on(&house, other, || drop(wrong_token(&house, other)));
        if is_srt {
            assert_eq!(answered_over_srt(&house, other, &key), None, "let in over SRT");
        } else {
            let options = EncoderOptions { from: Some(other), ..house.encoder(&key, 0.5) };
            assert_eq!(Encoder::new(clip(), options).run().await.unwrap().end, EncoderEnd::Finished);
        }
        house.wait_until("it is released", |house| blocked(house).is_empty()).await;
    }
    let (status, told) = house.try_call("POST", "/addresses/release", Some(json!({"address": "nobody"})));
    assert!(status == 422 && told.to_string().contains("192.0.2.7"), "{told}");
    let acts = house.get("/acts").to_string();
    assert!(acts.contains("release_address"), "{acts}");
}

/// The crew is never blocked; what people block stays blocked, over a restart too, and ends at its time.
#[tokio::test(flavor = "multi_thread")]
async fn people_say_who_is_blocked_and_who_is_the_crew() {
    let ground = Ground::new().await;
    let crew = stranger_address(3);
    let made = {
        let house = ground.start();
        house.make_channel(0);
        house.change_channel(json!({"viewing": {"audience": "everybody"}}));
        let welcome = json!({"range": "127.7.1.0/24", "reception": "welcome", "note": "the club house"});
        house.call("POST", "/addresses", Some(welcome));
        for _ in 0..MANY {
            wrong_token(&house, crew);
        }
        assert!(blocked(&house).is_empty());
        let shut = json!({"range": "127.8.0.0/16", "reception": "blocked", "minutes": 60});
        house.call("POST", "/addresses", Some(shut.clone()));
        let made = house.call("POST", "/addresses", Some(shut));
        assert_eq!(house.get("/addresses")["rules"].as_array().unwrap().len(), 2, "one rule for a range");
        for wrong in [
            json!({"range": "x", "reception": "blocked"}),
            json!({"range": "::/0", "reception": "blocked", "minutes": 0}),
        ] {
            assert_eq!(house.try_call("POST", "/addresses", Some(wrong)).0, 422);
        }
        made["id"].as_u64().unwrap()
    };
    let house = ground.start();
    let shut: IpAddr = "127.8.0.9".parse().unwrap();
    let look = |from| {
        let mut stream = connect_as(from, house.viewing).unwrap();
        let request = "GET /watch/finish-line/state HTTP/1.1\r\nhost: a\r\nconnection: close\r\n\r\n";
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = String::new();
        let _ = stream.read_to_string(&mut answer);
        answer.split(' ').nth(1).unwrap_or_default().to_owned()
    };
    assert_eq!((look(shut).as_str(), look(crew).as_str()), ("403", "200"));
    assert_eq!(wrong_token(&house, shut).0, 403);
    assert_eq!(sign_in(&house, shut, PASSWORD).0, 200);
    let shell = Shell { house: &house };
    shell.sign_in();
    let list = shell.run(&["address", "list"]);
    assert!(list.contains("127.8.0.0/16") && list.contains("the club house"), "{list}");
    house.call("DELETE", &format!("/addresses/{made}"), None);
    assert_eq!(look(shut), "200");
    assert_eq!(house.try_call("DELETE", &format!("/addresses/{made}"), None).0, 404);
}

/// Wrong keys from fifty addresses as fast as the machine has them, and a hundred thousand addresses that are made up:
/// the show is whole, memory stays flat, the list can be read, and the crew comes in from the address of a guesser.
#[tokio::test(flavor = "multi_thread")]
async fn a_siege_of_wrong_keys_harms_nobody() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let second = house.make_key("crew", 1);
    let platform = house.add_platform("plovio", None).await;
    let show = tokio::spawn({
        let options = house.encoder(&key, 25.0);
        async move { Encoder::new(clip(), options).run().await.unwrap() }
    });
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
    let (stop, count) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let guessed_since = Instant::now();
    let guessers: Vec<_> = (0..50)
        .map(|number| {
            let options = EncoderOptions { from: Some(stranger_address(number)), ..house.encoder(WRONG, 1.0) };
            let (stop, count) = (stop.clone(), count.clone());
            let srt = house.srt;
            tokio::spawn(async move {
                while !stop.load(Ordering::Relaxed) {
                    // Over SRT nobody is made to wait before he is heard.
                    for _ in 0..4 {
                        let guess = move || call_srt_as(stranger_address(number), srt, WRONG);
                        let _ = tokio::task::spawn_blocking(guess).await;
                        count.fetch_add(1, Ordering::Relaxed);
                    }
                    // Who is cut off says nothing of it.
                    let _ = tokio::time::timeout(PATIENCE, Encoder::new(clip_once(), options.clone()).run()).await;
                    count.fetch_add(1, Ordering::Relaxed);
                }
            })
        })
        .collect();
    tokio::time::sleep(Duration::from_secs(4)).await;
    let before = house.anonymous_kib();
    let srt = house.srt;
    let invented = tokio::task::spawn_blocking(move || invent_srt_callers(srt, 100_000));
    // How soon fifty addresses have made enough wrong tries depends on what else the machine does. One has for sure.
    let guesser = stranger_address(7);
    for _ in 0..MANY {
        wrong_token(&house, guesser);
    }
    assert!(blocked(&house).contains(&guesser.to_string()));
    let began = Instant::now();
    let crew = EncoderOptions { from: Some(guesser), ..house.encoder(&second, 1.0) };
    let crew = Encoder::new(clip(), crew).run().await.unwrap();
    assert_eq!(crew.end, EncoderEnd::Finished, "after {:?} among {count:?} guesses", began.elapsed());
    invented.await.unwrap();
    let listed = |house: &House<'_>| house.get("/turned-away?limit=500")["items"].as_array().unwrap().len();
    house.wait_up_to(4 * PATIENCE, "all fifty are in the list", |house| listed(house) >= 50).await;
    assert!(listed(&house) < 400, "{} lines", listed(&house));
    assert!(blocked(&house).iter().all(|address| address.starts_with("127.7.")), "nobody who was made up is blocked");
    let grown = house.anonymous_kib().saturating_sub(before);
    assert!(grown < 40 * 1024, "{grown} KiB more");
    let sent = show.await.unwrap();
    stop.store(true, Ordering::Relaxed);
    for guesser in guessers {
        guesser.await.unwrap();
    }
    println!("{} wrong keys in {:?}", count.load(Ordering::Relaxed), guessed_since.elapsed());
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections.iter().any(|one| one.was_ended)).await);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    assert!(count.load(Ordering::Relaxed) >= 50, "{count:?}");
}

/// What a guesser would send if it came in; it never does.
fn clip_once() -> waverant_standin::Clip {
    static CLIP: std::sync::OnceLock<waverant_standin::Clip> = std::sync::OnceLock::new();
    CLIP.get_or_init(clip).clone()
}
