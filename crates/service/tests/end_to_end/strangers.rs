//! Callers without a key, who are many: none of them keeps out one who has a key, takes the
//! house's memory, or its records.

use std::io::{Read, Write};
use std::net::{IpAddr, TcpStream};
use std::thread;
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::json;
use waverant_standin::{
    Encoder, EncoderEnd, Flood, FloodHabit, compare, connect_as, guess_passwords, stranger_address,
};

use super::house::{Ground, House, PASSWORD, clip};

/// A right key is on air within this, whatever strangers do; who finds no place waits for ten seconds and more. The
/// machine floods itself here, and runs another test beside.
const ON_AIR: Duration = Duration::from_secs(10);

/// Publishes `count` short shows; they must be on air in time. One of them may be held up by the
/// machine, which floods itself here.
async fn publish_in_time(house: &House<'_>, key: &str, count: usize, is_srt: bool) {
    let mut times = Vec::new();
    for round in 0..count {
        let began = Instant::now();
        let sent = house.publish(house.encoder_at(is_srt, key, 0.4)).await;
        assert_eq!(sent.end, EncoderEnd::Finished, "round {round} after {:?}", began.elapsed());
        let took = began.elapsed().saturating_sub(Duration::from_millis(400));
        times.push(took);
    }
    times.sort_unstable();
    assert!(times[(count - 1) / 2] < ON_AIR && times[count - 1] < 3 * ON_AIR, "{times:?}");
}

/// Nine addresses that held all places kept every encoder out; a thousand must not.
#[rstest]
#[case::silent_of_nine_addresses(FloodHabit::Silent, 9, 40)]
#[case::silent_of_a_thousand(FloodHabit::Silent, 1000, 1)]
#[case::greeting_of_a_thousand(FloodHabit::Greets, 1000, 1)]
#[case::slow_of_a_thousand(FloodHabit::Slow, 1000, 1)]
#[case::redialing_of_a_thousand(FloodHabit::Redials, 1000, 1)]
#[case::two_each_of_a_thousand(FloodHabit::Silent, 1000, 2)]
#[tokio::test(flavor = "multi_thread")]
async fn a_right_key_is_on_air_at_once(#[case] habit: FloodHabit, #[case] addresses: usize, #[case] each: usize) {
    let ground = Ground::new().await;
    ground.write_settings("[limits]\nrtmp_callers = 1024\nrtmp_connections_per_address = 32\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let flood = Flood::start(house.rtmp, habit, addresses, each);
    let deadline = Instant::now() + Duration::from_secs(10);
    while flood.call_count() < 400 {
        assert!(Instant::now() < deadline);
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    publish_in_time(&house, &key, 6, false).await;
    drop(flood);
    let refused = house.get("/live")["refused_counts"].clone();
    let made_room = refused.as_array().unwrap().iter().find(|count| count["reason"] == "made_room");
    // A thousand find a place each; more make room.
    assert!(made_room.is_some() || each == 1, "{refused}");
}

/// Half requests filled the descriptors, and took RTMP with them.
#[tokio::test(flavor = "multi_thread")]
async fn half_requests_take_nobody_a_place() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut half = Vec::new();
    for number in 0..1100 {
        if let Ok(mut stream) = connect_as(stranger_address(number), house.http) {
            let _ = stream.write_all(b"POST /api/v1/sign-in HTTP/1.1\r\nhost: a\r\n");
            half.push(stream);
        }
    }
    let began = Instant::now();
    assert_eq!(house.get("/me")["name"], "harbour");
    assert!(began.elapsed() < ON_AIR, "{:?}", began.elapsed());
    publish_in_time(&house, &key, 2, false).await;
    let open = std::fs::read_dir(format!("/proc/{}/fd", house.child.id())).unwrap().count();
    assert!(open < 400, "{open} descriptors are open");
    tokio::time::sleep(Duration::from_secs(11)).await;
    let is_closed = |stream: &mut TcpStream| {
        let _ = stream.set_read_timeout(Some(Duration::from_millis(200)));
        !matches!(stream.read(&mut [0; 512]), Err(error) if error.kind() == std::io::ErrorKind::WouldBlock)
    };
    let left = half.iter_mut().filter_map(|stream| (!is_closed(stream)).then_some(())).count();
    assert_eq!(left, 0, "half a request is given up after ten seconds");
}

fn ask(house: &House<'_>, from: IpAddr, head: &str, body: &str) -> (u16, String) {
    ask_over(connect_as(from, house.http).unwrap(), house, head, body)
}

fn ask_over(mut stream: TcpStream, house: &House<'_>, head: &str, body: &str) -> (u16, String) {
    let length = body.len();
    let request = format!(
        "{head} HTTP/1.1\r\nhost: {}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\nconnection: close\r\n",
        house.http
    );
    let _ = stream.write_all(format!("{request}\r\n{body}").as_bytes());
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    let status = answer.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    (status, answer)
}

fn sign_in(house: &House<'_>, from: IpAddr, password: &str) -> u16 {
    let form = json!({"name": "harbour", "password": password, "token_label": "x"});
    ask(house, from, "POST /api/v1/sign-in", &form.to_string()).0
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_is_slow_and_the_right_person_comes_in() {
    let ground = Ground::new().await;
    let house = ground.start();
    let began = Instant::now();
    let mut answers = Vec::new();
    while began.elapsed() < Duration::from_secs(4) {
        answers.push(sign_in(&house, stranger_address(1), "wrong password"));
    }
    assert_eq!(answers.iter().filter(|status| **status == 401).count(), 5, "{answers:?}");
    assert!(answers.iter().skip(5).all(|status| *status == 429), "{answers:?}");
    assert_eq!(sign_in(&house, stranger_address(1), PASSWORD), 429, "the right one of a guesser waits as well");
    for number in 10..60 {
        sign_in(&house, stranger_address(number), "wrong password");
    }
    assert_eq!(sign_in(&house, stranger_address(900), PASSWORD), 200);
    let before = house.resident_kib();
    thread::scope(|scope| {
        for number in 0..40 {
            let house = &house;
            scope.spawn(move || sign_in(house, stranger_address(100 + number), "wrong password"));
        }
    });
    let grown = house.resident_kib().saturating_sub(before);
    assert!(grown < 40 * 1024, "forty wrong sign-ins at once leave {grown} KiB");
    let long = json!({"name": "x".repeat(1_000_000), "password": "y"}).to_string();
    assert_eq!(ask(&house, stranger_address(300), "POST /api/v1/sign-in", &long).0, 422);
    let escaped = json!({"name": "\u{1b}[2J\u{9b}31m\n", "password": "y"}).to_string();
    assert_eq!(ask(&house, stranger_address(301), "POST /api/v1/sign-in", &escaped).0, 401);
    let log = ground.log();
    assert!(log.lines().all(|line| line.len() < 2000), "a long line is in the log");
    assert!(!log.chars().any(|letter| letter.is_control() && letter != '\n'), "control characters are in the log");
}

/// A thousand wrong passwords a second, from fifty addresses: a show beside them loses nothing, and the right person
/// comes in. How long that takes is measured by the bench, which has the machine for itself.
#[tokio::test(flavor = "multi_thread")]
async fn a_flood_of_sign_ins_hurts_nobody() {
    const LENGTH: Duration = Duration::from_secs(15);
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    // On a thread of its own: this one is busy with the flood.
    let show = tokio::spawn(Encoder::new(clip(), house.encoder(&key, LENGTH.as_secs_f64() + 4.0)).run());
    house.wait_until("on air", |house| house.live()["state"] == "on air").await;
    let right = |number| sign_in(&house, stranger_address(500 + number), PASSWORD);
    let flood = tokio::task::block_in_place(|| guess_passwords(house.http, "harbour", LENGTH, right));
    assert!(flood.answered > 1500, "only {} wrong passwords were answered: this was no flood", flood.answered);
    assert!(flood.right.len() >= 2 && flood.right.iter().all(|(status, _)| *status == 200), "{:?}", flood.right);
    let sent = show.await.unwrap().unwrap();
    house.ended_session(1).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    let report = house.get("/sessions/1/report").to_string();
    assert!(report.contains(r#""dropped_frame_count":0"#), "{report}");
    assert_eq!(
        report.matches(r#""dropped_frame_count":"#).count(),
        report.matches(r#""dropped_frame_count":0"#).count()
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_run_code_makes_one_administrator() {
    let ground = Ground::new().await;
    std::fs::write(ground.path("administrator.toml"), "").unwrap();
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let without = settings.lines().filter(|line| !line.contains("administrator_file")).collect::<Vec<_>>().join("\n");
    std::fs::write(ground.path("waverant.toml"), without).unwrap();
    let house = ground.start_unsigned();
    let code = std::fs::read_to_string(ground.path("state/first-run-code")).unwrap();
    let answers: Vec<u16> = thread::scope(|scope| {
        let tries = (0..8).map(|number| {
            let form =
                json!({"code": code, "name": format!("harbour-{number}"), "password": PASSWORD, "token_label": "x"});
            let house = &house;
            scope.spawn(move || ask(house, stranger_address(number), "POST /api/v1/first-run", &form.to_string()).0)
        });
        let tries: Vec<_> = tries.collect();
        tries.into_iter().map(|answer| answer.join().unwrap()).collect()
    });
    assert_eq!(answers.iter().filter(|status| **status == 200).count(), 1, "{answers:?}");
}

/// A page of another port of this host is of the same site: the browser sends it the cookie.
#[tokio::test(flavor = "multi_thread")]
async fn other_pages_cannot_make_the_console_do_anything() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let form = json!({"name": "harbour", "password": PASSWORD}).to_string();
    let (status, answer) = ask(&house, stranger_address(1), "POST /api/v1/sign-in", &form);
    assert_eq!(status, 200);
    assert!(answer.to_lowercase().contains("cache-control: no-store"), "{answer}");
    let cookie = answer.lines().find(|line| line.to_lowercase().starts_with("set-cookie: ")).unwrap();
    let cookie = cookie[12..].split(';').next().unwrap().to_owned();
    let call = |more: &str| {
        let mut stream = TcpStream::connect(house.http).unwrap();
        let head = format!(
            "POST /api/v1/channels/finish-line/end-session HTTP/1.1\r\nhost: {}\r\ncookie: {cookie}\r\n",
            house.http
        );
        stream.write_all(format!("{head}{more}content-length: 0\r\nconnection: close\r\n\r\n").as_bytes()).unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer.split(' ').nth(1).unwrap().parse::<u16>().unwrap()
    };
    assert_eq!(call("sec-fetch-site: same-site\r\norigin: http://127.0.0.1:9\r\n"), 403);
    assert_eq!(call("origin: http://127.0.0.1:9\r\n"), 403);
    assert_eq!(call("sec-fetch-site: same-origin\r\n"), 409, "nothing is on air");
}
