//! Figures over time: told while a show goes on and after it, kept over a restart and over a lost database.

use std::process::Command;

use rstest::rstest;
use serde_json::Value;
use waverant_standin::Encoder;

use crate::command_line::Shell;
use crate::house::{Ground, House, clip};

fn series<'a>(told: &'a Value, place: usize, figure: &str, of: &str) -> Option<&'a Value> {
    let all = told["timelines"][place]["series"].as_array().unwrap();
    all.iter().find(|series| series["figure"] == figure && series["of"] == of)
}

fn means(told: &Value, place: usize, figure: &str, of: &str) -> Vec<Option<f64>> {
    let series = series(told, place, figure, of).unwrap_or_else(|| panic!("no {figure} of {of}: {told}"));
    series["mean"].as_array().unwrap().iter().map(Value::as_f64).collect()
}

fn is_full(values: &[Option<f64>], most: f64) -> bool {
    let there = values.iter().flatten().filter(|value| **value > 0.0 && **value <= most).count();
    there * 10 >= values.len() * 7
}

fn timeline(house: &House<'_>, query: &str) -> Value {
    house.get(&format!("/sessions/1/timeline?{query}"))
}

async fn a_show(house: &House<'_>, key: &str, seconds: f64) {
    let show = Encoder::new(clip(), house.encoder(key, seconds)).run();
    let watch = house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying");
    let (sent, ()) = tokio::join!(show, watch);
    sent.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_show_is_told_second_by_second_and_thinned_after_a_restart() {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    a_show(&house, &key, 14.0).await;
    house.ended_session(1).await;
    let told = timeline(&house, "");
    assert_eq!(told["step_s"], 1);
    assert!(is_full(&means(&told, 0, "bitrate", ""), 9000.0), "{told}");
    assert!(is_full(&means(&told, 0, "leg_carrying", "plovio"), 1.0), "{told}");
    assert!(means(&told, 0, "loudness", "1").iter().flatten().all(|loudness| (-70.0..0.0).contains(loudness)));
    let few = timeline(&house, "from_s=2&until_s=8&points=3&figures=bitrate,frame_rate");
    assert_eq!((&few["step_s"], few["timelines"][0]["series"].as_array().unwrap().len()), (&10.into(), 2), "{few}");
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);

    let house = ground.start();
    let again = timeline(&house, "");
    assert_eq!((&again["step_s"], &again["timelines"][0]["channel"]), (&10.into(), &"finish-line".into()));
    let (before, after) = (means(&timeline(&house, "step_s=60"), 0, "bitrate", ""), means(&again, 0, "bitrate", ""));
    assert_eq!((before.len(), after.len()), (1, 2), "14 s are two steps of ten, and one of sixty");
    let lows = series(&again, 0, "bitrate", "").unwrap()["low"].as_array().unwrap();
    assert!(lows[0].as_f64() < after[0], "the lowest is kept beside the mean: {again}");
    assert!(timeline(&house, "step_s=1")["timelines"][0]["series"].as_array().unwrap().is_empty());
    beside_and_ranges(&house, &key).await;
}

/// Two shows beside each other, a channel's shows in a range, the machine; as tables and on the command line.
async fn beside_and_ranges(house: &House<'_>, key: &str) {
    a_show(house, key, 5.0).await;
    house.ended_session(2).await;
    let both = timeline(house, "beside=2");
    assert_eq!((&both["step_s"], both["timelines"].as_array().unwrap().len()), (&10.into(), 2));
    assert_eq!(means(&both, 0, "bitrate", "").len(), means(&both, 1, "bitrate", "").len(), "the same steps");
    let last = house.get("/sessions/2/timeline?last_s=4&beside=1");
    assert!(means(&last, 0, "bitrate", "").iter().any(Option::is_some), "the last seconds of the shorter one: {last}");
    let of_channel = house.get("/channels/finish-line/timeline");
    let sessions: Vec<_> = of_channel["timelines"].as_array().unwrap().iter().map(|told| &told["session"]).collect();
    assert_eq!(sessions, [1, 2]);
    let machine = house.get("/machine/timeline?figures=processor,service_memory");
    assert!(means(&machine, 0, "service_memory", "").iter().flatten().any(|memory| *memory > 1.0), "{machine}");

    let shell = Shell { house };
    shell.sign_in();
    let text = shell.run(&["timeline", "show", "1", "--beside", "2"]);
    assert!(text.contains("session 2 of finish-line") && text.contains("leg_bitrate"), "{text}");
    assert!(shell.run(&["timeline", "channel", "finish-line"]).contains("bitrate"));
    assert!(shell.run(&["timeline", "machine", "--figures", "processor"]).contains("processor"));
    let file = house.ground.path("show.csv");
    let file = file.to_str().unwrap();
    shell.run(&["timeline", "show", "1", "--csv", file]);
    let table = std::fs::read_to_string(file).unwrap();
    let lines: Vec<&str> = table.lines().collect();
    assert!(lines[0].starts_with("session,time,second,bitrate kbit/s,bitrate lowest kbit/s"), "{table}");
    assert_eq!(lines.len(), 3, "{table}");
    assert!(shell.fail(&["timeline", "show", "1", "--csv", file], 2).contains(file), "nothing is written over");
    assert!(shell.run(&["session", "report", "1"]).contains("sound 1 AAC: -"), "loudness is in the report");

    for (query, field) in [
        ("points=0", "points"),
        ("step_s=7", "step_s"),
        ("figures=bitrate,nonsense", "figures"),
        ("from_s=500", "from_s"),
    ] {
        let (status, problem) = house.try_call("GET", &format!("/sessions/1/timeline?{query}"), None);
        assert!(status == 422 && problem["detail"].as_str().unwrap().starts_with(field), "{problem}");
    }
    for (path, status) in [
        ("/sessions/99/timeline", 404),
        ("/sessions/1/timeline?beside=99", 404),
        ("/channels/nowhere/timeline", 404),
        ("/machine/timeline?from=2026-05-17T09:00:00Z&until=2026-05-17T09:00:00Z", 422),
        ("/machine/timeline?from=2020-05-17T09:00:00Z&until=2026-05-17T09:00:00Z", 422),
    ] {
        let (found, problem) = house.try_call("GET", path, None);
        assert_eq!(found, status, "{path}: {problem}");
    }
}

/// The database is lost in the show: where it stays away beyond the stop, the figures lie on the disk until the start.
#[rstest]
#[case::that_stands_still("-STOP")]
#[case::that_is_killed("-KILL")]
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_database_costs_no_figures(#[case] signal: &str) {
    let mut ground = Ground::new().await;
    // The private one, which the test may kill.
    ground.use_database(String::new());
    let mut house = ground.start();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    let ready: Value = serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let database = ready["database_pid"].as_u64().unwrap().to_string();
    let show = Encoder::new(clip(), house.encoder(&key, 12.0)).run();
    let watch = async {
        house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying").await;
        assert!(Command::new("kill").args([signal, &database]).status().unwrap().success());
        tokio::time::sleep(std::time::Duration::from_secs(3)).await;
        let told = timeline(&house, "");
        assert!(is_full(&means(&told, 0, "bitrate", ""), 9000.0), "what runs is told from memory: {told}");
    };
    let (sent, ()) = tokio::join!(show, watch);
    sent.unwrap();
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);
    assert_eq!(ground.path("state/unwritten-figures").exists(), signal == "-STOP", "{}", ground.log());
    let house = ground.start();
    house.wait_until("the file is gone", |house| !house.ground.path("state/unwritten-figures").exists()).await;
    let told = timeline(&house, "");
    assert_eq!(told["step_s"], 10);
    assert!(is_full(&means(&told, 0, "bitrate", ""), 9000.0), "{told}");
}
