//! Findings of a running show: raised in time, told everywhere in one form, muted, cleared, and kept in the report.

use std::collections::BTreeSet;
use std::time::Duration;

use serde_json::{Value, json};
use waverant_standin::{
    Authority, Clip, Encoder, EncoderEnd, Mark, MarkKind, Network, NetworkFaults, Validity, compare,
};

use crate::command_line::Shell;
use crate::house::{Ground, House, clip};
use crate::secure::{use_certificate, write_certificate};

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

/// A destination that demands sound gets silence once somebody asks for it, on the connection that it has.
#[tokio::test(flavor = "multi_thread")]
async fn silence_is_added_where_somebody_asks_for_it() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let strict = house.add_platform("plovio", None).await;
    let other = house.add_platform("quayside", None).await;
    house.call("PATCH", "/destinations/plovio", Some(json!({"limits": {"missing_sound": "warn"}})));
    let show = Encoder::new(Clip::made(&["h264"]).unwrap(), house.encoder(&key, 24.0)).run();
    let shell = Shell { house: &house };
    shell.sign_in();
    let watch = async {
        let remedies = "/channels/finish-line/remedies";
        house.wait_until("missing sound is told", |house| finding(house, "limit_sound").is_some()).await;
        let found = finding(&house, "limit_sound").unwrap();
        assert_eq!(found["cause"], "the stream has no sound and plovio demands some");
        assert_eq!((&found["remedy"]["kind"], &found["destination"]), (&json!("add_silence"), &json!("plovio")));
        assert!(found["remedy"]["text"].as_str().unwrap().starts_with("add silence for plovio"), "{found}");
        for (form, status) in [
            (json!({"code": "nonsense"}), 404),
            (json!({"code": "silence"}), 409),
            (json!({"code": "limit_sound", "destination": "quayside"}), 409),
        ] {
            let (found, problem) = house.try_call("POST", remedies, Some(form));
            assert_eq!(found, status, "{problem}");
        }
        let done = shell.run(&["finding", "carry-out", "finish-line", "limit_sound", "--yes"]);
        assert!(done.starts_with("Done: add silence for plovio"), "{done}");
        house.wait_until("it is told no more", |house| finding(house, "limit_sound").is_none()).await;
        assert_eq!(house.try_call("POST", remedies, Some(json!({"code": "limit_sound"}))).0, 409, "it is done");
    };
    let (sent, ()) = tokio::join!(show, watch);
    let sent = sent.unwrap();
    house.ended_session(1).await;
    assert_eq!(house.get("/destinations")[0]["limits"]["missing_sound"], "add");
    let report = strict.report();
    assert_eq!(report.connections.len(), 1, "the connection is not made anew");
    let received = &report.connections[0].received;
    let pictures: Vec<Mark> = received.iter().filter(|mark| mark.kind.is_picture()).cloned().collect();
    let sounds: Vec<Mark> = received.iter().filter(|mark| mark.kind == MarkKind::Sound).cloned().collect();
    let digests = |marks: &[Mark]| {
        marks.iter().filter(|mark| mark.kind.is_picture()).map(|mark| mark.digest.clone()).collect::<Vec<_>>()
    };
    assert_eq!(digests(&sent.sent), digests(&pictures), "the pictures are whole");
    assert!(sounds.len() > 300, "{} frames of silence", sounds.len());
    assert!(sounds.iter().all(|sound| sound.digest == sounds[0].digest), "one frame over and over");
    let steps: Vec<i64> = sounds
        .windows(2)
        .map(|pair| i64::from(pair[1].timestamp_ms) - i64::from(pair[0].timestamp_ms))
        .filter(|step| !(20..=22).contains(step))
        .collect();
    assert!(steps.is_empty(), "silence has no holes: {steps:?}");
    let last = |marks: &[Mark]| i64::from(marks.last().unwrap().timestamp_ms);
    assert!((last(&sounds) - last(&pictures)).abs() < 60, "silence keeps pace with the pictures");
    assert!(other.report().connections[0].received.iter().all(|mark| mark.kind != MarkKind::Sound));
    let told = house.get("/sessions/1/report").to_string();
    assert!(told.contains("harbour had this done about `limit_sound`"), "{told}");
}

/// A destination whose limits the first track of pictures does not keep is sent one that does.
#[tokio::test(flavor = "multi_thread")]
async fn a_track_that_fits_is_sent_where_somebody_asks_for_it() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    house.call("PATCH", "/destinations/plovio", Some(json!({"limits": {"video_codecs": ["H.264"]}})));
    let show = Encoder::new(Clip::made(&["hevc", "h264", "aac"]).unwrap(), house.encoder(&key, 10.0)).run();
    let watch = async {
        house.wait_until("the codec is told", |house| finding(house, "limit_video_codec").is_some()).await;
        let found = finding(&house, "limit_video_codec").unwrap();
        assert_eq!(found["remedy"]["kind"], "send_track", "{found}");
        let done = house.call("POST", "/channels/finish-line/remedies", Some(json!({"code": "limit_video_codec"})));
        assert!(done["done"].as_str().unwrap().contains("the second track of pictures alone"), "{done}");
        house.wait_until("it is told no more", |house| finding(house, "limit_video_codec").is_none()).await;
    };
    let (sent, ()) = tokio::join!(show, watch);
    let sent = sent.unwrap();
    house.ended_session(1).await;
    assert_eq!(house.get("/destinations")[0]["video_track"], 2);
    let report = platform.report();
    assert_eq!(report.connections.len(), 1);
    let second = sent.sent.iter().filter(|mark| mark.kind.is_picture() && mark.track == 1);
    let second: Vec<_> = second.map(|mark| mark.digest.clone()).collect();
    let received = report.connections[0].received.iter().filter(|mark| mark.kind.is_picture());
    let last: Vec<_> = received.rev().take(60).map(|mark| mark.digest.clone()).collect();
    assert!(last.iter().all(|digest| second.contains(digest)), "at the end it gets the second track alone");
    let (status, problem) = house.try_call("PATCH", "/destinations/plovio", Some(json!({"video_track": 17})));
    assert!(status == 422 && problem["detail"].as_str().unwrap().starts_with("video_track"), "{problem}");
}

/// A certificate that ends in ten days is a finding of the house, until a better one is there.
#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_that_ends_soon_is_told() {
    let ground = Ground::new().await;
    let authority = Authority::new().unwrap();
    write_certificate(&ground, &authority);
    let issued = authority.issue("localhost", Validity::EndsIn(10 * 86_400 + 60)).unwrap();
    std::fs::write(ground.path("certificate.pem"), issued.certificate).unwrap();
    std::fs::write(ground.path("key.pem"), issued.key).unwrap();
    use_certificate(&ground);
    let house = ground.start();
    let of_house = |house: &House<'_>| house.get("/live")["findings"].as_array().unwrap().clone();
    house.wait_until("it is told", |house| !of_house(house).is_empty()).await;
    let found = of_house(&house);
    assert_eq!(
        (&found[0]["code"], &found[0]["severity"]),
        (&json!("certificate_ends"), &json!("warning")),
        "{found:?}"
    );
    assert_eq!(found[0]["cause"], "the certificate ends in 10 days");
    write_certificate(&ground, &authority);
    house.wait_until("it is told no more", |house| of_house(house).is_empty()).await;
}

/// Good shows have no findings: over RTMP, and over SRT on a line that loses one packet in a hundred. For as many seconds
/// as WAVERANT_QUIET_SECONDS says. A machine that stands still for a moment is told, rightly; not three times.
#[tokio::test(flavor = "multi_thread")]
async fn good_shows_have_no_findings() {
    let seconds = std::env::var("WAVERANT_QUIET_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(25.0);
    let ground = Ground::new().await;
    let house = ground.start();
    let first = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "boathouse", "title": "Boathouse", "hold_ms": 0})));
    let second = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "van"})));
    let second = second["encoder"]["key"].as_str().unwrap().to_owned();
    let _platform = house.add_platform("plovio", None).await;
    let mut found = Vec::new();
    for _ in 0..3 {
        found.push(findings_of_good_shows(&house, (&first, &second), seconds).await);
        if found.last().is_some_and(BTreeSet::is_empty) {
            return;
        }
    }
    panic!("{found:#?}");
}

async fn findings_of_good_shows(house: &House<'_>, keys: (&str, &str), seconds: f64) -> BTreeSet<String> {
    let faults = NetworkFaults { loss: 0.01, delay: Duration::from_millis(15), ..NetworkFaults::default() };
    let network = Network::start(house.srt, (faults, faults), 11).await.unwrap();
    let mut over_srt = house.encoder(keys.1, seconds);
    over_srt.server = format!("srt://{}", network.address());
    over_srt.srt.latency = Some(Duration::from_secs(2));
    let shows = [house.encoder(keys.0, seconds), over_srt];
    let shows: Vec<_> = shows.into_iter().map(|options| tokio::spawn(Encoder::new(clip(), options).run())).collect();
    let mut found = BTreeSet::new();
    while !shows.iter().all(tokio::task::JoinHandle::is_finished) {
        for channel in house.get("/live")["channels"].as_array().unwrap() {
            let name = channel["name"].as_str().unwrap();
            let told = channel["findings"].as_array().unwrap().iter();
            found.extend(told.map(|finding| format!("{name}: {} {}", finding["code"], finding["cause"])));
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    for show in shows {
        assert_eq!(show.await.unwrap().unwrap().end, EncoderEnd::Finished);
    }
    found
}

/// More sound than the setting has room for is heard for a part of the time; that is told, and nothing is lost.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_much_to_hear_is_told() {
    let ground = Ground::new().await;
    ground.write_settings("[checkup]\ncpu_percent = 1\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let show = Encoder::new(clip().with_sounds(6), house.encoder(&key, 60.0)).run();
    let watch = async {
        let thinned = |house: &House<'_>| {
            let findings = house.get("/live")["findings"].as_array().cloned().unwrap_or_default();
            findings.into_iter().find(|finding| finding["code"] == "checkup_thinned")
        };
        let deadline = std::time::Instant::now() + Duration::from_secs(55);
        while thinned(&house).is_none() {
            assert!(std::time::Instant::now() < deadline, "it is not told that less is heard");
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        assert!(house.live()["session"]["audio"][0]["heard"].is_object(), "it is still heard now and then");
        house.call("POST", "/channels/finish-line/end-session", None);
    };
    let (sent, ()) = tokio::join!(show, watch);
    assert!(platform.wait_for(crate::house::PATIENCE, |report| report.connections[0].was_ended).await);
    let received = &platform.report().connections[0].received;
    assert_eq!(compare(&sent.unwrap().sent, received, false).fault, None);
}
