//! The fault matrix: everything that platforms do wrong, in one show, beside two that do it right.

use std::io::Write;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use waverant_standin::{
    Authority, EncoderEnd, EncoderReport, Platform, PlatformFault, PlatformOptions, PlatformReport, Validity, compare,
};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY};

/// How long the show lasts: a silent platform is given up after ten seconds.
const SHOW_SECONDS: f64 = 26.0;

/// What a healthy platform took of the show must be all of it, over one connection.
fn check_unharmed(sent: &EncoderReport, report: &PlatformReport, name: &str) {
    assert_eq!(report.connections.len(), 1, "{name}");
    let connection = &report.connections[0];
    assert_eq!((&connection.fault, connection.was_ended), (&None, true), "{name}");
    let found = compare(&sent.sent, &connection.received, true);
    assert_eq!((found.fault, found.first_picture), (None, Some(0)), "{name}");
}

fn secure(authority: &Authority, name: &str, validity: Validity) -> PlatformOptions {
    let tls = Some(authority.issue(name, validity).unwrap().server_config().unwrap());
    PlatformOptions { tls, ..PlatformOptions::new(PLATFORM_KEY) }
}

/// Lets everything through to `target`, and breaks off in the middle of what it forwards once so many
/// bytes have passed.
async fn cutter(target: SocketAddr, after: usize) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut near, _)) = listener.accept().await {
            let mut far = TcpStream::connect(target).await.unwrap();
            tokio::spawn(async move {
                let (mut near_read, mut near_write) = near.split();
                let (mut far_read, mut far_write) = far.split();
                let upwards = async {
                    let (mut left, mut buffer) = (after, vec![0; 4096]);
                    while let Ok(count @ 1..) = near_read.read(&mut buffer).await {
                        let passed = count.min(left);
                        left -= passed;
                        if far_write.write_all(&buffer[..passed]).await.is_err() || left == 0 {
                            return;
                        }
                    }
                };
                tokio::select! {
                    () = upwards => {}
                    _ = tokio::io::copy(&mut far_read, &mut near_write) => {}
                }
            });
        }
    });
    address
}

/// A platform in a network namespace of its own, whose answers can be made to vanish.
struct Island {
    name: String,
    host: String,
    platform: Child,
    address: String,
}

fn ip(arguments: &str) -> bool {
    let status = Command::new("ip").args(arguments.split(' ')).stderr(Stdio::null()).status();
    status.is_ok_and(|status| status.success())
}

impl Island {
    /// None where a test may not make a namespace.
    fn new(ground: &Ground) -> Option<Self> {
        let number = std::process::id() % 200 + 20;
        let (name, host) = (format!("wvt{number}"), format!("10.77.{number}.1"));
        let ready = ground.path("island.address");
        let made = ip(&format!("netns add {name}"))
            && ip(&format!("link add {name}h type veth peer name {name}n netns {name}"))
            && ip(&format!("addr add {host}/24 dev {name}h"))
            && ip(&format!("link set {name}h up"))
            && ip(&format!("netns exec {name} ip addr add 10.77.{number}.2/24 dev {name}n"))
            && ip(&format!("netns exec {name} ip link set {name}n up"));
        if !made {
            ip(&format!("netns del {name}"));
            return None;
        }
        let standin = PathBuf::from(env!("CARGO_BIN_EXE_waverantd")).with_file_name("waverant-standin");
        let platform = Command::new("ip")
            .args(["netns", "exec", &name])
            .arg(standin)
            .args(["platform", "--listen", &format!("10.77.{number}.2:0"), "--key", PLATFORM_KEY, "--ready-file"])
            .arg(&ready)
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let deadline = Instant::now() + PATIENCE;
        let address = loop {
            match std::fs::read_to_string(&ready) {
                Ok(address) if !address.is_empty() => break address.trim().to_owned(),
                _ => assert!(Instant::now() < deadline, "the platform in the namespace does not start"),
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        Some(Self { name, host, platform, address })
    }

    /// From now on nothing comes back from it: no data, no acknowledgement, no reset.
    fn vanish(&self) {
        let name = &self.name;
        assert!(ip(&format!("netns exec {name} ip route add blackhole {}/32", self.host)));
    }
}

impl Drop for Island {
    fn drop(&mut self) {
        let _ = self.platform.kill();
        let _ = self.platform.wait();
        ip(&format!("netns del {}", self.name));
    }
}

async fn leg_where(house: &House<'_>, name: &str, what: &str, condition: impl Fn(&Value) -> bool) -> Value {
    house.wait_until(&format!("{name} {what}"), |house| condition(&house.leg(name))).await;
    house.leg(name)
}

fn reason(leg: &Value) -> &str {
    leg["reason"].as_str().unwrap_or_default()
}

/// The legs to platforms that do it wrong, each with what it must say.
async fn watch_faulty(house: &House<'_>) {
    for (name, part) in [
        ("refuses", "No streams today."),
        ("resets", "the connection broke"),
        ("flaps", "the connection broke"),
        ("says-nothing", "handshake"),
        ("no-such-name", "the name `no-such-host.invalid` was not found"),
        ("cut-in-a-record", "the connection broke"),
        ("wrong-certificate", "certificate"),
        ("stalls", "took nothing for 10 s"),
    ] {
        let leg = leg_where(house, name, part, |leg| reason(leg).contains(part)).await;
        assert!(leg["redial_count"].as_u64().is_some());
    }
    let jumped = |leg: &Value| leg["dropped_frame_count"].as_u64() > Some(0);
    let leg = leg_where(house, "reads-slowly", "jumps", jumped).await;
    assert_eq!((&leg["redial_count"], &leg["state"]), (&json!(0), &json!("carrying")), "slow is not gone: {leg}");
    assert!(leg["dropped_ms"].as_u64() > Some(1000), "{leg}");
    let leg = leg_where(house, "expires", "is told", |leg| reason(leg).contains("expired")).await;
    assert!(leg["sent_frame_count"].as_u64() > Some(60), "it was good for a while: {leg}");
}

#[tokio::test(flavor = "multi_thread")]
async fn no_fault_of_a_platform_hurts_its_neighbours() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let (known, unknown) = (Authority::new().unwrap(), Authority::new().unwrap());
    let healthy = house.add_platform("healthy", None).await;
    let healthy_tls =
        house.add_platform_with("healthy-tls", secure(&known, "localhost", Validity::Good), Some(known.pem())).await;
    let mut faulty: Vec<Platform> = Vec::new();
    for (name, fault) in [
        ("refuses", PlatformFault::Refuse),
        ("resets", PlatformFault::ResetOnceAfter(Duration::from_secs(3))),
        ("stalls", PlatformFault::StallAfter(Duration::from_secs(1))),
        ("reads-slowly", PlatformFault::ReadSlowly(12_500)),
        ("flaps", PlatformFault::ResetAfter(Duration::from_secs(1))),
        ("says-nothing", PlatformFault::SayNothing),
    ] {
        faulty.push(house.add_platform(name, Some(fault)).await);
    }
    let cut = house
        .add_platform_with("cut-in-a-record", secure(&known, "localhost", Validity::Good), Some(known.pem()))
        .await;
    let through = cutter(cut.address(), 300_001).await;
    let address = format!("rtmps://localhost:{}/live", through.port());
    house.call("PATCH", "/destinations/cut-in-a-record", Some(json!({ "address": address })));
    let wrong = secure(&unknown, "localhost", Validity::Good);
    faulty.push(house.add_platform_with("wrong-certificate", wrong, Some(known.pem())).await);
    let mut expiring = secure(&known, "localhost", Validity::EndsIn(5));
    expiring.fault = Some(PlatformFault::ResetOnceAfter(Duration::from_secs(6)));
    faulty.push(house.add_platform_with("expires", expiring, Some(known.pem())).await);
    let nowhere = json!({"name": "no-such-name", "address": "rtmp://no-such-host.invalid/in", "key": PLATFORM_KEY});
    house.call("POST", "/destinations", Some(nowhere));
    house.switch("no-such-name", true);
    let island = Island::new(&ground);
    if let Some(island) = &island {
        let address = format!("rtmp://{}/live", island.address);
        house.call("POST", "/destinations", Some(json!({"name": "vanishes", "address": address, "key": PLATFORM_KEY})));
        house.switch("vanishes", true);
    } else {
        let _ =
            writeln!(std::io::stderr(), "SKIPPED: a platform that vanishes, since no network namespace may be made");
    }
    let vanishing = async {
        let Some(island) = &island else { return };
        leg_where(&house, "vanishes", "carries", |leg| leg["sent_frame_count"].as_u64() > Some(60)).await;
        island.vanish();
        leg_where(&house, "vanishes", "is given up", |leg| reason(leg).contains("took nothing for 10 s")).await;
    };
    let publish = house.publish(house.encoder(&key, SHOW_SECONDS));
    let (sent, (), ()) = tokio::join!(publish, watch_faulty(&house), vanishing);
    assert_eq!(sent.end, EncoderEnd::Finished);
    for (platform, name) in [(&healthy, "healthy"), (&healthy_tls, "healthy over TLS")] {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        check_unharmed(&sent, &platform.report(), name);
    }
    // Who took something took it unbroken.
    for connection in &faulty[1].report().connections {
        assert_eq!(compare(&sent.sent, &connection.received, false).fault, None);
    }
    assert!(faulty[4].report().connections.len() >= 4, "a flapping platform is dialed again, later and later");
    house.ended_session(1).await;
    let report = house.get("/sessions/1/report");
    for leg in report["legs"].as_array().unwrap() {
        let name = leg["destination"].as_str().unwrap();
        match name {
            "healthy" | "healthy-tls" => {
                assert_eq!((&leg["gap_count"], &leg["dropped_frame_count"]), (&json!(0), &json!(0)))
            }
            "resets" => assert_eq!((&leg["gap_count"], &leg["redial_count"]), (&json!(1), &json!(1)), "{leg}"),
            "stalls" | "flaps" => {
                assert!(leg["lost_ms"].as_u64() > Some(0) && leg["gaps"][0]["reason"].is_string(), "{leg}")
            }
            "refuses" | "says-nothing" | "no-such-name" | "wrong-certificate" => {
                assert_eq!((&leg["began_at_ms"], &leg["carried_ms"]), (&Value::Null, &json!(0)), "{leg}");
            }
            _ => {}
        }
    }
    assert!(house.resident_kib() < 100 * 1024, "memory is bounded");
}
