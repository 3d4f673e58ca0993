use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use rstest::rstest;
use waverant_standin::{Crowd, Encoder, EncoderEnd, compare};

use crate::house::{Ground, House, PATIENCE, clip};

/// A database of the house's own is looked at before the show.
#[tokio::test(flavor = "multi_thread")]
async fn the_check_looks_at_the_database() {
    let ground = Ground::new().await;
    let check = || {
        let output = ground.command().arg("check").output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (_, told) = check();
    assert!(told.contains("ok   database.url can be used: ") && told.contains("MariaDB"), "{told}");
    assert!(told.contains("open files are allowed; the doors may take"), "{told}");
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let (user, rest) = settings.split_once("mysql://waverant:").unwrap();
    let (password, rest) = rest.split_once('@').unwrap();
    std::fs::write(ground.path("waverant.toml"), format!("{user}mysql://waverant:wrong-one@{rest}")).unwrap();
    let (code, told) = check();
    assert_eq!(code, Some(1));
    assert!(told.contains("FAIL database.url: the server refuses") && told.contains("check user, password"), "{told}");
    assert!(!told.contains("wrong-one") && !told.contains(password), "{told}");
}

/// What a connection gets until it is closed; fails if it is not closed in time.
fn read_until_closed(mut stream: TcpStream) -> Vec<u8> {
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    let mut got = Vec::new();
    match stream.read_to_end(&mut got) {
        Ok(_) => {}
        Err(error) => assert_eq!(error.kind(), std::io::ErrorKind::ConnectionReset, "{error}"),
    }
    got
}

fn reasons(house: &House<'_>) -> Vec<(String, String)> {
    let listed = house.get("/turned-away?limit=500");
    let text = |item: &serde_json::Value, field: &str| item[field].as_str().unwrap().to_owned();
    listed["items"].as_array().unwrap().iter().map(|item| (text(item, "reason"), text(item, "detail"))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_broken_settings_file_is_named_with_its_place() {
    let ground = Ground::new().await;
    std::fs::write(ground.path("waverant.toml"), "[listen]\nrtmp = \"0.0.0.0:1935\n").unwrap();
    let (code, errors) = ground.run_to_end();
    assert_eq!(code, Some(2));
    assert!(errors.contains("waverant.toml:2:21: "), "{errors}");
    std::fs::remove_file(ground.path("waverant.toml")).unwrap();
    let (code, errors) = ground.run_to_end();
    assert_eq!(code, Some(2));
    assert!(errors.contains("waverant.toml: No such file"), "{errors}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_port_in_use_is_named() {
    let ground = Ground::new().await;
    let holder = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = holder.local_addr().unwrap();
    let output = ground.command().env("WAVERANT_LISTEN_RTMP", address.to_string()).output().unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(2));
    assert!(errors.contains(&format!("listen.rtmp {address}: ")), "{errors}");
    assert!(errors.contains("another program listens there"), "{errors}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unwritable_recordings_folder_is_named() {
    let ground = Ground::new().await;
    std::fs::write(ground.path("recordings"), "in the way").unwrap();
    let (code, errors) = ground.run_to_end();
    assert_eq!(code, Some(2));
    assert!(errors.contains("recordings folder") && errors.contains("cannot be written"), "{errors}");
    let output = ground.command().arg("check").output().unwrap();
    assert_eq!(output.status.code(), Some(1), "check says so too");
    assert!(String::from_utf8_lossy(&output.stdout).contains("FAIL recordings folder"));
}

#[tokio::test(flavor = "multi_thread")]
async fn garbage_is_closed_at_once_and_listed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let mut stream = TcpStream::connect(house.rtmp).unwrap();
    stream.write_all(b"GET / HTTP/1.1\r\nHost: relay\r\n\r\n").unwrap();
    let began = Instant::now();
    assert!(read_until_closed(stream).is_empty());
    assert!(began.elapsed() < Duration::from_secs(15));
    house.wait_until("it is listed", |house| !reasons(house).is_empty()).await;
    let (reason, detail) = reasons(&house).remove(0);
    assert_eq!(reason, "not_understood");
    assert!(detail.contains("the first byte is 0x47"), "{detail}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_message_of_sixteen_megabytes_is_refused() {
    let ground = Ground::new().await;
    let house = ground.start();
    let mut stream = house.greet();
    // Type 0 header on chunk stream 3: a command of 0xffffff bytes.
    stream.write_all(&[3, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0]).unwrap();
    read_until_closed(stream);
    house.wait_until("it is listed", |house| !reasons(house).is_empty()).await;
    let (reason, detail) = reasons(&house).remove(0);
    assert_eq!(reason, "not_understood");
    assert!(detail.contains("16777215 bytes was announced, the limit is 65536"), "{detail}");
}

/// 200 callers who mean no good (silent, slow, garbage, huge lengths, endless pings) and come
/// again whenever they are sent away: the show is not hurt and memory stays bounded. What they cost
/// in latency is measured by the benchmark.
#[tokio::test(flavor = "multi_thread")]
async fn two_hundred_hostile_connections_hurt_nobody() {
    let ground = Ground::new().await;
    ground.write_settings("[limits]\nhandshake_timeout_s = 2\nsetup_timeout_s = 3\nrtmp_connections = 300\nrtmp_connections_per_address = 300\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let before = house.resident_kib();
    let crowd = Crowd::start(house.rtmp, 200);
    let publish = house.publish(house.encoder(&key, 6.0));
    let watch = async {
        let mut most = before;
        for _ in 0..60 {
            tokio::time::sleep(Duration::from_millis(100)).await;
            most = most.max(house.resident_kib());
        }
        most
    };
    let (sent, most) = tokio::join!(publish, watch);
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    let grown = most.saturating_sub(before);
    assert!(grown < 64 * 1024, "memory grew by {grown} KiB");
    assert!(crowd.connection_count() > 300, "they came again: {}", crowd.connection_count());
    drop(crowd);
    let counts = house.get("/live")["refused_counts"].clone();
    let count = |reason: &str| {
        let counts = counts.as_array().unwrap().iter();
        counts.filter(|count| count["reason"] == reason).map(|count| count["count"].as_u64().unwrap()).sum::<u64>()
    };
    assert!(count("too_slow") >= 40 && count("not_understood") >= 120, "{counts}");
    // All of one address are a few groups, and every one is counted.
    let listed = |house: &House<'_>| -> u64 {
        let groups = house.get("/turned-away?limit=500")["items"].clone();
        groups.as_array().unwrap().iter().map(|group| group["count"].as_u64().unwrap()).sum()
    };
    house.wait_until("they are listed", |house| listed(house) >= 160).await;
    assert!(reasons(&house).len() <= 10, "{:?}", reasons(&house));
    // Of the log the first twenty in ten seconds are enough.
    assert!(ground.log().contains("more from this address, or of all, are only counted"));
    // And afterwards the door is open as before.
    let again = house.publish(house.encoder(&key, 1.0)).await;
    assert_eq!(again.end, EncoderEnd::Finished);
}

/// Who waits makes room for whoever comes; who was let in does not, and then the next is told.
#[rstest]
#[case::in_all("rtmp_connections = 1\nrtmp_callers = 2", "too_many_connections")]
#[case::of_one_address("rtmp_connections_per_address = 2", "too_many_from_address")]
#[tokio::test(flavor = "multi_thread")]
async fn more_connections_than_allowed_make_room_or_are_told(#[case] limits: &str, #[case] reason: &str) {
    let ground = Ground::new().await;
    ground.write_settings(&format!("[limits]\n{limits}\n"));
    let house = ground.start();
    let first = TcpStream::connect(house.rtmp).unwrap();
    let _second = TcpStream::connect(house.rtmp).unwrap();
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let _third = TcpStream::connect(house.rtmp).unwrap();
    read_until_closed(first);
    house.wait_until("it is listed", |house| !reasons(house).is_empty()).await;
    assert_eq!(reasons(&house)[0].0, "made_room");
    let key = house.make_channel(0);
    let other = house.make_key("other", 1);
    let publish = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 4.0)).run());
    let is_on_air = |house: &crate::house::House<'_>| house.live()["session"]["video"].is_object();
    house.wait_until("on air", is_on_air).await;
    let second = tokio::spawn(Encoder::new(clip(), house.encoder(&other, 4.0)).run());
    tokio::time::sleep(Duration::from_secs(1)).await;
    house.publish(house.encoder(&other, 1.0)).await;
    let is_told = |house: &crate::house::House<'_>| reasons(house).iter().any(|(found, _)| found == reason);
    house.wait_until("it is listed", is_told).await;
    assert_eq!(publish.await.unwrap().unwrap().end, EncoderEnd::Finished);
    second.abort();
}
