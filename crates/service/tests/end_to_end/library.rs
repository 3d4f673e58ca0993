//! The library: found, changed, fetched in any form, kept by rule, copied away and back.

use std::time::Duration;

use serde_json::{Value, json};
use waverant_standin::{Club, ClubAnswer, compare, first_difference, read_take};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD};
use crate::object_storage::ObjectStorage;

/// Asks for a file with headers of one's own.
fn ask(house: &House<'_>, path: &str, headers: &[(&str, &str)]) -> ureq::http::Response<ureq::Body> {
    let signed_in =
        house.call("POST", "/sign-in", Some(json!({"name": "harbour", "password": PASSWORD, "token_label": "t"})));
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let url = format!("http://{}/api/v1{path}", house.http);
    let mut request = ureq::http::Request::builder().uri(url);
    request = request.header("authorization", format!("Bearer {}", signed_in["token"].as_str().unwrap()));
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    agent.run(request.body(()).unwrap()).unwrap()
}

fn header(response: &ureq::http::Response<ureq::Body>, name: &str) -> String {
    response.headers().get(name).map(|value| value.to_str().unwrap().to_owned()).unwrap_or_default()
}

async fn digest_of(house: &House<'_>, path: &str) -> String {
    house.wait_until("the digest is known", |house| house.get(path)["sha256"].is_string()).await;
    house.get(path)["sha256"].as_str().unwrap().to_owned()
}

/// Waits for a job; returns it.
async fn job(house: &House<'_>, begun: &Value) -> Value {
    let path = format!("/jobs/{}", begun["id"]);
    let is_over = |house: &House<'_>| ["done", "failed"].contains(&house.get(&path)["state"].as_str().unwrap());
    house.wait_until("the job is over", is_over).await;
    house.get(&path)
}

/// Validators, ranges and digests, of the file as it was recorded and of what is laid out from it.
#[tokio::test(flavor = "multi_thread")]
async fn a_take_is_fetched_in_any_form_and_part() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let sent = house.publish(house.encoder(&key, 5.0)).await;
    house.ended_session(1).await;
    digest_of(&house, "/takes/1/1").await;
    let recorded = house.fetch("/takes/1/1/file");
    for path in ["/takes/1/1/file", "/takes/1/1/mp4", "/takes/1/1/sound/1"] {
        let whole = house.fetch(path);
        let first = ask(&house, path, &[("range", "bytes=0-99")]);
        let tag = header(&first, "etag");
        assert!(tag.len() > 10 && !tag.starts_with("W/"), "{path}: {tag}");
        assert_eq!((first.status().as_u16(), header(&first, "content-length").as_str()), (206, "100"));
        let mut rest = ask(&house, path, &[("range", "bytes=100-"), ("if-range", &tag)]);
        assert_eq!(rest.status(), 206);
        assert_eq!(rest.body_mut().with_config().limit(1 << 30).read_to_vec().unwrap(), whole[100..], "{path}");
        assert_eq!(ask(&house, path, &[("range", "bytes=100-"), ("if-range", "\"other\"")]).status(), 200);
        assert_eq!(ask(&house, path, &[("if-none-match", &tag)]).status(), 304);
        let beyond = ask(&house, path, &[("range", "bytes=999999999-")]);
        assert_eq!(
            (beyond.status().as_u16(), header(&beyond, "content-range")),
            (416, format!("bytes */{}", whole.len()))
        );
    }
    let told = ask(&house, "/takes/1/1/file?download=true", &[]);
    assert!(header(&told, "repr-digest").starts_with("sha-256=:"), "{told:?}");
    assert!(header(&told, "content-disposition").starts_with("attachment; filename=\""));

    let plain = ground.path("plain.mp4");
    std::fs::write(&plain, house.fetch("/takes/1/1/mp4")).unwrap();
    assert_eq!(compare(&sent.sent, &read_take(&plain).unwrap().0, true).fault, None);
    std::fs::write(&plain, house.fetch("/takes/1/1/sound/1")).unwrap();
    let sound = std::process::Command::new("mediainfo").arg(&plain).output().unwrap();
    let said = String::from_utf8_lossy(&sound.stdout).into_owned();
    assert!(said.contains("Audio") && !said.contains("Video"), "{said}");
    assert!(ask(&house, "/takes/1/1/sound/2", &[]).status() == 422);

    for path in ["/takes/1/1/strip", "/takes/1/1/still?at_ms=2500"] {
        let jpeg = house.fetch(path);
        assert_eq!((&jpeg[..3], &jpeg[jpeg.len() - 2..]), (&[0xff, 0xd8, 0xff][..], &[0xff, 0xd9][..]), "{path}");
    }

    // The command line takes up a fetch that was broken off, and looks at what came.
    let shell = Shell { house: &house };
    shell.sign_in();
    let target = ground.path("fetched.mp4");
    std::fs::write(ground.path("fetched.mp4.partial"), &recorded[..1000]).unwrap();
    let tag = header(&ask(&house, "/takes/1/1/file", &[]), "etag");
    std::fs::write(ground.path("fetched.mp4.partial-tag"), &tag).unwrap();
    shell.run(&["take", "fetch", "1", "--output", target.to_str().unwrap()]);
    assert_eq!(std::fs::read(&target).unwrap(), recorded);
    std::fs::remove_file(&target).unwrap();
    std::fs::write(ground.path("fetched.mp4.partial"), vec![0; 1000]).unwrap();
    std::fs::write(ground.path("fetched.mp4.partial-tag"), &tag).unwrap();
    assert!(shell.fail(&["take", "fetch", "1", "--output", target.to_str().unwrap()], 1).contains("not what was sent"));
}

/// Found by channel, day and length; titled, locked, cut, removed and had back.
#[tokio::test(flavor = "multi_thread")]
async fn takes_are_found_changed_cut_and_removed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let sent = house.publish(house.encoder(&key, 7.0)).await;
    house.publish(house.encoder(&key, 1.5)).await;
    house.ended_session(2).await;
    let shell = Shell { house: &house };
    shell.sign_in();
    let listed = |arguments: &[&str]| -> Vec<u64> {
        let answer = shell.json(&[&["take", "list"], arguments].concat());
        answer["items"].as_array().unwrap().iter().map(|take| take["session"].as_u64().unwrap()).collect()
    };
    let today = house.get("/takes/1/1")["started_at"].as_str().unwrap().get(..10).unwrap().to_owned();
    assert_eq!(listed(&["--channel", "finish-line", "--day", &today]), [2, 1]);
    assert_eq!(listed(&["--longer", "5"]), [1]);
    assert_eq!(listed(&["--shorter", "5"]), [2]);
    assert_eq!(listed(&["--limit", "1", "--before", "2.1"]), [1]);
    assert!(listed(&["--day", "2001-01-01"]).is_empty() && listed(&["--channel", "boathouse"]).is_empty());
    assert_eq!(house.get("/takes?limit=1")["next"], "2.1");

    shell.run(&["take", "note", "1", "--title", "Heat 2", "--note", "wind from the side"]);
    shell.run(&["take", "lock", "1"]);
    let shown = shell.run(&["take", "show", "1"]);
    assert!(shown.contains("title: Heat 2") && shown.contains("complete, locked"), "{shown}");
    assert!(shell.fail(&["take", "remove", "1", "--yes"], 1).contains("is locked"));
    shell.run(&["take", "unlock", "1"]);
    assert!(shell.fail(&["take", "remove", "1"], 2).contains("say --yes"));
    shell.run(&["take", "remove", "1", "--yes"]);
    assert_eq!((listed(&[]), listed(&["--removed"])), (vec![2], vec![1]));
    shell.run(&["take", "undo-removal", "1"]);
    assert_eq!(listed(&[]), [2, 1]);

    // Keyframes are two seconds apart.
    let made = shell.json(&["take", "cut", "1", "--from", "2.5", "--to", "3.5", "--title", "The finish"]);
    assert_eq!((&made["session"], &made["take"]), (&json!(1), &json!(2)));
    let cut = house.get("/takes/1/2");
    assert_eq!((&cut["title"], &cut["cut_from"], &cut["state"]), (&json!("The finish"), &json!(1), &json!("complete")));
    let file = ground.path("recordings").join(cut["path"].as_str().unwrap());
    let (marks, seconds) = read_take(&file).unwrap();
    assert_eq!(compare(&sent.sent, &marks, false).fault, None);
    assert!((1.9..2.2).contains(&seconds), "{seconds} s");
    let (status, problem) = house.try_call("POST", "/takes/1/1/cut", Some(json!({"from_ms": 5, "to_ms": 5})));
    assert_eq!((status, problem["code"].as_str()), (422, Some("invalid_field")));
    let begun = house.call("POST", "/takes/1/1/cut", Some(json!({"from_ms": 900_000})));
    let failed = job(&house, &begun).await;
    assert_eq!(failed["state"], "done", "a cut that begins behind the end begins at the last keyframe");
}

/// A take that was spoilt is found out, and one that was cut off is mended on demand.
#[tokio::test(flavor = "multi_thread")]
async fn spoilt_takes_are_found_out() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let sent = house.publish(house.encoder(&key, 4.0)).await;
    house.ended_session(1).await;
    digest_of(&house, "/takes/1/1").await;
    let file = ground.path("recordings").join(house.get("/takes/1/1")["path"].as_str().unwrap());
    let whole = std::fs::read(&file).unwrap();
    std::fs::write(&file, &whole[..whole.len() * 3 / 4]).unwrap();
    let shell = Shell { house: &house };
    shell.sign_in();
    let output = shell.run_with(&["recordings", "verify", "1"], "");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(1), "{said}");
    for part in ["unfinished piece", "no index", "NOT as recorded", "its SHA-256 is another"] {
        assert!(said.contains(part), "`{part}` is missing in: {said}");
    }
    assert!(shell.run(&["take", "mend", "1"]).contains("the index was written"));
    assert_eq!(first_difference(&sent.sent, &read_take(&file).unwrap().0), None);
    digest_of(&house, "/takes/1/1").await;
    assert!(shell.run(&["recordings", "verify", "1"]).contains("Nothing is wrong with it."));
    assert!(shell.fail(&["take", "mend", "1"], 1).contains("Nothing is missing"));
    std::fs::write(&file, b"no file at all").unwrap();
    assert!(shell.fail(&["recordings", "verify", "1"], 1).contains("neither MP4 nor Matroska"));
}

/// What the rules do not keep goes, what is locked stays, and removed takes go when their time is up.
#[tokio::test(flavor = "multi_thread")]
async fn rules_remove_the_oldest() {
    let ground = Ground::new().await;
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let settings = settings.replace("recordings_floor_mib = 0", "recordings_floor_mib = 0\ntake_undo_s = 1");
    std::fs::write(ground.path("waverant.toml"), settings).unwrap();
    let house = ground.start();
    let key = house.make_channel(0);
    for session in 1..=4 {
        house.publish(house.encoder(&key, 1.2)).await;
        house.ended_session(session).await;
    }
    house.call("PATCH", "/takes/1/1", Some(json!({"is_locked": true})));
    let path = |session: u64| {
        ground.path("recordings").join(house.get(&format!("/takes/{session}/1"))["path"].as_str().unwrap())
    };
    let paths: Vec<_> = (1..=4).map(path).collect();
    house.call("PATCH", "/channels/finish-line", Some(json!({"recording": {"keep_count": 2}})));
    house.wait_until("the oldest is gone", |house| house.try_call("GET", "/takes/2/1", None).0 == 404).await;
    // The record goes first: what is removed is claimed there.
    house.wait_until("its file is gone", |_| !paths[1].exists()).await;
    let there: Vec<bool> = paths.iter().map(|path| path.exists()).collect();
    assert_eq!(there, [true, false, true, true], "locked, gone, kept, kept");
    house.call("DELETE", "/takes/3/1", None);
    house.wait_until("its time is up", |house| house.try_call("GET", "/takes/3/1", None).0 == 404).await;
    assert!(!paths[2].exists() && paths[3].exists());
}

/// Copied in parts to object storage that goes away and comes back; removed here, linked, restored.
#[tokio::test(flavor = "multi_thread")]
async fn takes_are_copied_away_and_brought_back() {
    let ground = Ground::new().await;
    ground.write_settings("[calls]\nprivate_addresses = \"127.0.0.1\"\n");
    let storage = ObjectStorage::start(&ground.path("storage")).await;
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(|_| ClubAnswer::new(204, "")).await.unwrap();
    let kinds = ["take.copied", "take.not_copied"];
    house.call("POST", "/call-targets", Some(json!({"name": "club", "address": club.url(), "kinds": kinds})));
    let (status, problem) =
        house.try_call("PATCH", "/channels/finish-line", Some(json!({"recording": {"depot": "attic"}})));
    assert_eq!((status, problem["detail"].as_str()), (404, Some("There is no depot `attic`.")));
    house.call("POST", "/depots", Some(storage.as_depot("attic")));
    assert!(!house.get("/depots").to_string().contains("a secret for requests"));
    assert_eq!(house.call("POST", "/depots/attic/try", None)["is_good"], true);
    let mut wrong = storage.as_depot("wrong");
    wrong["secret_key"] = json!("another");
    house.call("POST", "/depots", Some(wrong));
    let tried = house.call("POST", "/depots/wrong/try", None);
    assert!(tried["reason"].as_str().unwrap().contains("SignatureDoesNotMatch"), "{tried}");

    storage.set_away(true);
    house.call(
        "PATCH",
        "/channels/finish-line",
        Some(json!({"recording": {"depot": "attic", "removes_copied": true}})),
    );
    house.publish(house.encoder(&key, 2.0)).await;
    house.ended_session(1).await;
    let recorded = house.fetch("/takes/1/1/file");
    house.wait_until("the copy fails", |house| house.get("/takes/1/1")["copy"]["state"] == "failing").await;
    let copy = house.get("/takes/1/1")["copy"].clone();
    assert!(copy["error"].is_string() && copy["attempt_count"].as_u64() >= Some(1), "{copy}");
    storage.set_away(false);
    house.call("POST", "/takes/1/1/copy", Some(json!({})));
    house.wait_until("the take is there only", |house| house.get("/takes/1/1")["is_here"] == false).await;
    let take = house.get("/takes/1/1");
    assert_eq!(take["copy"]["state"], "there", "{take}");
    let object = storage.object(take["copy"]["object_key"].as_str().unwrap());
    assert_eq!(std::fs::read(&object).unwrap(), recorded);
    house.wait_until("others are told", |_| club.questions().len() == 2).await;
    let told = club.questions().iter().map(|told| told.question.clone()).collect::<Vec<_>>();
    let expected = [json!("waverant.take.not_copied"), json!("waverant.take.copied")];
    assert_eq!([told[0]["type"].clone(), told[1]["type"].clone()], expected);
    assert_eq!((&told[1]["data"]["depot"], &told[1]["subject"]), (&json!("attic"), &json!("session/1/take/1")));
    assert!(!ground.path("recordings").join(take["path"].as_str().unwrap()).exists());
    let (status, problem) = house.try_call("GET", "/takes/1/1/file", None);
    assert_eq!(status, 409, "{problem}");

    let link = house.get("/takes/1/1/link?valid_s=60");
    let mut linked = ureq::get(link["link"].as_str().unwrap()).call().unwrap();
    assert_eq!(linked.body_mut().with_config().limit(1 << 30).read_to_vec().unwrap(), recorded, "without a sign-in");

    house.call("PATCH", "/channels/finish-line", Some(json!({"recording": {"removes_copied": false}})));
    let shell = Shell { house: &house };
    shell.sign_in();
    assert!(shell.run(&["take", "list"]).contains("at its depot"));
    // What a restore brought that was killed is not brought again: half of it, or all.
    let partial = ground.path("recordings").join(take["path"].as_str().unwrap()).with_extension("restoring");
    for brought in [recorded.len() / 2, recorded.len()] {
        std::fs::create_dir_all(partial.parent().unwrap()).unwrap();
        std::fs::write(&partial, &recorded[..brought]).unwrap();
        shell.run(&["take", "restore", "1"]);
        assert_eq!(house.fetch("/takes/1/1/file"), recorded);
        assert!(!partial.exists());
        house.call("PATCH", "/channels/finish-line", Some(json!({"recording": {"removes_copied": true}})));
        house.wait_until("the take is there only", |house| house.get("/takes/1/1")["is_here"] == false).await;
        house.call("PATCH", "/channels/finish-line", Some(json!({"recording": {"removes_copied": false}})));
    }
    // What was changed at the depot is noticed on the way back.
    let mut spoilt = recorded.clone();
    spoilt[5000] ^= 1;
    std::fs::write(&object, spoilt).unwrap();
    assert!(shell.fail(&["take", "restore", "1"], 1).contains("its SHA-256 is another"));
}

/// An upload of many parts goes on after the service was killed.
#[tokio::test(flavor = "multi_thread")]
async fn an_upload_goes_on_after_a_kill() {
    let ground = Ground::new().await;
    let storage = ObjectStorage::start(&ground.path("storage")).await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/depots", Some(storage.as_depot("attic")));
    house.publish(house.encoder(&key, 1.5)).await;
    house.ended_session(1).await;
    digest_of(&house, "/takes/1/1").await;
    // A take of 120 MB: fifteen parts. What it holds does not matter here.
    let file = ground.path("recordings").join(house.get("/takes/1/1")["path"].as_str().unwrap());
    let large: Vec<u8> = (0..120_000_000u32).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    std::fs::write(&file, &large).unwrap();
    house.call("POST", "/takes/1/1/copy", Some(json!({"depot": "attic"})));
    house
        .wait_until("two parts are there", |house| {
            house.get("/takes/1/1")["copy"]["sent_bytes"].as_u64() > Some(9_000_000)
        })
        .await;
    house.signal("-KILL");
    house.wait_for_exit();
    drop(house);
    let house = ground.start();
    let resumed_at = house.get("/takes/1/1")["copy"]["sent_bytes"].as_u64().unwrap();
    assert!((9_000_000..120_000_000).contains(&resumed_at), "{resumed_at} bytes were there at the kill");
    house.wait_until("the copy is there", |house| house.get("/takes/1/1")["copy"]["state"] == "there").await;
    let key = house.get("/takes/1/1")["copy"]["object_key"].as_str().unwrap().to_owned();
    assert!(std::fs::read(storage.object(&key)).unwrap() == large, "the object is the file");
}

/// The disk of the recordings is not mounted any more: its empty folder is not taken for the takes, nothing
/// is recorded into it, and when the disk is back everything goes on.
#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_not_mounted_spoils_nothing() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.publish(house.encoder(&key, 1.5)).await;
    house.ended_session(1).await;
    let has_digest = |house: &House<'_>| house.get("/takes/1/1")["sha256"].is_string();
    house.wait_until("the take is read through", has_digest).await;
    let (disk, away) = (ground.path("recordings"), ground.path("away"));
    std::fs::rename(&disk, &away).unwrap();
    std::fs::create_dir(&disk).unwrap();
    house.change_channel(json!({"recording": {"keep_count": 1}}));
    house.publish(house.encoder(&key, 1.5)).await;
    let session = house.ended_session(2).await;
    assert_eq!(session["takes"], json!([]), "{session}");
    assert_eq!(std::fs::read_dir(&disk).unwrap().count(), 0, "something was written under the mount");
    assert!(house.get("/sessions/2/report").to_string().contains("is its disk mounted?"), "the report says why");
    tokio::time::sleep(Duration::from_secs(11)).await;
    assert!(ground.log().contains("the recordings folder is not there; nothing is recorded or removed"));
    assert_eq!(house.get("/takes/1/1")["is_here"], true);
    drop(house);
    // A start without the disk judges nothing either.
    let house = ground.start();
    assert_eq!(house.get("/takes/1/1")["is_here"], true);
    std::fs::remove_dir(&disk).unwrap();
    std::fs::rename(&away, &disk).unwrap();
    house.publish(house.encoder(&key, 1.5)).await;
    assert_eq!(house.ended_session(3).await["takes"][0]["state"], "complete");
    house.wait_until("the rule works again", |house| house.try_call("GET", "/takes/1/1", None).0 == 404).await;
}
