//! A running service for one test.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use waverant_standin::{
    Authority, Clip, Encoder, EncoderOptions, EncoderReport, Platform, PlatformFault, PlatformOptions, Validity,
};
use waverant_store::TestDatabase;

pub(crate) const PASSWORD: &str = "regatta morning";
pub(crate) const PLATFORM_KEY: &str = "platform-key-7781";

/// How long anything on loopback may take before the test fails.
pub(crate) const PATIENCE: Duration = Duration::from_secs(45);

pub(crate) fn clip() -> Clip {
    Clip::load(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/regatta.mp4")).unwrap()
}

/// A folder with settings for a service on free ports and a database of its own.
pub(crate) struct Ground {
    pub(crate) folder: tempfile::TempDir,
    database_url: String,
    pub(crate) database: TestDatabase,
}

impl Ground {
    pub(crate) async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(
            folder.path().join("administrator.toml"),
            format!("name = \"harbour\"\npassword = \"{PASSWORD}\"\n"),
        )
        .unwrap();
        let database = TestDatabase::create().await.unwrap();
        let ground = Self { folder, database_url: database.url().to_owned(), database };
        ground.write_settings("");
        ground
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.path("log")).unwrap_or_default()
    }

    /// Writes the settings file with `more` behind it.
    pub(crate) fn write_settings(&self, more: &str) {
        let text = format!(
            "[listen]\nrtmp = \"127.0.0.1:0\"\nsrt = \"127.0.0.1:0\"\nhttp = \"127.0.0.1:0\"\nviewing = \"127.0.0.1:0\"\n\
             [house]\nstate_folder = \"{state}\"\nrecordings_folder = \"{recordings}\"\nready_file = \"{ready}\"\n\
             recordings_floor_mib = 0\n\
             [database]\nurl = \"{url}\"\n[first_run]\nadministrator_file = \"{administrator}\"\n{more}",
            state = self.path("state").display(),
            recordings = self.path("recordings").display(),
            ready = self.path("ready.json").display(),
            url = self.database_url,
            administrator = self.path("administrator.toml").display(),
        );
        std::fs::write(self.path("waverant.toml"), text).unwrap();
    }

    /// The service is to use another database.
    pub(crate) fn use_database(&mut self, url: String) {
        self.database_url = url;
        self.write_settings("");
    }

    /// The service is to start a database of its own.
    pub(crate) fn use_private_database(&self) {
        let settings = std::fs::read_to_string(self.path("waverant.toml")).unwrap();
        let without_url: Vec<&str> = settings.lines().filter(|line| !line.starts_with("url")).collect();
        std::fs::write(self.path("waverant.toml"), without_url.join("\n")).unwrap();
    }

    pub(crate) fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_waverantd"));
        command.arg("--settings").arg(self.path("waverant.toml"));
        command.env_clear().env("PATH", std::env::var("PATH").unwrap());
        command
    }

    /// Runs the program to its end and returns exit code and stderr.
    pub(crate) fn run_to_end(&self) -> (Option<i32>, String) {
        let output = self.command().stdin(Stdio::null()).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    }

    pub(crate) fn start(&self) -> House<'_> {
        let mut house = self.start_unsigned();
        let signed_in = house.call(
            "POST",
            "/sign-in",
            Some(json!({"name": "harbour", "password": PASSWORD, "token_label": "test"})),
        );
        house.token = signed_in["token"].as_str().unwrap().to_owned();
        house
    }

    /// Starts the service without signing in.
    pub(crate) fn start_unsigned(&self) -> House<'_> {
        let _ = std::fs::remove_file(self.path("ready.json"));
        let log = std::fs::OpenOptions::new().create(true).append(true).open(self.path("log")).unwrap();
        let mut child = self.command().stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).spawn().unwrap();
        let deadline = Instant::now() + PATIENCE;
        let ready = loop {
            if let Ok(text) = std::fs::read_to_string(self.path("ready.json")) {
                break serde_json::from_str::<Value>(&text).unwrap();
            }
            assert!(child.try_wait().unwrap().is_none(), "waverantd ended: {}", self.log());
            assert!(Instant::now() < deadline, "waverantd is not ready: {}", self.log());
            std::thread::sleep(Duration::from_millis(10));
        };
        let address = |name: &str| ready[name].as_str().and_then(|address| address.parse().ok());
        House {
            ground: self,
            child,
            rtmp: address("rtmp").unwrap(),
            rtmps: address("rtmps"),
            https: address("https"),
            viewing_https: address("viewing_https"),
            srt: address("srt").unwrap(),
            http: address("http").unwrap(),
            viewing: address("viewing").unwrap(),
            token: String::new(),
        }
    }
}

/// A running `waverantd`. Killed when dropped.
pub(crate) struct House<'a> {
    pub(crate) ground: &'a Ground,
    pub(crate) child: Child,
    pub(crate) rtmp: SocketAddr,
    pub(crate) rtmps: Option<SocketAddr>,
    pub(crate) https: Option<SocketAddr>,
    pub(crate) viewing_https: Option<SocketAddr>,
    pub(crate) srt: SocketAddr,
    pub(crate) http: SocketAddr,
    pub(crate) viewing: SocketAddr,
    token: String,
}

impl House<'_> {
    /// Calls the API; the answer must be a success.
    pub(crate) fn call(&self, method: &str, path: &str, body: Option<Value>) -> Value {
        let (status, answer) = self.try_call(method, path, body);
        assert!((200..300).contains(&status), "{method} {path}: {status} {answer}");
        answer
    }

    pub(crate) fn get(&self, path: &str) -> Value {
        self.call("GET", path, None)
    }

    /// Calls the API; returns status and answer.
    pub(crate) fn try_call(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        self.call_as(&self.token, method, path, body)
    }

    /// Calls the API by another token; returns status and answer.
    pub(crate) fn call_as(&self, token: &str, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("http://{}/api/v1{path}", self.http))
            .header("authorization", format!("Bearer {token}"))
            .header("content-type", "application/json")
            .body(body.map(|body| body.to_string()).unwrap_or_default())
            .unwrap();
        let mut response = agent.run(request).unwrap();
        let text = response.body_mut().read_to_string().unwrap();
        (response.status().as_u16(), serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    /// Puts a file; returns status and answer.
    pub(crate) fn upload(&self, path: &str, bytes: Vec<u8>) -> (u16, Value) {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let url = format!("http://{}/api/v1{path}", self.http);
        let mut response = agent
            .put(url)
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "video/mp4")
            .send(&bytes[..])
            .unwrap();
        let text = response.body_mut().read_to_string().unwrap();
        (response.status().as_u16(), serde_json::from_str(&text).unwrap_or(Value::Null))
    }

    /// Fetches a take's bytes.
    pub(crate) fn fetch(&self, path: &str) -> Vec<u8> {
        self.try_fetch(path).unwrap()
    }

    /// Fetches bytes, if there are some.
    pub(crate) fn try_fetch(&self, path: &str) -> Option<Vec<u8>> {
        let mut response = ureq::get(format!("http://{}/api/v1{path}", self.http))
            .header("authorization", format!("Bearer {}", self.token))
            .call()
            .ok()?;
        let mut bytes = Vec::new();
        response.body_mut().as_reader().read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Makes the channel `finish-line` with a key; returns the key.
    pub(crate) fn make_channel(&self, hold_ms: u32) -> String {
        self.call(
            "POST",
            "/channels",
            Some(json!({"name": "finish-line", "title": "Finish line", "hold_ms": hold_ms, "slate": "none"})),
        );
        self.make_key("van", 0)
    }

    /// Makes a further stream key of the channel.
    pub(crate) fn make_key(&self, label: &str, rank: u8) -> String {
        let made = self.call("POST", "/channels/finish-line/keys", Some(json!({"label": label, "rank": rank})));
        made["encoder"]["key"].as_str().unwrap().to_owned()
    }

    /// Changes the channel.
    pub(crate) fn change_channel(&self, change: Value) {
        self.call("PATCH", "/channels/finish-line", Some(change));
    }

    /// Changes how the channel sends to a destination.
    pub(crate) fn send(&self, destination: &str, change: Value) {
        self.call("PUT", &format!("/channels/finish-line/destinations/{destination}"), Some(change));
    }

    /// Starts a platform and makes it a destination of the channel.
    pub(crate) async fn add_platform(&self, name: &str, fault: Option<PlatformFault>) -> Platform {
        self.add_platform_with(name, PlatformOptions { fault, ..PlatformOptions::new(PLATFORM_KEY) }, None).await
    }

    /// Starts a platform and makes it a destination of the channel, whose certificate must be
    /// signed by `authority` if one is given.
    pub(crate) async fn add_platform_with(
        &self,
        name: &str,
        options: PlatformOptions,
        authority: Option<&str>,
    ) -> Platform {
        let platform = Platform::start(options).await.unwrap();
        let destination = json!({"name": name, "address": platform.url(), "key": PLATFORM_KEY, "authority": authority});
        self.call("POST", "/destinations", Some(destination));
        self.switch(name, true);
        platform
    }

    /// Starts a platform over TLS and makes it a destination of the channel.
    pub(crate) async fn add_secure_platform(&self, name: &str) -> Platform {
        let authority = Authority::new().unwrap();
        let tls = Some(authority.issue("localhost", Validity::Good).unwrap().server_config().unwrap());
        let options = PlatformOptions { tls, ..PlatformOptions::new(PLATFORM_KEY) };
        self.add_platform_with(name, options, Some(authority.pem())).await
    }

    /// Makes a viewing key for the channel.
    pub(crate) fn make_viewing_key(&self) -> String {
        let made = self.call("POST", "/channels/finish-line/keys", Some(json!({"label": "mixer", "right": "view"})));
        made["encoder"]["key"].as_str().unwrap().to_owned()
    }

    /// The leg to `destination` now.
    pub(crate) fn leg(&self, destination: &str) -> Value {
        let live = self.live();
        let legs = live["legs"].as_array().unwrap();
        legs.iter().find(|leg| leg["destination"] == destination).cloned().unwrap()
    }

    pub(crate) fn switch(&self, destination: &str, is_on: bool) {
        let path = format!("/channels/finish-line/destinations/{destination}");
        self.call("PUT", &path, Some(json!({ "is_on": is_on })));
    }

    pub(crate) fn encoder(&self, key: &str, seconds: f64) -> EncoderOptions {
        EncoderOptions::new(format!("rtmp://{}/in", self.rtmp), key, Duration::from_secs_f64(seconds))
    }

    /// An encoder at either front door.
    pub(crate) fn encoder_at(&self, is_srt: bool, key: &str, seconds: f64) -> EncoderOptions {
        let options = self.encoder(key, seconds);
        if is_srt { EncoderOptions { server: format!("srt://{}", self.srt), ..options } } else { options }
    }

    pub(crate) async fn publish(&self, options: EncoderOptions) -> EncoderReport {
        Encoder::new(clip(), options).run().await.unwrap()
    }

    /// A raw connection past its handshake.
    pub(crate) fn greet(&self) -> TcpStream {
        let mut stream = TcpStream::connect(self.rtmp).unwrap();
        let mut hello = vec![3];
        hello.resize(1 + 1536, 7);
        stream.write_all(&hello).unwrap();
        let mut answer = vec![0; 1 + 2 * 1536];
        stream.read_exact(&mut answer).unwrap();
        stream.write_all(&answer[1..=1536]).unwrap();
        stream
    }

    /// The live state of the channel.
    pub(crate) fn live(&self) -> Value {
        self.get("/live")["channels"][0].clone()
    }

    /// Waits until `condition` holds, asking every 50 ms.
    pub(crate) async fn wait_until(&self, what: &str, condition: impl Fn(&Self) -> bool) {
        self.wait_up_to(PATIENCE, what, condition).await;
    }

    /// The same for what takes the machine long.
    pub(crate) async fn wait_up_to(&self, limit: Duration, what: &str, condition: impl Fn(&Self) -> bool) {
        let deadline = Instant::now() + limit;
        while !condition(self) {
            assert!(Instant::now() < deadline, "waited too long until {what}\n{}", self.ground.log());
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Waits until session `id` has its end in the records; returns it with legs and takes.
    pub(crate) async fn ended_session(&self, id: u64) -> Value {
        let path = format!("/sessions/{id}");
        let is_ended = |house: &Self| {
            let (status, session) = house.try_call("GET", &path, None);
            status == 200 && !session["session"]["ended_at"].is_null()
        };
        self.wait_until("the session is in the records", is_ended).await;
        self.get(&path)
    }

    pub(crate) fn signal(&self, signal: &str) {
        let pid = self.child.id().to_string();
        assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    /// Waits for the process to end; returns its exit code.
    pub(crate) fn wait_for_exit(&mut self) -> Option<i32> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code();
            }
            assert!(Instant::now() < deadline, "waverantd does not end: {}", self.ground.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// True if the service holds a file open whose path contains `part`, also a nameless one.
    pub(crate) fn holds_open(&self, part: &str) -> bool {
        let open = std::fs::read_dir(format!("/proc/{}/fd", self.child.id())).unwrap();
        let paths = open.filter_map(|entry| std::fs::read_link(entry.ok()?.path()).ok());
        paths.into_iter().any(|path| path.to_string_lossy().contains(part))
    }

    /// Resident memory in KiB.
    pub(crate) fn resident_kib(&self) -> u64 {
        self.status_kib("VmRSS:")
    }

    /// Resident memory that no file backs, in KiB.
    pub(crate) fn anonymous_kib(&self) -> u64 {
        self.status_kib("RssAnon:")
    }

    fn status_kib(&self, field: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find(|line| line.starts_with(field)).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

impl Drop for House<'_> {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
