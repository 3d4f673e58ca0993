//! Debian's tshark reads captures of shows, encoder's, platform's and player's side, as RTMP.

use std::io::Write;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use rstest::rstest;
use waverant_standin::{Clip, Encoder, EncoderEnd, EncoderOptions, Network, NetworkFaults, Player, PlayerOptions};

use crate::house::{Ground, House, PATIENCE};

/// A capture of some ports of loopback.
struct Capture {
    file: PathBuf,
    ports: Vec<u16>,
    protocol: &'static str,
    child: Child,
}

impl Capture {
    /// Starts capturing; returns when packets are taken, since the first ones matter most.
    async fn start(house: &House<'_>, ports: Vec<u16>) -> Self {
        Self::start_as(house, ports, "tcp", "rtmpt").await
    }

    async fn start_as(house: &House<'_>, ports: Vec<u16>, lower: &'static str, protocol: &'static str) -> Self {
        let file = house.ground.path("show.pcapng");
        let filter: Vec<String> = ports.iter().map(|port| format!("{lower} port {port}")).collect();
        let child = Command::new("tshark")
            .args(["-q", "-i", "lo", "-B", "64", "-f", &filter.join(" or "), "-w"])
            .arg(&file)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // It has written its head when it begins.
        house.wait_until("the capture runs", |_| std::fs::metadata(&file).is_ok_and(|file| file.len() > 0)).await;
        tokio::time::sleep(Duration::from_millis(500)).await;
        Self { file, ports, protocol, child }
    }

    async fn end(&mut self) {
        tokio::time::sleep(Duration::from_millis(1500)).await;
        let _ = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        self.child.wait().unwrap();
    }

    /// The values of `field` in packets that `display` lets through.
    fn dissect(&self, display: &str, field: &str) -> String {
        self.read(&["-Y", display, "-T", "fields", "-e", field])
    }

    /// Packets that `display` lets through, in words and bytes, for who has to find out why.
    fn show(&self, display: &str) -> String {
        self.read(&["-Y", display, "-V", "-x"])
    }

    fn read(&self, options: &[&str]) -> String {
        let mut command = Command::new("tshark");
        command.arg("-r").arg(&self.file);
        for port in &self.ports {
            let lower = if self.protocol == "srt" { "udp" } else { "tcp" };
            command.args(["-d", &format!("{lower}.port=={port},{}", self.protocol)]);
        }
        command.args(["-o", "rtmpt.max_packet_size:16000000", "-o", "tcp.reassemble_out_of_order:TRUE"]);
        let output = command.args(options).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }
}

fn has_tshark() -> bool {
    let found = Command::new("tshark").arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok();
    if !found {
        let _ = writeln!(std::io::stderr(), "SKIPPED: tshark is not installed");
    }
    found
}

/// Every dialect of ours and of encoders is dissected without a malformed packet.
#[rstest]
#[case::plain(4096, 0)]
#[case::small_chunks(128, 0)]
#[case::large_chunks(1 << 20, 0)]
#[case::extended_timestamps(4096, 0x0123_4567)]
#[case::extended_timestamps_in_small_chunks(128, 0xffff_ff00)]
#[tokio::test(flavor = "multi_thread")]
async fn tshark_finds_nothing_malformed(#[case] chunk_size: u32, #[case] first_timestamp_ms: i64) {
    if !has_tshark() {
        return;
    }
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let viewing = house.make_viewing_key();
    let platform = house.add_platform("plovio", None).await;
    let mut capture = Capture::start(&house, vec![house.rtmp.port(), platform.address().port()]).await;
    let mut options = house.encoder(&key, 2.5);
    (options.chunk_size, options.first_timestamp_ms) = (chunk_size, first_timestamp_ms);
    let player = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        let server = format!("rtmp://{}/out", house.rtmp);
        let options = PlayerOptions { server, key: viewing, length: Duration::from_secs(10), pause: None };
        Player::new(options).run().await.unwrap()
    };
    let (_, watched) = tokio::join!(house.publish(options), player);
    assert!(watched.received.len() > 20);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    capture.end().await;
    assert_eq!(capture.show("_ws.malformed"), "");
    let types = capture.dissect("rtmpt", "rtmpt.header.typeid");
    for (name, number) in [("audio", "0x08"), ("video", "0x09"), ("command", "0x14"), ("data", "0x12")] {
        assert!(types.contains(number), "{name} messages are dissected: {}", &types[..types.len().min(300)]);
    }
}

/// Tags that name codecs by letters lie in the same messages.
#[tokio::test(flavor = "multi_thread")]
async fn tshark_finds_nothing_malformed_in_enhanced_rtmp() {
    if !has_tshark() {
        return;
    }
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let mut capture = Capture::start(&house, vec![house.rtmp.port(), platform.address().port()]).await;
    let clip = Clip::made(&["hevc", "aac", "opus", "ac3"]).unwrap();
    Encoder::new(clip, house.encoder(&key, 2.0)).run().await.unwrap();
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    capture.end().await;
    assert_eq!(capture.show("_ws.malformed"), "");
    assert!(capture.dissect("rtmpt", "rtmpt.header.typeid").contains("0x09"));
}

/// Handshake, data, acknowledgements, loss reports, signs of life and goodbye, on a line that
/// loses some, in clear and encrypted.
#[rstest]
#[case::clear(None)]
#[case::encrypted(Some("wexcombe reach"))]
#[tokio::test(flavor = "multi_thread")]
async fn tshark_finds_nothing_malformed_in_srt(#[case] passphrase: Option<&str>) {
    if !has_tshark() {
        return;
    }
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(serde_json::json!({"srt": {"passphrase": passphrase.unwrap_or_default()}}));
    let faults = NetworkFaults { loss: 0.03, delay: Duration::from_millis(10), ..NetworkFaults::default() };
    let network = Network::start(house.srt, (faults, faults), 3).await.unwrap();
    let mut capture = Capture::start_as(&house, vec![house.srt.port()], "udp", "srt").await;
    let mut options = EncoderOptions::new(format!("srt://{}", network.address()), key, Duration::from_secs(3));
    options.srt.passphrase = passphrase.map(str::to_owned);
    let sent = Encoder::new(crate::house::clip(), options).run().await.unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished);
    capture.end().await;
    // What lies in payloads is looked at too, and on this line has holes; that is not SRT's.
    let malformed = capture.dissect("_ws.malformed", "frame.protocols");
    let is_of_srt = malformed.lines().any(|layers| !layers.contains("srt:"));
    assert!(!is_of_srt, "{}", capture.show("_ws.malformed"));
    let types = capture.dissect("srt.iscontrol == 1", "srt.type");
    for (name, number) in [("handshake", 0), ("ack", 2), ("nak", 3), ("shutdown", 5), ("ackack", 6)] {
        let is_there = types.lines().any(|line| {
            let line = line.trim();
            line == format!("{number}") || line == format!("{number:#06x}") || line == format!("{number:#x}")
        });
        assert!(is_there, "no {name} among {:?}", types.lines().collect::<std::collections::BTreeSet<_>>());
    }
    assert!(capture.dissect("srt.iscontrol == 0", "srt.seqno").lines().count() > 100);
    let told = capture.dissect("srt.hs.peerip", "srt.hs.peerip");
    assert!(!told.is_empty() && told.lines().all(|address| address == "127.0.0.1"), "{told}");
}
