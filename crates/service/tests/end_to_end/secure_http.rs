//! Console and viewers over TLS, by a foreign client.

use std::io::Read;
use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

use serde_json::json;
use waverant_standin::Authority;

use crate::house::{Ground, House, PASSWORD};
use crate::secure::{use_certificate, write_certificate};

/// One call of the foreign client; what it printed, or that it trusts not whom it met.
struct Client {
    authority: PathBuf,
}

impl Client {
    fn new(ground: &Ground, authority: &Authority) -> Self {
        let path = ground.path("authority.pem");
        std::fs::write(&path, authority.pem()).unwrap();
        Self { authority: path }
    }

    fn call(&self, options: &[&str], at: SocketAddr, path: &str) -> Result<String, i32> {
        let address = format!("https://localhost:{}{path}", at.port());
        let mut command = Command::new("curl");
        command.args(["--silent", "--show-error", "--max-time", "10", "--cacert"]).arg(&self.authority);
        let output = command.args(options).arg(address).output().unwrap();
        match output.status.code() {
            Some(0) => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
            code => Err(code.unwrap_or(-1)),
        }
    }
}

fn secure_house(ground: &Ground) -> House<'_> {
    use_certificate(ground);
    ground.start()
}

#[tokio::test(flavor = "multi_thread")]
async fn viewers_and_console_are_served_over_tls_in_both_versions_of_http() {
    let ground = Ground::new().await;
    let authority = Authority::new().unwrap();
    write_certificate(&ground, &authority);
    let house = secure_house(&ground);
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let (client, viewing, console) =
        (Client::new(&ground, &authority), house.viewing_https.unwrap(), house.https.unwrap());
    let told = &house.get("/channels/finish-line")["viewing"]["addresses"];
    assert_eq!(told["page"], format!("https://127.0.0.1:{}/watch/finish-line", viewing.port()));
    assert_eq!(told["pictures"], format!("wss://127.0.0.1:{}/watch/finish-line/pictures", viewing.port()));
    let show = house.publish(house.encoder(&key, 6.0));
    let watching = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        tokio::time::sleep(Duration::from_millis(2500)).await;
        for (version, expected) in [("--http2", "2"), ("--http1.1", "1.1")] {
            let ask =
                |path: &str| client.call(&[version, "--write-out", "\n%{http_version} %{http_code}"], viewing, path);
            let playlist = ask("/watch/finish-line/live/index.m3u8").unwrap();
            assert!(playlist.starts_with("#EXTM3U") && playlist.ends_with(&format!("\n{expected} 200")), "{playlist}");
            let page = ask("/watch/finish-line").unwrap();
            assert!(page.contains("<!doctype html>") && page.ends_with(&format!("\n{expected} 200")), "{page}");
        }
        // Many at once, and one that goes on for as long as it is taken.
        let all =
            ["--http2", "--parallel", "--parallel-immediate", "--output", "/dev/null", "--write-out", "%{http_code} "];
        let many = client.call(&all, viewing, "/watch/finish-line/still.jpg?width=320&turn=[1-60]").unwrap();
        assert_eq!(many.matches("200 ").count(), 60, "{many}");
        let stream = ["--http2", "--output", "/dev/null", "--write-out", "%{size_download}", "--max-time", "2"];
        assert_eq!(client.call(&stream, viewing, "/watch/finish-line/stream.ts"), Err(28), "it goes on");
    };
    tokio::join!(show, watching);
    let form = json!({"name": "harbour", "password": PASSWORD}).to_string();
    let sign_in = ["--http2", "--include", "--header", "content-type: application/json", "--data", &form];
    let signed_in = client.call(&sign_in, console, "/api/v1/sign-in").unwrap();
    assert!(signed_in.starts_with("HTTP/2 200") && signed_in.contains("SameSite=Strict"), "{signed_in}");
    assert!(signed_in.lines().any(|line| line.starts_with("set-cookie") && line.trim_end().ends_with("; Secure")));
    let foreign = [&sign_in[..], &["--header", "origin: https://localhost:1"]].concat();
    assert!(client.call(&foreign, console, "/api/v1/sign-in").unwrap().starts_with("HTTP/2 403"));
    let own = format!("origin: https://localhost:{}", console.port());
    let own = [&sign_in[..], &["--header", &own]].concat();
    assert!(client.call(&own, console, "/api/v1/sign-in").unwrap().starts_with("HTTP/2 200"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_certificate_of_http_is_exchanged_while_running_and_silence_is_not_waited_for() {
    let ground = Ground::new().await;
    let (first, second) = (Authority::new().unwrap(), Authority::new().unwrap());
    write_certificate(&ground, &first);
    let house = secure_house(&ground);
    let at = house.viewing_https.unwrap();
    let mut silent = TcpStream::connect(at).unwrap();
    let began = Instant::now();
    let ask = |authority: &Authority| Client::new(&ground, authority).call(&["--http2"], at, "/watch/none");
    assert!(ask(&first).unwrap().contains("There is no such channel"));
    assert!(matches!(ask(&second), Err(35 | 60)), "signed by another authority");
    write_certificate(&ground, &second);
    house.wait_until("the new one is in use", |house| house.ground.log().contains("new certificate is in use")).await;
    assert!(ask(&second).unwrap().contains("There is no such channel"));
    silent.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    assert_eq!(silent.read(&mut [0; 16]).unwrap(), 0);
    assert!(began.elapsed() < Duration::from_secs(8), "{:?}", began.elapsed());
}
