//! Whether the house can be reached from outside: a helper that tries its doors, and what is told of it.

use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

use crate::house::{Ground, House};

/// `waverantd answer`. Killed when dropped.
struct Answerer {
    child: Child,
    address: SocketAddr,
}

impl Answerer {
    fn start(ground: &Ground) -> Self {
        let mut command = Command::new(env!("CARGO_BIN_EXE_waverantd"));
        command.args(["answer", "--listen", "127.0.0.1:0", "--secret-file"]).arg(ground.path("answerer-secret"));
        let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().strip_prefix("answering at ").expect(&line).parse().unwrap();
        Self { child, address }
    }

    fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Answerer {
    fn drop(&mut self) {
        self.stop();
    }
}

/// A house whose doors for encoders and viewers are for all, with a helper.
fn write_settings(ground: &Ground, answerer: SocketAddr, secret_file: &str, doors: [SocketAddr; 3]) {
    ground.write_settings(&format!(
        "[outside]\nanswerer = \"http://{answerer}\"\nsecret_file = \"{}\"\n",
        ground.path(secret_file).display()
    ));
    let mut text = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    for (name, address) in ["rtmp", "srt", "viewing"].into_iter().zip(doors) {
        text = text.replace(&format!("{name} = \"127.0.0.1:0\""), &format!("{name} = \"{address}\""));
    }
    std::fs::write(ground.path("waverant.toml"), text).unwrap();
}

fn everywhere() -> [SocketAddr; 3] {
    [SocketAddr::from(([0, 0, 0, 0], 0)); 3]
}

fn door<'a>(outside: &'a Value, name: &str) -> &'a Value {
    outside["doors"].as_array().unwrap().iter().find(|door| door["name"] == name).unwrap()
}

fn tried(house: &House<'_>) -> Value {
    house.call("POST", "/outside/tries", None)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_helper_tries_the_doors_that_are_for_all() {
    let ground = Ground::new().await;
    let mut answerer = Answerer::start(&ground);
    write_settings(&ground, answerer.address, "answerer-secret", everywhere());
    let house = ground.start();
    let untried = house.get("/outside");
    assert_eq!(untried["answerer"]["seen_as"], json!([]), "looking asks nobody: {untried}");
    assert_eq!(door(&untried, "rtmp")["tries"], json!([]));

    let found = tried(&house);
    assert_eq!(found["answerer"]["seen_as"], json!(["127.0.0.1"]), "{found}");
    for (name, port, transport) in
        [("rtmp", house.rtmp.port(), "tcp"), ("srt", house.srt.port(), "udp"), ("viewing", house.viewing.port(), "tcp")]
    {
        let door = door(&found, name);
        assert_eq!((&door["port"], &door["transport"]), (&json!(port), &json!(transport)));
        assert_eq!((&door["verdict"], &door["tries"][0]["outcome"]), (&json!("reached"), &json!("answered")), "{door}");
    }
    let console = door(&found, "http");
    assert_eq!((&console["verdict"], &console["tries"]), (&json!("inside"), &json!([])));
    // Loopback is not out there.
    assert_eq!(door(&found, "rtmp")["reached"], Value::Null);

    // An address is answered every two seconds; on a slow machine that is over already.
    let again = tried(&house);
    let is_put_off = again["answerer"]["fault"].as_str().is_some_and(|fault| fault.contains("a moment ago"));
    assert!(is_put_off || door(&again, "rtmp")["verdict"] == "reached", "{again}");
    answerer.stop();
    let gone = tried(&house);
    assert!(gone["answerer"]["fault"].as_str().unwrap().contains("could not be called"), "{gone}");
    assert_ne!(door(&gone, "rtmp")["verdict"], "reached", "what was found before is not told as found now");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_tells_the_same() {
    let ground = Ground::new().await;
    let answerer = Answerer::start(&ground);
    write_settings(&ground, answerer.address, "answerer-secret", everywhere());
    let look = || {
        let output = ground.command().args(["check", "--outside"]).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (_, stopped) = look();
    assert!(stopped.contains("not asked: the service does not run"), "{stopped}");
    let house = ground.start();
    // The settings leave the ports to the system; these are the ones.
    write_settings(&ground, answerer.address, "answerer-secret", [house.rtmp, house.srt, house.viewing]);
    let (code, told) = look();
    assert!(told.contains("it saw us come from 127.0.0.1"), "{told}");
    let line = told.lines().find(|line| line.trim_start().starts_with("srt ")).unwrap();
    assert!(line.contains(&format!("udp {}", house.srt.port())) && line.ends_with("reached"), "{told}");
    assert!(told.contains("called at 127.0.0.1: answered after"), "{told}");
    assert!(told.contains("there is none: set house.host"), "{told}");
    assert_eq!(code, Some(0), "{told}");
}

/// A helper answers who has its secret, and calls who asks; nobody else.
#[tokio::test(flavor = "multi_thread")]
async fn a_helper_is_of_no_use_to_strangers() {
    let ground = Ground::new().await;
    let answerer = Answerer::start(&ground);
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(ground.path("answerer-secret")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let ask = |body: &[u8]| {
        let answer = agent.post(format!("http://{}/try", answerer.address)).send(body);
        answer.map(|answer| answer.status().as_u16())
    };
    assert_eq!(ask(br#"{"doors": [{"transport": "tcp", "port": 22}]}"#).unwrap(), 401);
    assert!(matches!(ask(&[b' '; 100_000]), Ok(413) | Err(_)), "much is not read");

    // Who connects and says nothing is hung up on.
    let silent = std::net::TcpStream::connect(answerer.address).unwrap();
    silent.set_read_timeout(Some(Duration::from_secs(40))).unwrap();
    let mut byte = [0];
    let hung_up = tokio::task::spawn_blocking(move || std::io::Read::read(&mut &silent, &mut byte)).await.unwrap();
    assert!(matches!(hung_up, Ok(0)) || hung_up.is_err_and(|error| error.kind() != std::io::ErrorKind::WouldBlock));

    // Another secret.
    std::fs::write(ground.path("other"), "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw").unwrap();
    write_settings(&ground, answerer.address, "other", everywhere());
    let house = ground.start();
    let found = tried(&house);
    assert!(found["answerer"]["fault"].as_str().unwrap().contains("signed with another secret"), "{found}");
}

/// Without a helper it is said how to have one.
#[tokio::test(flavor = "multi_thread")]
async fn without_a_helper_it_is_said_how_to_have_one() {
    let ground = Ground::new().await;
    let house = ground.start();
    let (status, told) = house.try_call("POST", "/outside/tries", None);
    assert_eq!(status, 409);
    assert!(told["detail"].as_str().unwrap().contains("waverantd answer"), "{told}");
    let outside = house.get("/outside");
    assert_eq!((&outside["answerer"], &outside["name"]), (&Value::Null, &Value::Null));
    assert!(outside["doors"].as_array().unwrap().iter().all(|door| door["verdict"] == "inside"), "{outside}");
}
