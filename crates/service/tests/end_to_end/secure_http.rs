//! Console and viewers over TLS, by a foreign client.

use std::io::Read;
use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

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
    let cookie = signed_in.lines().find(|line| line.starts_with("set-cookie")).unwrap().trim_end();
    assert!(cookie.starts_with("set-cookie: __Host-waverant=") && cookie.ends_with("; Secure"), "{cookie}");
    assert!(signed_in.contains("strict-transport-security: max-age=31536000"), "{signed_in}");
    // Over TLS nothing counts that a neighbour could have put there in the clear.
    let pair = cookie.split([' ', ';']).nth(1).unwrap();
    let me = |cookie: &str| {
        let header = format!("cookie: {cookie}");
        client.call(
            &["--output", "/dev/null", "--write-out", "%{http_code}", "--header", &header],
            console,
            "/api/v1/me",
        )
    };
    assert_eq!(me(pair).unwrap(), "200");
    assert_eq!(me(pair.trim_start_matches("__Host-")).unwrap(), "401");
    let plain = ureq::get(format!("http://{}/health/live", house.http)).call().unwrap();
    assert!(plain.headers().get("strict-transport-security").is_none());
    let policy = plain.headers()["content-security-policy"].to_str().unwrap();
    assert!(policy.starts_with("default-src 'self'") && !policy.contains("unsafe"), "{policy}");
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
    let ask = |authority: &Authority| Client::new(&ground, authority).call(&["--http2"], at, "/watch/none");
    assert!(ask(&first).unwrap().contains("There is no such channel"));
    assert!(matches!(ask(&second), Err(35 | 60)), "signed by another authority");
    write_certificate(&ground, &second);
    house.wait_until("the new one is in use", |house| house.ground.log().contains("new certificate is in use")).await;
    assert!(ask(&second).unwrap().contains("There is no such channel"));
    silent.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    assert_eq!(silent.read(&mut [0; 16]).unwrap(), 0);
}

/// Who comes in the clear is led to the console over TLS.
#[tokio::test(flavor = "multi_thread")]
async fn the_clear_leads_to_tls() {
    let ground = Ground::new().await;
    let authority = Authority::new().unwrap();
    write_certificate(&ground, &authority);
    use_certificate(&ground);
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let with = settings.replace("[listen]", "[listen]\nredirect = \"127.0.0.1:0\"");
    std::fs::write(ground.path("waverant.toml"), with).unwrap();
    let house = ground.start();
    let ready: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(ground.path("ready.json")).unwrap()).unwrap();
    let redirect: SocketAddr = ready["redirect"].as_str().unwrap().parse().unwrap();
    let https = house.https.unwrap().port();
    let client = Client::new(&ground, &authority);
    let mut led = Command::new("curl");
    led.args(["--silent", "--max-time", "10", "--location", "--cacert"]).arg(&client.authority);
    led.args(["--write-out", "\n%{url_effective} %{http_code}"]);
    let output = led.arg(format!("http://localhost:{}/people", redirect.port())).output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(told.ends_with(&format!("\nhttps://localhost:{https}/people 200")), "{told}");
    let mut sent = Command::new("curl");
    sent.args(["--silent", "--max-time", "10", "--data", "{}", "--write-out", "%{http_code}", "--output", "/dev/null"]);
    let output = sent.arg(format!("http://localhost:{}/api/v1/sign-in", redirect.port())).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "405", "a password is not asked for twice");
}

/// TLS 1.2 and 1.3 with suites of our time are spoken, and nothing older.
#[tokio::test(flavor = "multi_thread")]
async fn old_tls_is_not_spoken() {
    let ground = Ground::new().await;
    write_certificate(&ground, &Authority::new().unwrap());
    let house = secure_house(&ground);
    // True if the handshake comes to its end. The client is to offer whatever it knows.
    let shakes_hands = |options: &[&str]| {
        let at = house.https.unwrap().to_string();
        let mut client = Command::new("openssl");
        let output =
            client.args(["s_client", "-connect", &at]).args(options).stdin(std::process::Stdio::null()).output();
        let told = String::from_utf8_lossy(&output.unwrap().stdout).into_owned();
        told.contains("Cipher is ") && !told.contains("Cipher is (NONE)")
    };
    let any = "ALL:COMPLEMENTOFALL:@SECLEVEL=0";
    for (options, expected) in [
        (&["-tls1_3"][..], true),
        (&["-tls1_2", "-cipher", any], true),
        (&["-tls1_2", "-cipher", "ECDHE-ECDSA-AES128-SHA256:ECDHE-ECDSA-AES256-SHA:AES128-SHA:@SECLEVEL=0"], false),
        (&["-tls1_1", "-cipher", any], false),
        (&["-tls1", "-cipher", any], false),
    ] {
        assert_eq!(shakes_hands(options), expected, "{options:?}");
    }
}
