//! Findings of a running show: raised in time, told everywhere in one form, muted, cleared, and kept in the report.

use serde_json::{Value, json};
use waverant_standin::{Clip, Encoder, EncoderEnd};

use crate::command_line::Shell;
use crate::house::{Ground, House};

fn findings(house: &House<'_>) -> Vec<Value> {
    house.live()["findings"].as_array().cloned().unwrap_or_default()
}

fn finding(house: &House<'_>, code: &str) -> Option<Value> {
    findings(house).into_iter().find(|finding| finding["code"] == code)
}

/// How long a finding of the report lasted, in seconds from the show's begin.
fn told(report: &Value, code: &str) -> (f64, Option<f64>) {
    let all = report["findings"].as_array().unwrap();
    let found = all.iter().find(|finding| finding["code"] == code).unwrap_or_else(|| panic!("no {code}: {report}"));
    let seconds = |field: &str| found[field].as_f64().map(|millis| millis / 1000.0);
    (seconds("at_ms").unwrap(), seconds("until_ms"))
}

/// Sound whose every sample is known: a tone, then silence, then one channel alone, then a tone that is cut off at full
/// scale, then a good one.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_heard_is_judged_in_time() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    house.change_channel(json!({"loudness_lufs": -16}));
    let parts = [(4, 0.1, 0.1), (14, 0.0, 0.0), (16, 0.1, 0.0), (14, 3.0, 3.0), (24, 0.1, -0.1)];
    let show = Encoder::new(Clip::sounding(&parts), house.encoder(&key, 72.0)).run();
    let watch = async {
        house
            .wait_until("its level is seen", |house| level(house).is_some_and(|peak| (-21.0..-19.0).contains(&peak)))
            .await;
        house.wait_until("silence is told", |house| finding(house, "silence").is_some()).await;
        let silence = finding(&house, "silence").unwrap();
        assert_eq!(
            (&silence["severity"], &silence["destinations"]),
            (&json!("warning"), &json!(["plovio"])),
            "{silence}"
        );
        assert!(
            silence["cause"].as_str().unwrap().starts_with("the sound is silent: below -60 dBFS for 1"),
            "{silence}"
        );
        house.wait_until("a dead channel is told", |house| finding(house, "channel_dead").is_some()).await;
        let dead = finding(&house, "channel_dead").unwrap();
        assert_eq!(dead["cause"], "the right channel of the sound is silent, the other one is not");
        house.wait_until("clipping is told", |house| finding(house, "clipping").is_some()).await;
        house.wait_until("too loud is told", |house| finding(house, "too_loud").is_some()).await;
        house.wait_until("turned channels are told", |house| finding(house, "out_of_phase").is_some()).await;
    };
    let (sent, ()) = tokio::join!(show, watch);
    assert_eq!(sent.unwrap().end, EncoderEnd::Finished);
    house.ended_session(1).await;
    let report = house.get("/sessions/1/report");
    // When each began and ended, within what listening twice and judging once a second add.
    for (code, begins, ends) in [("silence", 14.0, 18.0), ("channel_dead", 28.0, 34.0), ("clipping", 34.0, 58.0)] {
        let (from, until) = told(&report, code);
        assert!((begins - 0.5..begins + 4.0).contains(&from), "{code} from {from}: {report}");
        assert!(
            until.is_some_and(|until| (ends - 1.0..ends + 5.0).contains(&until)),
            "{code} until {until:?}: {report}"
        );
    }
}

fn level(house: &House<'_>) -> Option<f64> {
    house.live()["session"]["audio"][0]["heard"]["channels"][0]["peak"].as_f64()
}

/// A stream without sound: told on board and command line, explained to who asks with a platform's words, muted for the
/// show, and kept.
#[tokio::test(flavor = "multi_thread")]
async fn a_finding_is_told_explained_and_muted() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    let shell = Shell { house: &house };
    shell.sign_in();
    assert_eq!(shell.run(&["finding", "list"]), "Nothing is wrong.\n");
    let refused = shell.fail(&["finding", "mute", "finish-line", "sound_missing"], 1);
    assert!(refused.contains("is not on air"), "{refused}");
    let show = Encoder::new(Clip::made(&["h264"]).unwrap(), house.encoder(&key, 12.0)).run();
    let watch = async {
        house.wait_until("it is told", |house| finding(house, "sound_missing").is_some()).await;
        let listed = shell.run(&["finding", "list"]);
        assert!(listed.contains("sound_missing") && listed.contains("plovio"), "{listed}");
        assert!(shell.run(&["live", "show"]).contains("finish-line: the stream has no track of sound [plovio]"));
        let asked = shell.run(&["finding", "ask", "No", "audio", "detected"]);
        assert!(asked.starts_with("sound_missing (warning)") && asked.contains("it stands on finish-line"), "{asked}");
        assert!(asked.contains("finish-line: no sound comes in"), "{asked}");
        shell.run(&["finding", "mute", "finish-line", "sound_missing"]);
        assert_eq!(finding(&house, "sound_missing").unwrap()["is_muted"], true);
        shell.run(&["finding", "unmute", "finish-line", "sound_missing"]);
        assert_eq!(finding(&house, "sound_missing").unwrap()["is_muted"], false);
        let refused = shell.fail(&["finding", "mute", "finish-line", "tide"], 1);
        assert!(refused.contains("There is no finding `tide`."), "{refused}");
    };
    let (sent, ()) = tokio::join!(show, watch);
    assert_eq!(sent.unwrap().end, EncoderEnd::Finished);
    house.ended_session(1).await;
    let report = house.get("/sessions/1/report");
    assert_eq!(told(&report, "sound_missing").1, None, "it stood at the end: {report}");
    let printed = shell.run(&["session", "report", "1"]);
    assert!(
        printed.contains("to the end: the stream has no track of sound [plovio]: add a source of sound"),
        "{printed}"
    );
}

/// What cannot be asked is refused with what was found and expected.
#[tokio::test(flavor = "multi_thread")]
async fn complaints_are_bounded() {
    let ground = Ground::new().await;
    let house = ground.start();
    let ask = |complaint: &str, channel: Value| {
        house.try_call("POST", "/findings/ask", Some(json!({"complaint": complaint, "channel": channel})))
    };
    assert_eq!(ask(&"x".repeat(501), Value::Null).0, 422);
    assert_eq!(ask(" ", Value::Null).0, 422);
    assert_eq!(ask("no audio", json!("nowhere")).0, 404);
    let (status, answer) = ask("the tide is out", Value::Null);
    assert_eq!((status, &answer["likely"]), (200, &json!([])));
}
