use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::house::{Ground, PATIENCE};

/// Debian's tshark takes a capture of a show, encoder's and platform's side, as RTMP and finds
/// nothing malformed.
#[tokio::test(flavor = "multi_thread")]
async fn tshark_finds_nothing_malformed() {
    if Command::new("tshark").arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_err() {
        let _ = writeln!(std::io::stderr(), "SKIPPED: tshark is not installed");
        return;
    }
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let file = ground.path("show.pcapng");
    let ports = [house.rtmp.port(), platform.address().port()];
    let filter = format!("tcp port {} or tcp port {}", ports[0], ports[1]);
    let mut capture = Command::new("tshark")
        .args(["-q", "-i", "lo", "-B", "64", "-f", &filter, "-w"])
        .arg(&file)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    // The capture must run before the first connection; it has written its head by then.
    house.wait_until("the capture runs", |_| std::fs::metadata(&file).is_ok_and(|file| file.len() > 0)).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    let mut options = house.encoder(&key, 3.0);
    options.chunk_size = 128;
    house.publish(options).await;
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    tokio::time::sleep(Duration::from_millis(1500)).await;
    let _ = Command::new("kill").args(["-INT", &capture.id().to_string()]).status();
    capture.wait().unwrap();

    let dissect = |display: &str, field: &str| {
        let mut command = Command::new("tshark");
        command.arg("-r").arg(&file);
        for port in ports {
            command.args(["-d", &format!("tcp.port=={port},rtmpt")]);
        }
        command.args(["-o", "rtmpt.max_packet_size:1000000", "-o", "tcp.reassemble_out_of_order:TRUE"]);
        let output = command.args(["-Y", display, "-T", "fields", "-e", field]).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    assert_eq!(dissect("_ws.malformed", "frame.number"), "");
    let types = dissect("rtmpt", "rtmpt.header.typeid");
    for (name, number) in [("audio", "0x08"), ("video", "0x09"), ("command", "0x14"), ("data", "0x12")] {
        assert!(types.contains(number), "{name} messages are dissected: {}", &types[..types.len().min(300)]);
    }
}
