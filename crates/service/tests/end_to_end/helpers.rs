//! The processes that decode pictures and sound: what they may do, and what their death costs.

use std::fs;
use std::time::Duration;

use waverant_standin::{Encoder, EncoderEnd, compare};

use crate::house::{Ground, House, PATIENCE, clip};

/// The processes that this house began as helpers.
fn helpers(house: &House<'_>) -> Vec<u32> {
    let own = house.pid().to_string();
    let ids = fs::read_dir("/proc").unwrap().filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok());
    let is_ours = |id: &u32| {
        let read = |name: &str| fs::read_to_string(format!("/proc/{id}/{name}")).unwrap_or_default();
        let stat = read("stat");
        let parent = stat.rsplit(") ").next().unwrap_or("").split(' ').nth(1).unwrap_or("").to_owned();
        parent == own && read("cmdline").ends_with("\0helper\0")
    };
    ids.filter(is_ours).collect()
}

fn status(id: u32, field: &str) -> String {
    let text = fs::read_to_string(format!("/proc/{id}/status")).unwrap_or_default();
    let line = text.lines().find(|line| line.starts_with(field)).unwrap_or_default();
    line.rsplit('\t').next().unwrap_or_default().to_owned()
}

/// A helper that dies over and over, as one does that a hostile picture broke: no frame of the show is lost, and pictures
/// and levels come again.
#[tokio::test(flavor = "multi_thread")]
async fn a_helper_that_dies_costs_no_show_anything() {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let encoder = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 12.0)).run());
    house.wait_until("the show is looked at", |house| !helpers(house).is_empty()).await;
    let id = helpers(&house)[0];
    house.wait_until("it is confined", |_| status(id, "Seccomp:") == "2").await;
    assert_eq!(status(id, "NoNewPrivs:"), "1");
    let open =
        fs::read_dir(format!("/proc/{id}/fd")).unwrap().filter_map(|entry| fs::read_link(entry.ok()?.path()).ok());
    let open: Vec<String> = open.map(|path| path.to_string_lossy().into_owned()).collect();
    let sockets = open.iter().filter(|path| path.starts_with("socket:")).collect::<std::collections::BTreeSet<_>>();
    // Pipes are what this test's own shell left open.
    let is_harmless = |path: &String| path == "/dev/null" || path.starts_with("socket:") || path.starts_with("pipe:");
    assert!(sockets.len() == 1 && open.iter().all(is_harmless), "{open:?}");
    let environment = String::from_utf8_lossy(&fs::read(format!("/proc/{id}/environ")).unwrap()).into_owned();
    assert!(!environment.contains("WAVERANT") && !environment.contains("PATH"), "{environment}");
    for _ in 0..5 {
        for id in helpers(&house) {
            let _ = std::process::Command::new("kill").args(["-KILL", &id.to_string()]).status();
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    house
        .wait_until("there are stills", |house| {
            house.try_fetch("/channels/finish-line/still").is_some_and(|jpeg| jpeg.starts_with(&[0xff, 0xd8]))
        })
        .await;
    let sent = encoder.await.unwrap().unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished);
    house.ended_session(1).await;
    assert!(platform.wait_for(PATIENCE, |report| report.connections.len() == 1).await);
    let report = platform.report();
    assert_eq!(compare(&sent.sent, &report.connections[0].received, true).fault, None);

    // With the service they go, too, however it goes.
    let _encoder = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 30.0)).run());
    house.wait_until("the next show is looked at", |house| !helpers(house).is_empty()).await;
    let left = helpers(&house);
    house.signal("-KILL");
    house.wait_for_exit();
    for _ in 0..100 {
        if left.iter().all(|id| !fs::exists(format!("/proc/{id}/fd/0")).unwrap_or(false)) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("helpers of a service that was killed: {left:?}");
}
