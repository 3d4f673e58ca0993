//! Requests as no browser sends them: forms by which one request is hidden in another, addresses that climb, heads without
//! end, and connections that only sit there.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use rstest::rstest;
use waverant_standin::{Encoder, EncoderEnd, compare, connect_as, stranger_address};

use crate::house::{Ground, House, clip};

/// What the console's door answers to these bytes until it closes, or says nothing for three seconds.
fn answer_to(house: &House<'_>, bytes: &[u8]) -> String {
    let mut stream = connect_as(stranger_address(3), house.http).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(3))).unwrap();
    let _ = stream.write_all(bytes);
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8_lossy(&answer).into_owned()
}

/// A proxy and we must never see two requests where the other sees one.
#[tokio::test(flavor = "multi_thread")]
async fn no_request_hides_another() {
    let ground = Ground::new().await;
    let house = ground.start();
    let hidden = "GET /health/live HTTP/1.1\r\nhost: x\r\n\r\n";
    let post = "POST /api/v1/findings/ask HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\n";
    for (form, bytes) in [
        (
            "both lengths",
            format!(
                "{post}content-length: {}\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n{hidden}",
                5 + hidden.len()
            ),
        ),
        ("two lengths", format!("{post}content-length: 0\r\ncontent-length: {}\r\n\r\n{hidden}", hidden.len())),
        ("a list of lengths", format!("{post}content-length: 0, {}\r\n\r\n{hidden}", hidden.len())),
        ("a length with a sign", format!("{post}content-length: +0\r\n\r\n{hidden}")),
        ("another coding", format!("{post}transfer-encoding: xchunked\r\n\r\n0\r\n\r\n{hidden}")),
        ("chunked not last", format!("{post}transfer-encoding: chunked, identity\r\n\r\n0\r\n\r\n{hidden}")),
        ("a space before the colon", format!("{post}transfer-encoding : chunked\r\n\r\n0\r\n\r\n{hidden}")),
        ("a folded line", format!("{post}x: y\r\n transfer-encoding: chunked\r\ncontent-length: 0\r\n\r\n{hidden}")),
        (
            "a chunk that is too long",
            format!("{post}transfer-encoding: chunked\r\n\r\nffffffffffffffff1\r\n\r\n{hidden}"),
        ),
        (
            "an old version",
            format!("{}transfer-encoding: chunked\r\n\r\n0\r\n\r\n{hidden}", post.replace("1.1", "1.0")),
        ),
        ("a zero in a head", format!("{post}x: a\0b\r\ncontent-length: 0\r\n\r\n{hidden}")),
    ] {
        let answer = answer_to(&house, bytes.as_bytes());
        assert!(answer.matches("HTTP/1.").count() <= 1, "{form}: two requests were answered: {answer}");
        assert!(
            answer.is_empty() || answer.starts_with("HTTP/1.1 4") || answer.starts_with("HTTP/1.0 4"),
            "{form}: {answer}"
        );
    }
    assert_eq!(house.call_as("", "GET", "/health", None).0, 200);
}

#[rstest]
#[case("/assets/..%2f..%2f..%2fCargo.toml")]
#[case("/assets/%2e%2e/%2e%2e/%2e%2e/Cargo.toml")]
#[case("/assets/../../../Cargo.toml")]
#[case("/api/v1/takes/..%2f..%2fstate/1/file")]
#[case("/api/v1/channels/..%2f..%2fopenapi.json")]
#[case("//etc/passwd")]
#[tokio::test(flavor = "multi_thread")]
async fn addresses_do_not_climb(#[case] path: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let answer = answer_to(&house, format!("GET {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").as_bytes());
    let is_page = answer.starts_with("HTTP/1.1 200") && answer.contains("<div id=\"root\">");
    assert!(is_page || answer.starts_with("HTTP/1.1 4"), "{answer}");
    assert!(!answer.contains("[workspace]") && !answer.contains("root:"), "{answer}");
}

/// Two thousand connections that say nothing, and heads that do not end: bounded, and a show beside them loses nothing.
#[tokio::test(flavor = "multi_thread")]
async fn who_sits_there_takes_nothing_from_shows() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let show = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 14.0)).run());
    house.wait_until("on air", |house| house.live()["state"] == "on air").await;
    let before = house.resident_kib();
    let idle: Vec<TcpStream> =
        (0..2000).filter_map(|number| connect_as(stranger_address(number % 100), house.http).ok()).collect();
    assert!(idle.len() > 1500, "only {} connected", idle.len());
    let began = Instant::now();
    assert_eq!(house.call_as("", "GET", "/health", None).0, 200);
    house.get("/channels");
    assert!(began.elapsed() < Duration::from_secs(10), "others wait {:?}", began.elapsed());
    let endless = format!("GET / HTTP/1.1\r\nhost: x\r\nx: {}\r\n\r\n", "y".repeat(64 * 1024));
    let answer = answer_to(&house, endless.as_bytes());
    assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 431"), "{answer}");
    let many = format!("GET / HTTP/1.1\r\nhost: x\r\n{}\r\n", "a: b\r\n".repeat(2000));
    let answer = answer_to(&house, many.as_bytes());
    assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 431"), "{answer}");
    let grown = house.resident_kib().saturating_sub(before);
    assert!(grown < 48 * 1024, "2,000 idle connections take {grown} KiB");
    let sent = show.await.unwrap().unwrap();
    drop(idle);
    house.ended_session(1).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
}
