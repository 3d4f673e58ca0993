//! The private server's start, restart and faults.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::time::{Duration, Instant};

use waverant_store::{Keychain, PrivateServer, PrivateServerError, Store};

const PATIENCE: Duration = Duration::from_secs(30);

fn signal(pid: u32, signal: &str) {
    assert!(Command::new("kill").args([signal, &pid.to_string()]).status().unwrap().success());
}

fn is_alive(pid: u32) -> bool {
    std::fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|stat| !stat.contains(") Z "))
}

fn wait_until(what: &str, condition: impl Fn() -> bool) {
    let began = Instant::now();
    while !condition() {
        assert!(began.elapsed() < PATIENCE, "waited too long until {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[tokio::test]
async fn a_server_that_dies_is_started_again_at_the_same_place() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let keychain = Keychain::open(folder.path()).unwrap();
    let store = Store::open(&server.url("waverant"), keychain).await.unwrap();
    let (first, url) = (server.pid(), server.url("waverant"));
    signal(first, "-KILL");
    wait_until("another server runs", || server.pid() != first && is_alive(server.pid()));
    let began = Instant::now();
    while !store.is_reachable().await {
        assert!(began.elapsed() < PATIENCE, "the pool does not find the new server");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(server.url("waverant"), url);
    store.close().await;
    server.stop();
}

#[test]
fn stopping_ends_the_server_and_dropping_does_too() {
    let folder = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    let pid = server.pid();
    server.stop();
    assert!(!is_alive(pid));
    let server = PrivateServer::start(folder.path()).unwrap();
    let pid = server.pid();
    drop(server);
    assert!(!is_alive(pid));
}

#[test]
fn nobody_else_can_read_its_files() {
    let folder = tempfile::tempdir().unwrap();
    let inside = folder.path().join("database");
    let server = PrivateServer::start(&inside).unwrap();
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(&inside), 0o700);
    assert_eq!(mode(&inside.join("password")), 0o600);
    assert_eq!(mode(&inside.join("init.sql")), 0o600);
    let line = std::fs::read_to_string(format!("/proc/{}/cmdline", server.pid())).unwrap();
    let password = std::fs::read_to_string(inside.join("password")).unwrap();
    assert!(!line.contains(password.trim()), "the password is in the list of processes");
    // A port would be everybody's on this machine: silent callers took all places there.
    assert!(line.contains("--skip-networking"));
    server.stop();
}

#[test]
fn a_broken_set_up_is_never_taken_for_data() {
    let folder = tempfile::tempdir().unwrap();
    // As if the machine had lost power in the middle of the set-up.
    std::fs::create_dir_all(folder.path().join("data.new/mysql")).unwrap();
    std::fs::write(folder.path().join("data.new/mysql/half"), "x").unwrap();
    let server = PrivateServer::start(folder.path()).unwrap();
    assert!(!folder.path().join("data/mysql/half").exists());
    server.stop();
}

#[test]
fn a_folder_that_cannot_be_made_is_named() {
    let file = tempfile::NamedTempFile::new().unwrap();
    let error = PrivateServer::start(&file.path().join("database")).unwrap_err();
    assert!(matches!(error, PrivateServerError::Io { .. }));
    assert!(error.to_string().contains("/database"), "{error}");
}

#[test]
fn damaged_data_is_reported_with_the_log() {
    let folder = tempfile::tempdir().unwrap();
    PrivateServer::start(folder.path()).unwrap().stop();
    std::fs::write(folder.path().join("data/ibdata1"), vec![0xff; 100_000]).unwrap();
    let error = PrivateServer::start(folder.path()).unwrap_err();
    assert!(matches!(error, PrivateServerError::NoAnswer { .. }), "{error}");
    assert!(error.to_string().contains("mariadbd.log"), "{error}");
}
