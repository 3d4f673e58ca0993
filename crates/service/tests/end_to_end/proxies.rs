//! Proxies before the doors, which say who calls.

use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tokio::io::{AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpSocket};
use waverant_standin::{EncoderEnd, connect_as, stranger_address};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD};

/// Where the proxy of the house calls from.
fn proxy() -> IpAddr {
    stranger_address(1)
}

/// Version 2, of an encoder at 203.0.113.20, port 4000, that came over TLS.
fn second_version() -> Vec<u8> {
    let head = [&b"\r\n\r\n\0\r\nQUIT\n"[..], &[0x21, 0x11, 0, 20]].concat();
    let addresses = [203, 0, 113, 20, 192, 0, 2, 1, 0x0f, 0xa0, 7, 143];
    [&head[..], &addresses, &[0x20, 0, 5, 1, 0, 0, 0, 0]].concat()
}

/// A proxy before `to` that announces each caller with `announcement`.
async fn proxy_before(to: SocketAddr, announcement: Vec<u8>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut caller, _)) = listener.accept().await {
            let announcement = announcement.clone();
            tokio::spawn(async move {
                let socket = TcpSocket::new_v4().unwrap();
                socket.bind(SocketAddr::new(proxy(), 0)).unwrap();
                let mut relay = socket.connect(to).await.unwrap();
                relay.write_all(&announcement).await.unwrap();
                let _ = copy_bidirectional(&mut caller, &mut relay).await;
            });
        }
    });
    address
}

fn sign_in_from(house: &House<'_>, from: IpAddr, announcement: &[u8]) -> String {
    let mut stream = connect_as(from, house.http).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let body = json!({"name": "harbour", "password": PASSWORD}).to_string();
    let head = format!("POST /api/v1/sign-in HTTP/1.1\r\nhost: {}\r\ncontent-type: application/json\r\n", house.http);
    let request = format!("{head}content-length: {}\r\nconnection: close\r\n\r\n{body}", body.len());
    let _ = stream.write_all(&[announcement, request.as_bytes()].concat());
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    answer
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_are_who_the_proxy_announces() {
    let ground = Ground::new().await;
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let with = format!("[house]\nproxies = \"{}\"\nproxy_protocol = \"rtmp http\"", proxy());
    std::fs::write(ground.path("waverant.toml"), settings.replace("[house]", &with)).unwrap();
    let house = ground.start();
    house.make_channel(0);
    // What came to the proxy over TLS came over TLS.
    let bound = json!({"label": "van", "allowed_from": ["203.0.113.0/24"], "protocols": ["rtmps"]});
    let key = house.call("POST", "/channels/finish-line/keys", Some(bound))["encoder"]["key"].clone();
    let key = key.as_str().unwrap();

    let platform = house.add_platform("plovio", None).await;
    let before_rtmp = proxy_before(house.rtmp, second_version()).await;
    let through = |at: SocketAddr| {
        let mut options = house.encoder(key, 1.5);
        options.server = format!("rtmp://{at}/in");
        options
    };
    let sent = house.publish(through(before_rtmp)).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    house.ended_session(1).await;
    let session = house.get("/sessions")["items"][0].clone();
    assert_eq!(session["publisher_address"], "203.0.113.20:4000");
    assert!(!platform.report().connections.is_empty());
    // The rule of the key looks at the real caller, and so does the list of who was turned away.
    let elsewhere = proxy_before(house.rtmp, b"PROXY TCP4 198.51.100.7 192.0.2.1 56324 1935\r\n".to_vec()).await;
    let refused = house.publish(through(elsewhere)).await;
    assert!(matches!(refused.end, EncoderEnd::Refused { .. }), "{:?}", refused.end);
    house.wait_until("turned away", |house| latest(house)["address"] == "198.51.100.7").await;
    // A proxy that says nothing of the kind is not taken for a caller.
    let silent = proxy_before(house.rtmp, Vec::new()).await;
    assert_ne!(house.publish(through(silent)).await.end, EncoderEnd::Finished);
    house.wait_until("turned away", |house| latest(house)["detail"].as_str().unwrap().contains("PROXY protocol")).await;

    let over_tls = sign_in_from(&house, proxy(), &second_version());
    assert!(
        over_tls.contains("set-cookie: __Host-waverant=") && over_tls.contains("strict-transport-security"),
        "{over_tls}"
    );
    let acts = house.get("/acts?what=sign_in&limit=1");
    assert_eq!(acts["items"][0]["address"], "203.0.113.20");
    assert_eq!(sign_in_from(&house, proxy(), b""), "", "without an announcement it is closed");
    let direct = sign_in_from(&house, stranger_address(2), b"");
    assert!(direct.starts_with("HTTP/1.1 200") && direct.contains("set-cookie: waverant="), "{direct}");
    let claimed = sign_in_from(&house, stranger_address(2), &second_version());
    assert!(!claimed.starts_with("HTTP/1.1 200"), "a stranger announces nobody: {claimed}");
    let began = Instant::now();
    let mut slow = connect_as(proxy(), house.http).unwrap();
    slow.write_all(b"PROXY TCP4 ").unwrap();
    slow.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    assert_eq!(slow.read(&mut [0; 16]).unwrap(), 0, "it has five seconds");
    assert!(began.elapsed() > Duration::from_secs(4));
}

fn latest(house: &House<'_>) -> Value {
    house.get("/turned-away?limit=1")["items"][0].clone()
}

/// A command line reaches the service under the path of a proxy, too, and links of invitations have it.
#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_knows_the_path_of_a_proxy() {
    let ground = Ground::new().await;
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let with = settings.replace("[house]", "[house]\nconsole_path = \"/club/relay\"");
    std::fs::write(ground.path("waverant.toml"), with).unwrap();
    let house = ground.start();
    let shell = Shell { house: &house };
    let url = format!("http://{}/club/relay/", house.http);
    let sign_in = ["sign-in", &url, "--name", "harbour", "--password-file", "-", "--role", "administrator"];
    let done = shell.run_with(&sign_in, PASSWORD);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let told = shell.run(&["person", "add", "cox", "--role", "observer"]);
    assert!(told.contains(&format!("{url}invitation#")), "{told}");
}
