//! What is done on the machine's own console.

use std::process::{Command, Output};

use serde_json::json;
use waverant_standin::{EncoderEnd, compare};

use crate::house::{Ground, House};

fn at_the_machine(ground: &Ground, arguments: &[&str]) -> Output {
    ground.command().args(arguments).output().unwrap()
}

fn told(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

fn accept(house: &House<'_>, told: &str) -> (u16, serde_json::Value) {
    let code = told.trim().rsplit_once('#').unwrap_or_else(|| panic!("{told}")).1;
    let form = json!({"code": code, "password": "weir heron ferry", "token_label": "bow"});
    house.call_as("", "POST", "/invitations/accept", Some(form))
}

/// With the service running or stopped, with its private database.
#[tokio::test(flavor = "multi_thread")]
async fn who_locked_himself_out_is_let_in_from_the_machine() {
    let ground = Ground::new().await;
    ground.use_private_database();
    let mut house = ground.start();
    let unknown = at_the_machine(&ground, &["let-in", "nobody"]);
    assert_eq!(unknown.status.code(), Some(2), "{}", told(&unknown));
    assert!(told(&unknown).contains("there is no person `nobody`"), "{}", told(&unknown));
    let made = at_the_machine(&ground, &["let-in", "harbour"]);
    assert!(made.status.success(), "{}", told(&made));
    assert_eq!(house.try_call("GET", "/me", None).0, 200, "nothing ends before the link is used");
    assert_eq!(accept(&house, &told(&made)).0, 200);
    assert_eq!(house.try_call("GET", "/me", None).0, 401);
    let second = ground.run_to_end();
    assert!(second.1.contains("another waverantd runs with it"), "{second:?}");
    assert_eq!(house.call_as("", "GET", "/health", None).0, 200, "whose database goes on");

    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);
    let made = at_the_machine(&ground, &["let-in", "harbour", "--drop-second-factor"]);
    assert!(made.status.success(), "{}", told(&made));
    let house = ground.start_unsigned();
    let (status, me) = accept(&house, &told(&made));
    assert_eq!(status, 200, "{me}");
    let acts = house.call_as(me["token"].as_str().unwrap(), "GET", "/acts?what=let_in", None).1;
    let acts = acts["items"].as_array().unwrap();
    assert_eq!((acts.len(), &acts[0]["by"], &acts[0]["subject"]), (2, &json!("machine"), &json!("person harbour")));
}

/// Keys, tokens, destinations and links after another root key; and after a change that broke off.
#[tokio::test(flavor = "multi_thread")]
async fn another_root_key_costs_no_key_and_no_sign_in() {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let running = at_the_machine(&ground, &["rekey"]);
    assert!(told(&running).contains("stop that one first"), "{}", told(&running));
    let before = std::fs::read(ground.path("state/secrets.key")).unwrap();
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);
    let done = at_the_machine(&ground, &["rekey"]);
    assert!(
        done.status.success() && told(&done).contains("secrets are sealed under another root key"),
        "{}",
        told(&done)
    );
    let after = std::fs::read(ground.path("state/secrets.key")).unwrap();
    assert_ne!(before, after);
    assert!(!ground.path("state/secrets.key.next").exists());

    // As though it had broken off between the database and the file.
    std::fs::write(ground.path("state/secrets.key"), &before).unwrap();
    std::fs::write(ground.path("state/secrets.key.next"), &after).unwrap();
    let house = ground.start();
    assert_eq!(std::fs::read(ground.path("state/secrets.key")).unwrap(), after);
    let published = house.publish(house.encoder(&key, 3.0)).await;
    assert_eq!(published.end, EncoderEnd::Finished, "the encoder's key is as good as before");
    house.ended_session(1).await;
    let received = &platform.report().connections[0].received;
    assert_eq!(compare(&published.sent, received, true).fault, None, "and so is the destination's");
    drop(house);

    // The old key alone opens nothing any more.
    std::fs::write(ground.path("state/secrets.key"), &before).unwrap();
    let refused = ground.run_to_end();
    assert!(refused.1.contains("does not belong to this database"), "{refused:?}");
}

/// A house is written down in mid-show, and is the same on another machine: keys, people, destinations, recordings.
#[tokio::test(flavor = "multi_thread")]
async fn a_backup_of_mid_show_opens_the_house_elsewhere() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    house.publish(house.encoder(&key, 2.0)).await;
    house.ended_session(1).await;
    let archive = ground.path("house.backup");
    let file = archive.display().to_string();
    let during = async {
        let is_recorded = |house: &House<'_>| {
            house.get("/takes")["items"].as_array().unwrap().iter().any(|take| take["session"] == 2)
        };
        house.wait_until("the take is in the records", is_recorded).await;
        tokio::task::block_in_place(|| at_the_machine(&ground, &["backup", &file]))
    };
    let (sent, made) = tokio::join!(house.publish(house.encoder(&key, 6.0)), during);
    assert!(made.status.success() && told(&made).contains("can open the house"), "{}", told(&made));
    house.ended_session(2).await;
    assert_eq!(
        compare(&sent.sent, &platform.report().connections[1].received, true).fault,
        None,
        "the show is unharmed"
    );
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&archive).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let twice = at_the_machine(&ground, &["backup", &file]);
    assert!(twice.status.code() == Some(2) && told(&twice).contains("it is there already"), "{}", told(&twice));
    assert!(house.get("/acts?what=backup")["items"][0]["by"] == "machine");
    drop(house);

    let other = Ground::new().await;
    let damaged = ground.path("damaged.backup");
    let whole = std::fs::read(&archive).unwrap();
    std::fs::write(&damaged, &whole[..whole.len() / 2]).unwrap();
    let refused = at_the_machine(&other, &["restore", &damaged.display().to_string()]);
    assert!(refused.status.code() == Some(2) && told(&refused).contains("is it whole?"), "{}", told(&refused));
    let done = at_the_machine(&other, &["restore", &file]);
    assert!(done.status.success(), "{}", told(&done));
    let again = at_the_machine(&other, &["restore", &file]);
    assert!(told(&again).contains("a house is in it already"), "{}", told(&again));
    let mut copy = Command::new("cp");
    copy.arg("-r").arg(ground.path("recordings/.")).arg(other.path("recordings"));
    assert!(copy.status().unwrap().success(), "the recordings are brought along");
    let house = other.start();
    let sent = house.publish(house.encoder(&key, 3.0)).await;
    assert_eq!(sent.end, EncoderEnd::Finished, "the encoder's key is as good as before");
    house.ended_session(3).await;
    let received = &platform.report().connections[2].received;
    assert_eq!(compare(&sent.sent, received, true).fault, None, "and so is the destination's");
    let takes = house.get("/takes")["items"].clone();
    let first = takes.as_array().unwrap().iter().find(|take| take["session"] == 1).cloned();
    assert!(first.is_some_and(|take| take["state"] == "complete"), "{takes}");
    assert!(house.fetch("/takes/1/1/file").len() > 10_000, "the take is found");
    let second = takes.as_array().unwrap().iter().find(|take| take["session"] == 2).cloned().unwrap();
    assert!(
        second["state"] == "complete" && second["duration_ms"].as_u64() > Some(4000),
        "it went on after the backup: {second}"
    );
    let second = house.get("/sessions/2")["session"].clone();
    assert!(second["ended_at"].is_string(), "what was on air then is over: {second}");
    assert_eq!(house.get("/acts?what=restore")["items"].as_array().unwrap().len(), 1);
    assert!(other.path("state/restored-settings.toml").exists() && !other.path("state/restoring").exists());
}

/// A version that knows other tables keeps the records as they were before it touches them; and that opens the house.
#[tokio::test(flavor = "multi_thread")]
async fn tables_are_brought_up_to_date_behind_a_backup() {
    let mut ground = Ground::new().await;
    let mut house = ground.start();
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    drop(house);
    let backups = ground.path("state/backups");
    assert!(!backups.exists(), "new tables need none");
    let old = waverant_store::TestDatabase::create().await.unwrap();
    let records = "-- records of a waverant house, schema 25\n\
                   INSERT INTO `house_facts` (`name`, `value`) VALUES ('regatta', 'heat 7');\n-- rows: 1\n";
    waverant_store::read_records(old.url(), records.as_bytes()).await.unwrap();
    ground.use_database(old.url().to_owned());
    // Without room for it nothing is touched.
    std::fs::write(&backups, "in the way").unwrap();
    let (code, errors) = ground.run_to_end();
    assert!(code == Some(2) && errors.contains("make room there"), "{errors}");
    assert_eq!(waverant_store::other_schema(old.url()).await.unwrap().map(|(found, _)| found), Some(25));
    std::fs::remove_file(&backups).unwrap();

    for _ in 0..2 {
        let mut house = ground.start();
        house.signal("-TERM");
        assert_eq!(house.wait_for_exit(), Some(0));
    }
    assert_eq!(waverant_store::other_schema(old.url()).await.unwrap(), None);
    let made: Vec<_> = std::fs::read_dir(&backups).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!(made.len(), 1, "one, and none at the next start: {made:?}");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&made[0]).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let archive = made[0].to_str().unwrap();
    let told_of = Command::new("tar").args(["-xzOf", archive, "records.sql"]).output().unwrap();
    let records = String::from_utf8(told_of.stdout).unwrap();
    assert!(
        records.starts_with("-- records of a waverant house, schema 25\n") && records.contains("72656761747461"),
        "{records}"
    );

    let elsewhere = Ground::new().await;
    let restored = at_the_machine(&elsewhere, &["restore", archive]);
    assert!(restored.status.success(), "{}", told(&restored));
    elsewhere.start();

    // The version before is started again, and says how to go back. The tables of a later version are played here.
    let newest = std::path::Path::new(archive).file_name().unwrap().to_str().unwrap().to_owned();
    old.execute("UPDATE _sqlx_migrations SET version = 9999 ORDER BY version DESC LIMIT 1").await.unwrap();
    let later = archive.replace(&newest, "before-schema-9999-1796206149.tar.gz");
    std::fs::rename(archive, &later).unwrap();
    let (code, errors) = ground.run_to_end();
    assert_eq!(code, Some(2), "{errors}");
    assert!(errors.contains("of a newer version (tables 9999;") && errors.contains(&later), "{errors}");
}
