use std::path::PathBuf;
use std::process::{Command, Output, Stdio};

use serde_json::Value;

use crate::house::{Ground, House, PASSWORD, PLATFORM_KEY};

/// The `waverant` program lies beside `waverantd`; scripts/test builds both.
fn program() -> PathBuf {
    PathBuf::from(env!("CARGO_BIN_EXE_waverantd")).with_file_name("waverant")
}

pub(crate) struct Shell<'a> {
    pub(crate) house: &'a House<'a>,
}

impl Shell<'_> {
    pub(crate) fn run_with(&self, arguments: &[&str], input: &str) -> Output {
        use std::io::Write;
        let mut child = Command::new(program())
            .args(arguments)
            .env_clear()
            .env("HOME", self.house.ground.folder.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("build all programs first: cargo build --workspace --bins");
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// Runs a command that must succeed; returns what it prints.
    pub(crate) fn run(&self, arguments: &[&str]) -> String {
        let output = self.run_with(arguments, "");
        let errors = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {errors}");
        String::from_utf8(output.stdout).unwrap()
    }

    pub(crate) fn json(&self, arguments: &[&str]) -> Value {
        serde_json::from_str(&self.run(&[arguments, &["--json"]].concat())).unwrap()
    }

    /// Runs a command that must fail with `code`; returns what it says.
    pub(crate) fn fail(&self, arguments: &[&str], code: i32) -> String {
        let output = self.run_with(arguments, "");
        assert_eq!(output.status.code(), Some(code), "{arguments:?}");
        assert!(output.stdout.is_empty(), "results go to stdout, messages to stderr");
        String::from_utf8(output.stderr).unwrap()
    }

    pub(crate) fn sign_in(&self) {
        let said = self.sign_in_as("engineer");
        let may = "may run shows and set up; to let people in, sign in with --role administrator";
        let expected = format!("Signed in to http://{} as harbour. This command line {may}.\n", self.house.http);
        assert_eq!(said, expected);
    }

    /// Signs in for no more than a role.
    pub(crate) fn sign_in_as(&self, role: &str) -> String {
        let url = format!("http://{}/", self.house.http);
        let arguments = ["sign-in", &url, "--name", "harbour", "--password-file", "-", "--role", role];
        let output = self.run_with(&arguments, &format!("{PASSWORD}\n"));
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }
}

/// A channel is made, given a key and a destination, and taken apart again.
#[tokio::test(flavor = "multi_thread")]
async fn a_channel_from_the_first_command_to_the_last() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let account = ground.path(".config/waverant/account.toml");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&account).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600, "the token is private");

    assert_eq!(shell.run(&["channel", "list"]), "No channels yet. Add one: waverant channel add NAME\n");
    let added = shell.run(&["channel", "add", "finish-line", "--title", "Finish line", "--hold", "2.5"]);
    assert_eq!(added, "Channel `finish-line` added. Make a key: waverant key add finish-line LABEL\n");
    let made = shell.run(&["key", "add", "finish-line", "van"]);
    let lines: Vec<&str> = made.lines().collect();
    assert_eq!(lines[2], format!("  server  rtmp://127.0.0.1:{}/in", house.rtmp.port()));
    let key = lines[3].strip_prefix("  key     ").unwrap();
    assert!(!shell.run(&["key", "list", "finish-line"]).contains(key), "a key is shown once");

    let arguments = ["destination", "add", "plovio", "rtmp://127.0.0.1/in", "--key-file", "-"];
    assert_eq!(shell.run_with(&arguments, PLATFORM_KEY).status.code(), Some(0));
    shell.run(&["channel", "send", "finish-line", "plovio", "off"]);
    let listed = shell.run(&["channel", "list"]);
    let expected = "NAME         TITLE        HOLD  RECORDING  SECOND ENCODER  SLATE     SRT     DESTINATIONS\n\
                    finish-line  Finish line  2.5 s  always, mp4 refuse          built-in  500 ms  plovio (off)\n";
    let squeeze = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!(squeeze(&listed), squeeze(expected));
    assert!(!shell.run(&["destination", "list"]).contains(PLATFORM_KEY));
    let srt = ["channel", "change", "finish-line", "--srt-latency", "800", "--passphrase-file", "-"];
    assert_eq!(shell.run_with(&srt, "short").status.code(), Some(1), "a passphrase has ten bytes");
    assert_eq!(shell.run_with(&srt, "wexcombe reach").status.code(), Some(0));
    assert!(shell.run(&["channel", "list"]).contains("800 ms, passphrase"));
    let made = shell.run(&["key", "add", "finish-line", "boat"]);
    for part in [&format!("srt://127.0.0.1:{}", house.srt.port()), "800 ms or more", "passphrase that of the channel"] {
        assert!(made.contains(part), "{part} is missing in\n{made}");
    }
    shell.run(&["channel", "change", "finish-line", "--no-passphrase"]);
    assert_eq!(shell.json(&["channel", "list"])[0]["srt"]["has_passphrase"], false);
    shell.run(&["channel", "change", "finish-line", "--title", "Finish", "--record", "off"]);
    assert_eq!(shell.json(&["channel", "list"])[0]["recording"]["when"], "off");
    shell.run(&["destination", "change", "plovio", "--address", "rtmp://127.0.0.2/in"]);
    assert_eq!(shell.json(&["destination", "list"])[0]["address"], "rtmp://127.0.0.2/in");

    let srt = ["destination", "add", "mixer", "srt://127.0.0.1:9000", "--srt-latency", "200", "--key-file", "-"];
    assert_eq!(shell.run_with(&srt, "").status.code(), Some(0), "SRT can do without a stream id");
    let srt = ["destination", "change", "mixer", "--passphrase-file", "-"];
    assert_eq!(shell.run_with(&srt, "wexcombe reach").status.code(), Some(0));
    assert!(shell.run(&["destination", "list"]).contains("200 ms, passphrase"));

    let id = shell.json(&["key", "list", "finish-line"])[0]["id"].to_string();
    shell.run(&["key", "remove", "finish-line", &id]);
    shell.run(&["channel", "unlink", "finish-line", "plovio"]);
    shell.run(&["destination", "remove", "plovio"]);
    shell.run(&["channel", "remove", "finish-line"]);
    assert_eq!(shell.json(&["channel", "list"]), serde_json::json!([]));
    shell.run(&["sign-out"]);
    assert!(shell.fail(&["channel", "list"], 2).contains("no service is known yet"));
}

/// A show is watched, ended, looked back on, and its take fetched.
#[tokio::test(flavor = "multi_thread")]
async fn a_show_on_the_command_line() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    let publish = house.publish(house.encoder(&key, 20.0));
    let watch = async {
        house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying").await;
        tokio::time::sleep(std::time::Duration::from_secs(2)).await;
        let shown = tokio::task::block_in_place(|| shell.run(&["live", "show"]));
        tokio::task::block_in_place(|| shell.run(&["channel", "end", "finish-line"]));
        shown
    };
    let (_, shown) = tokio::join!(publish, watch);
    for part in ["finish-line  on air", "1280x720", "AAC 48 kHz, 2 ch", "plovio", "carrying"] {
        assert!(shown.contains(part), "{part} is missing in\n{shown}");
    }
    house.ended_session(1).await;
    let session = shell.run(&["session", "show", "1"]);
    assert!(session.contains("ended by harbour") && session.contains("_s1_take-1.mp4"), "{session}");
    assert_eq!(shell.json(&["session", "list"])["items"][0]["id"], 1);
    assert!(shell.run(&["take", "list", "--channel", "finish-line"]).contains("complete"));

    let target = ground.path("fetched.mp4");
    let name = target.to_str().unwrap();
    shell.run(&["take", "fetch", "1", "--output", name]);
    assert_eq!(std::fs::read(&target).unwrap(), house.fetch("/takes/1/1/file"));
    assert!(shell.fail(&["take", "fetch", "1", "--output", name], 2).contains("is there already"));
    assert!(shell.fail(&["take", "fetch", "7"], 1).contains("There is no take `7/1`"));
    assert_eq!(shell.run(&["turned-away", "list"]), "Nobody was turned away.\n");
}

/// Before the show: rules, limits, a try, a slate and a rehearsal; after it, the report.
#[tokio::test(flavor = "multi_thread")]
async fn a_show_is_prepared_on_the_command_line() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    shell.run(&["channel", "change", "finish-line", "--takeover", "replace", "--slate", "built-in"]);
    shell.run(&["channel", "send", "finish-line", "plovio", "on", "--delay", "2.5", "--start-after", "1"]);
    assert!(shell.run(&["channel", "list"]).contains("plovio (2.5 s later, 1.0 s after the start)"));
    let limits =
        ["--max-bitrate", "4.5", "--max-size", "1280x720", "--on-breach", "do-not-send", "--needs-tls", "true"];
    shell.run(&[&["destination", "change", "plovio", "--audio", "language:de", "--batch", "0"][..], &limits].concat());
    let listed = shell.run(&["destination", "list"]);
    assert!(listed.contains("TLS, 4.5 Mbit/s, 1280x720, else not sent") && listed.contains("language:de"), "{listed}");
    shell.run(&["destination", "change", "plovio", "--max-frame-rate", "30"]);
    assert!(
        shell.run(&["destination", "list"]).contains("4.5 Mbit/s, 1280x720, 30 fps"),
        "the rest of the sheet stays"
    );

    let tried = shell.run(&["destination", "try", "plovio", "--publish"]);
    assert!(
        tried.contains("publish") && tried.contains("limits sheet: it takes encrypted connections only"),
        "{tried}"
    );
    shell.run(&["destination", "change", "plovio", "--no-limits", "--address", "rtmp://127.0.0.1:1/in"]);
    let tried = shell.run_with(&["destination", "try", "plovio"], "");
    assert_eq!(tried.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&tried.stdout).contains("connect  FAILED"));
    assert!(String::from_utf8_lossy(&tried.stderr).contains("`plovio` would not take a show"));

    let clip = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/regatta.mp4");
    assert!(shell.run(&["slate", "upload", "finish-line", clip]).contains("H.264 + AAC, 1280x720"));
    assert!(shell.run(&["slate", "show", "finish-line"]).contains("1280x720"));
    shell.run(&["slate", "remove", "finish-line"]);
    shell.run(&["key", "add", "finish-line", "spare", "--rank", "1"]);
    assert_eq!(shell.json(&["key", "list", "finish-line"])[1]["rank"], 1);

    let report = shell.run(&["channel", "rehearse", "finish-line", "--seconds", "3"]);
    assert!(report.contains("H.264 + AAC 1280x720") && report.contains("built-in sink"), "{report}");
    assert_eq!(shell.json(&["session", "report", "1"])["legs"][0]["gap_count"], 0);
    assert!(shell.run(&["session", "list"]).contains("(rehearsal)"));
}

/// Exit code 1 is the service's "no", with what to do next; 2 is a call that could not be made.
#[tokio::test(flavor = "multi_thread")]
async fn refusals_say_what_to_do() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let said = shell.fail(&["channel", "add", "Finish Line"], 1);
    assert!(said.starts_with("waverant: name: `F` cannot stand in a channel name"), "{said}");
    assert!(said.contains("Correct `name`"), "{said}");
    assert!(shell.fail(&["channel", "end", "nowhere"], 1).contains("There is no channel `nowhere`."));
    let said = shell.fail(&["channel", "add", "a", "--hold", "100000"], 2);
    assert!(said.contains("--hold: 100000 is not between 0 and 86400 seconds"), "{said}");
    assert!(shell.fail(&["take", "fetch"], 2).contains("Usage"));
    let wrong = shell.run_with(
        &["sign-in", &format!("http://{}", house.http), "--name", "harbour", "--password-file", "-"],
        "not the password",
    );
    assert_eq!(wrong.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("do not belong together"));
}

/// The live view, driven in a pseudo terminal of 80 by 24: it shows the show, switches a leg, and leaves.
#[tokio::test(flavor = "multi_thread")]
async fn the_live_view_is_watched_and_used() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in();
    let refused = shell.fail(&["live", "watch"], 2);
    assert!(refused.contains("needs a terminal"), "{refused}");
    let key = house.make_channel(0);
    let _platform = house.add_platform("plovio", None).await;
    let show = house.publish(house.encoder(&key, 15.0));
    let watch = async {
        house.wait_until("the leg carries", |house| house.live()["legs"][0]["state"] == "carrying").await;
        let line = format!("stty cols 80 rows 24; exec {} live watch", program().display());
        let mut terminal = Command::new("script")
            .args(["-qec", &line, "/dev/null"])
            .env_clear()
            .env("HOME", ground.folder.path())
            .env("PATH", "/usr/bin:/bin")
            .env("TERM", "xterm-256color")
            .env("NO_COLOR", "1")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut keys = terminal.stdin.take().unwrap();
        let mut press = |pressed: &[u8]| std::io::Write::write_all(&mut keys, pressed).unwrap();
        tokio::time::sleep(std::time::Duration::from_secs(3)).await;
        press(b"j ");
        house.wait_until("the leg is off", |house| house.live()["legs"][0]["state"] == "off").await;
        press(b"m");
        tokio::time::sleep(std::time::Duration::from_secs(2)).await;
        press(b"q");
        let output = terminal.wait_with_output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (_, (code, seen)) = tokio::join!(show, watch);
    assert_eq!(code, Some(0), "{seen}");
    for part in ["legs carry", "finish-line", "plovio", "carrying", "choose", "this moment"] {
        assert!(seen.contains(part), "no {part}: {seen}");
    }
    let marks = house.ended_session(1).await["takes"][0]["marks"].to_string();
    assert!(marks.contains("marked from a terminal"), "{marks}");
}

/// A service of another version: what it answers may not be understood, and is told with both versions.
#[rstest::rstest]
#[case::an_answer_of_another_form("200 OK", r#"{"unheard": "of"}"#, 2, "which is not the Waverant API")]
#[case::a_call_that_it_does_not_know(
    "404 Not Found",
    r#"{"type": "a:b", "code": "no_such_route", "status": 404, "title": "No", "detail": "There is nothing here.", "next_step": "Look."}"#,
    1,
    "There is nothing here."
)]
#[tokio::test]
async fn another_version_is_told(#[case] status: &str, #[case] body: &str, #[case] code: i32, #[case] told: &str) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let length = body.len();
    let answer = format!(
        "HTTP/1.1 {status}\r\nwaverant-version: 9.8.7\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n{body}"
    );
    let service = std::thread::spawn(move || {
        use std::io::{Read, Write};
        let (mut caller, _) = listener.accept().unwrap();
        let mut asked = [0; 4096];
        let _ = caller.read(&mut asked).unwrap();
        caller.write_all(answer.as_bytes()).unwrap();
    });
    let mut command = Command::new(program());
    command.args(["channel", "list"]).env_clear().env("WAVERANT_URL", url).env("WAVERANT_TOKEN", "anything");
    let output = command.stdin(Stdio::null()).output().unwrap();
    service.join().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(code), "{said}");
    assert!(said.contains(told) && said.contains("The service is version 9.8.7 and this command line"), "{said}");
}
