//! A database server of the house's own, over TCP and with a user of its own: what a private one does for us
//! (socket, tuning, rights) is not given there.

use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use waverant_standin::{EncoderEnd, compare};

use crate::house::{Ground, PATIENCE};

const URL_PASSWORD: &str = "slipway";

/// A server as its packager sets it up. Killed when dropped.
pub(crate) struct OwnServer {
    folder: tempfile::TempDir,
    pub(crate) address: SocketAddr,
    pub(crate) child: Child,
}

impl OwnServer {
    pub(crate) fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let data = EMPTY.get_or_init(empty_records);
        let copied = Command::new("cp").arg("-a").arg(data).arg(folder.path().join("data")).status().unwrap();
        assert!(copied.success());
        let users = format!(
            "CREATE DATABASE IF NOT EXISTS regatta;\n\
             CREATE USER IF NOT EXISTS 'relay'@'%' IDENTIFIED BY '{URL_PASSWORD}';\n\
             GRANT ALL ON regatta.* TO 'relay'@'%';\n\
             CREATE USER IF NOT EXISTS 'reader'@'%' IDENTIFIED BY '{URL_PASSWORD}';\n\
             GRANT SELECT ON regatta.* TO 'reader'@'%';\n"
        );
        std::fs::write(folder.path().join("users.sql"), users).unwrap();
        let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        let child = launch(folder.path(), address);
        Self { folder, address, child }
    }

    pub(crate) fn start_again(&mut self) {
        self.end();
        self.child = launch(self.folder.path(), self.address);
    }

    /// Starts with the same records at another address.
    pub(crate) fn start_elsewhere(&mut self) {
        self.address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        self.start_again();
    }

    pub(crate) fn end(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    pub(crate) fn signal(&self, signal: &str) {
        let pid = self.child.id().to_string();
        assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    /// A client of whoever runs it.
    pub(crate) fn client(&self) -> Command {
        let mut client = Command::new("mariadb");
        client.args(["--no-defaults", "-uroot"]).arg(format!("--socket={}", self.folder.path().join("s").display()));
        client
    }

    /// Has it do something.
    pub(crate) fn tell(&self, statement: &str) {
        assert!(self.client().args(["-e", statement]).status().unwrap().success(), "{statement}");
    }

    pub(crate) fn url(&self, user: &str) -> String {
        format!("mysql://{user}:{URL_PASSWORD}@{}/regatta", self.address)
    }
}

/// Records of a server that is new; each gets a copy.
static EMPTY: OnceLock<PathBuf> = OnceLock::new();

fn empty_records() -> PathBuf {
    // Statics are never dropped: what stands there of processes that are gone is cleared away with their test databases.
    let root = std::env::temp_dir().join("waverant-test-databases");
    std::fs::create_dir_all(&root).unwrap();
    let folder = root.join(format!("{}-empty-records", std::process::id()));
    let made = Command::new("mariadb-install-db")
        .args(["--no-defaults", "--auth-root-authentication-method=socket", "--skip-test-db", "--user=root"])
        .arg(format!("--datadir={}", folder.display()))
        .arg("--innodb-log-file-size=16M")
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    folder
}

impl Drop for OwnServer {
    fn drop(&mut self) {
        self.end();
    }
}

fn launch(folder: &Path, address: SocketAddr) -> Child {
    let file = |option: &str, name: &str| format!("--{option}={}", folder.join(name).display());
    let child = Command::new("mariadbd")
        .args(["--no-defaults", "--user=root", "--bind-address=127.0.0.1", "--innodb-log-file-size=16M"])
        .arg(format!("--port={}", address.port()))
        .args([file("datadir", "data"), file("socket", "s"), file("pid-file", "pid"), file("init-file", "users.sql")])
        .args([file("log-error", "log")])
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let deadline = Instant::now() + PATIENCE;
    while TcpStream::connect(address).is_err() {
        assert!(Instant::now() < deadline, "{}", std::fs::read_to_string(folder.join("log")).unwrap_or_default());
        std::thread::sleep(Duration::from_millis(20));
    }
    child
}

/// A show, its records, a restart of the server in mid-show, and one of the service.
#[tokio::test(flavor = "multi_thread")]
async fn shows_are_recorded_on_a_server_of_ones_own() {
    let mut ground = Ground::new().await;
    let mut server = OwnServer::start();
    ground.use_database(server.url("relay"));
    let check = ground.command().arg("check").output().unwrap();
    let told = String::from_utf8_lossy(&check.stdout).into_owned();
    assert!(told.contains("ok   database.url can be used: ") && told.contains("MariaDB"), "{told}");

    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let publish = tokio::spawn(waverant_standin::Encoder::new(crate::house::clip(), house.encoder(&key, 6.0)).run());
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
    tokio::task::block_in_place(|| server.start_again());
    let sent = publish.await.unwrap().unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished);
    let is_ended = |report: &waverant_standin::PlatformReport| report.connections[0].was_ended;
    assert!(platform.wait_for(PATIENCE, is_ended).await);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    let before = house.ended_session(1).await;
    assert_eq!(before["takes"][0]["state"], "complete", "{before}");
    assert_eq!(before["legs"].as_array().map(Vec::len), Some(1), "{before}");
    drop(house);

    let house = ground.start();
    assert_eq!(house.ended_session(1).await["session"], before["session"]);
    assert_eq!(house.publish(house.encoder(&key, 1.0)).await.end, EncoderEnd::Finished);
    assert_eq!(house.ended_session(2).await["takes"][0]["state"], "complete");
}

/// Who may read only is told so before the show, and the service does not start with it.
#[tokio::test(flavor = "multi_thread")]
async fn a_user_without_rights_is_found_out() {
    let mut ground = Ground::new().await;
    let server = OwnServer::start();
    ground.use_database(server.url("reader"));
    let check = ground.command().arg("check").output().unwrap();
    let told = String::from_utf8_lossy(&check.stdout).into_owned();
    assert_eq!(check.status.code(), Some(1), "{told}");
    assert!(told.contains("FAIL database.url: tables cannot be made") && told.contains("grant ALL"), "{told}");
    assert!(!told.contains(URL_PASSWORD), "{told}");
    let (code, errors) = tokio::task::block_in_place(|| ground.run_to_end());
    assert_ne!(code, Some(0));
    assert!(errors.contains("denied") && !errors.contains(URL_PASSWORD), "{errors}");
}
