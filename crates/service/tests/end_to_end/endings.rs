//! Ends that come by themselves: keys and tokens whose time is over, and a stop while the database is away.

use std::io::{BufRead, BufReader};
use std::os::unix::net::UnixDatagram;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::json;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_standin::EncoderEnd;

use crate::house::{Ground, PASSWORD, PATIENCE};

/// Keys end at a time of the day, whoever publishes or watches with them.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_key_whose_time_is_over_ends_its_show(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(20_000);
    let end = OffsetDateTime::now_utc() + Duration::from_secs(4);
    let made = house.call(
        "POST",
        "/channels/finish-line/keys",
        Some(json!({"label": "guest", "expires_at": end.format(&Rfc3339).unwrap()})),
    );
    let key = made["encoder"]["key"].as_str().unwrap().to_owned();
    let sent = house.publish(house.encoder_at(is_srt, &key, 15.0)).await;
    let late = OffsetDateTime::now_utc() - end;
    let EncoderEnd::Refused { description, .. } = sent.end else { panic!("{:?}", sent.end) };
    // SRT has no words for it once a connection stands.
    assert!(is_srt || description.contains("the stream key has expired"), "{description}");
    assert!(late.is_positive() && late < Duration::from_secs(4), "ended {late} after its time");
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the stream key has expired");
    assert_eq!(session["takes"][0]["state"], "complete");
}

/// A page that is open closes when its token is withdrawn.
#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_is_withdrawn_ends_its_event_stream() {
    let ground = Ground::new().await;
    let house = ground.start();
    let form = json!({"name": "harbour", "password": PASSWORD, "token_label": "wall screen", "token_days": 7});
    let token = house.call("POST", "/sign-in", Some(form))["token"].as_str().unwrap().to_owned();
    let mut response = ureq::get(format!("http://{}/api/v1/live/events", house.http))
        .header("authorization", format!("Bearer {token}"))
        .call()
        .unwrap();
    let tokens = house.get("/tokens");
    let mine = tokens.as_array().unwrap().iter().find(|token| token["label"] == "wall screen").unwrap();
    assert!(mine["expires_at"].is_string());
    tokio::task::block_in_place(|| {
        let mut lines = BufReader::new(response.body_mut().as_reader()).lines();
        lines.next().unwrap().unwrap();
        house.call("DELETE", &format!("/tokens/{}", mine["id"]), None);
        let began = Instant::now();
        for line in lines {
            assert!(line.is_ok() && began.elapsed() < Duration::from_secs(20), "it goes on");
        }
    });
}

/// The database is stopped in mid-show: the board can be seen, the show ended, and the service stopped in
/// time; and the next start has the records.
#[rstest]
#[case::with_its_database_stopped("-STOP")]
#[case::with_its_database_gone("-KILL")]
#[tokio::test(flavor = "multi_thread")]
async fn a_stop_without_a_database_loses_no_record(#[case] signal: &str) {
    let ground = Ground::new().await;
    ground.use_private_database();
    let mut house = ground.start();
    let key = house.make_channel(0);
    house.get("/live");
    let ready: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let database = ready["database_pid"].as_u64().unwrap().to_string();
    assert!(std::process::Command::new("kill").args([signal, &database]).status().unwrap().success());
    for _ in 0..2 {
        house.publish(house.encoder(&key, 1.0)).await;
    }
    let publish = tokio::spawn(waverant_standin::Encoder::new(crate::house::clip(), house.encoder(&key, 10.0)).run());
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
    house.call("POST", "/channels/finish-line/end-session", None);
    publish.await.unwrap().unwrap();
    let began = Instant::now();
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    // Fifteen seconds, and what a busy machine adds.
    assert!(began.elapsed() < Duration::from_secs(25), "it took {:?}", began.elapsed());
    drop(house);
    let house = ground.start();
    for session in 1..=3 {
        let record = house.ended_session(session).await;
        let reason = if session == 3 { "ended by harbour" } else { "the encoder stopped" };
        assert_eq!(record["session"]["end_reason"], reason, "{record}");
        assert_eq!(record["takes"][0]["state"], "complete");
    }
    assert!(!ground.path("state/unwritten-records.json").exists(), "they are written");
}

/// A supervisor is told when doors are open, that we live, how it stands, and that we stop.
#[tokio::test(flavor = "multi_thread")]
async fn a_supervisor_is_told() {
    let ground = Ground::new().await;
    let path = ground.path("supervisor");
    let supervisor = UnixDatagram::bind(&path).unwrap();
    supervisor.set_read_timeout(Some(PATIENCE)).unwrap();
    let hear = |what: &str| {
        let mut told = vec![0; 4096];
        loop {
            let length = supervisor.recv(&mut told).expect(what);
            let told = String::from_utf8_lossy(&told[..length]).into_owned();
            if told.lines().any(|line| line.starts_with(what)) {
                return told;
            }
        }
    };
    let mut command = ground.command();
    command.env("NOTIFY_SOCKET", &path).env("WATCHDOG_USEC", "2000000");
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    tokio::task::block_in_place(|| {
        let ready = hear("READY=1");
        assert!(ready.contains("STATUS=no show on air"), "{ready}");
        assert!(ground.path("ready.json").exists(), "doors are open");
        hear("WATCHDOG=1");
        hear("WATCHDOG=1");
        let status = Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap();
        assert!(status.success());
        assert!(hear("STOPPING=1").contains("STATUS=stopping: no show on air"));
        assert_eq!(child.wait().unwrap().code(), Some(0));
    });
}
