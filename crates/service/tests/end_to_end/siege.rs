//! Everything that strangers can do at once, beside two running shows: no picture is lost at any leg, memory is
//! bounded, a right key is on air, and all records are whole. What it costs in latency is measured by the benchmark.

use std::io::Write;
use std::net::{SocketAddr, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use serde_json::json;
use waverant_srt::{CallError, Caller, Config, Passphrase, Randomness, RejectReason};
use waverant_standin::{Encoder, EncoderEnd, PlatformOptions, compare};

use super::house::{Ground, House, PASSWORD, PATIENCE, PLATFORM_KEY, clip};
use super::strangers::{Flood, Habit, address, connect_from, sign_in};

/// Twelve seconds; two minutes by hand, with WAVERANT_SIEGE_SECONDS=120 and a release build.
fn length() -> Duration {
    let seconds = std::env::var("WAVERANT_SIEGE_SECONDS").ok().and_then(|seconds| seconds.parse().ok());
    Duration::from_secs(seconds.unwrap_or(12))
}

/// More than this is not to be had by anybody.
const MEMORY_KIB: u64 = 150 * 1024;

/// Threads that each do one thing to the house again and again. They end when this is dropped.
struct Besiegers {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Besiegers {
    fn add(&mut self, pause: Duration, mut act: impl FnMut(usize) + Send + 'static) {
        let stop = self.stop.clone();
        self.threads.push(thread::spawn(move || {
            for number in 0.. {
                if stop.load(Ordering::Relaxed) {
                    return;
                }
                act(number);
                thread::sleep(pause);
            }
        }));
    }
}

impl Drop for Besiegers {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.threads.drain(..).for_each(|thread| thread.join().unwrap());
    }
}

/// One AMF3 message that would become gigabytes: a string, thousands of references to it, in arrays.
fn bomb() -> Vec<u8> {
    let mut body = b"\x02\x00\x07connect\x11\x09\x05\x01\x06\x86\xdb\x31".to_vec();
    body.extend([b'x'; 55_000]);
    body.extend([9, 3, 1].repeat(13));
    body.extend([9, 0xbe, 0x3f, 1]);
    body.extend([6, 0].repeat(3999));
    let length = u32::try_from(body.len()).unwrap().to_be_bytes();
    let mut message = [&[3, 0, 0, 0], &length[1..], &[20, 0, 0, 0, 0]].concat();
    for (at, chunk) in body.chunks(128).enumerate() {
        message.extend((at > 0).then_some(0xc3));
        message.extend(chunk);
    }
    let mut hello = vec![3];
    hello.resize(1 + 2 * 1536, 7);
    [hello, message].concat()
}

/// Calls over SRT with a right key and a wrong passphrase. True if it was refused for that.
fn call_with_wrong_passphrase(from: usize, house: SocketAddr, key: &str) -> bool {
    let Ok(socket) = UdpSocket::bind(SocketAddr::new(address(from), 0)) else { return false };
    let _ = socket.set_read_timeout(Some(Duration::from_millis(50)));
    let now = Instant::now();
    let passphrase = Some(Passphrase::new("not the umpire's").unwrap());
    let mut seed = [7; 32];
    seed[..8].copy_from_slice(&from.to_be_bytes());
    let config = Config { passphrase, ..Config::default() };
    let mut caller = Caller::new(config, house, Some(key.to_owned()), 77, Randomness::new(seed), now);
    let mut buffer = [0; 1500];
    for _ in 0..6 {
        if let Some(datagram) = caller.poll_transmit(Instant::now()) {
            let _ = socket.send_to(&datagram, house);
        }
        let Ok(count) = socket.recv(&mut buffer) else { continue };
        match caller.handle_datagram(Instant::now(), &buffer[..count]) {
            Err(CallError::Refused(reason)) => return reason == RejectReason::BAD_SECRET,
            Err(_) => return false,
            Ok(_) => {}
        }
    }
    false
}

fn besiege(house: &House<'_>, srt_key: &str, wrong: &Arc<AtomicU64>) -> Besiegers {
    let mut besiegers = Besiegers { stop: Arc::default(), threads: Vec::new() };
    let (rtmp, srt, http) = (house.rtmp, house.srt, house.http);
    let bomb = bomb();
    besiegers.add(Duration::from_millis(10), move |number| {
        if let Ok(mut stream) = connect_from(address(number), rtmp) {
            let _ = stream.write_all(&bomb);
        }
    });
    let mut half = Vec::new();
    besiegers.add(Duration::from_millis(5), move |number| {
        if let Ok(mut stream) = connect_from(address(number), http) {
            let _ = stream.write_all(b"GET / HTTP/1.1\r\nhost: a\r\nx: ");
            half.push(stream);
        }
        if half.len() > 600 {
            half.clear();
        }
    });
    let (key, count) = (srt_key.to_owned(), wrong.clone());
    besiegers.add(Duration::from_millis(1), move |number| {
        count.fetch_add(u64::from(call_with_wrong_passphrase(number, srt, &key)), Ordering::Relaxed);
    });
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    besiegers.add(Duration::from_millis(2), move |number| {
        for piece in 0..16 {
            let noise: Vec<u8> = (0..300).map(|place| (number * 31 + piece * 7 + place).to_le_bytes()[0]).collect();
            let _ = socket.send_to(&noise, srt);
        }
    });
    besiegers
}

#[tokio::test(flavor = "multi_thread")]
async fn two_shows_go_on_under_everything_at_once() {
    let ground = Ground::new().await;
    ground.write_settings("[limits]\nhandshake_timeout_s = 2\nsetup_timeout_s = 3\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let channel = json!({"name": "boathouse", "hold_ms": 0, "slate": "none",
        "srt": {"latency_ms": 1500, "passphrase": "the umpire's launch"}});
    house.call("POST", "/channels", Some(channel));
    let made = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "camera"})));
    let srt_key = made["encoder"]["key"].as_str().unwrap().to_owned();
    let other = json!({"name": "weir", "hold_ms": 0, "slate": "none"});
    house.call("POST", "/channels", Some(other));
    let made = house.call("POST", "/channels/weir/keys", Some(json!({"label": "bank"})));
    let other_key = made["encoder"]["key"].as_str().unwrap().to_owned();
    let plovio = house.add_platform("plovio", None).await;
    let tindrel = waverant_standin::Platform::start(PlatformOptions::new(PLATFORM_KEY)).await.unwrap();
    house.call(
        "POST",
        "/destinations",
        Some(json!({"name": "tindrel", "address": tindrel.url(), "key": PLATFORM_KEY})),
    );
    house.call("PUT", "/channels/boathouse/destinations/tindrel", Some(json!({"is_on": true})));

    let wrong = Arc::new(AtomicU64::new(0));
    let length = length();
    let flood = Flood::start(house.rtmp, Habit::Redials, 1000, 1);
    let siege = besiege(&house, &srt_key, &wrong);
    let seconds = length.as_secs_f64();
    let mut over_srt = house.encoder_at(true, &srt_key, seconds);
    over_srt.srt.passphrase = Some("the umpire's launch".to_owned());
    over_srt.srt.latency = Some(Duration::from_millis(1500));
    let shows =
        [house.encoder(&key, seconds), over_srt].map(|options| tokio::spawn(Encoder::new(clip(), options).run()));
    let began = Instant::now();
    let (mut most, mut times) = (0, Vec::new());
    while began.elapsed() < length {
        most = most.max(house.resident_kib());
        sign_in(&house, address(times.len()), "wrong password");
        let called = Instant::now();
        let sent = house.publish(house.encoder(&other_key, 0.3)).await;
        assert_eq!(sent.end, EncoderEnd::Finished, "a right key is let in");
        times.push(called.elapsed().saturating_sub(Duration::from_millis(300)));
    }
    let mut sent = Vec::new();
    for show in shows {
        sent.push(show.await.unwrap().unwrap());
    }
    drop((flood, siege));
    for (sent, platform) in sent.iter().zip([&plovio, &tindrel]) {
        assert_eq!(sent.end, EncoderEnd::Finished);
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    }
    times.sort_unstable();
    assert!(times[times.len() / 2] < Duration::from_secs(2), "on air after {times:?}");
    assert!(most < MEMORY_KIB, "the house takes {most} KiB");
    assert!(wrong.load(Ordering::Relaxed) > 20, "{} wrong passphrases were told so", wrong.load(Ordering::Relaxed));
    check_records(&house, times.len()).await;
    assert_eq!(sign_in(&house, address(700), PASSWORD), 200);
}

/// Two long shows and the short ones, each with its end.
async fn check_records(house: &House<'_>, short: usize) {
    let all = || house.get("/sessions?limit=200")["items"].as_array().unwrap().clone();
    let is_whole = |_: &House<'_>| {
        let sessions = all();
        sessions.len() == short + 2 && sessions.iter().all(|session| session["end_reason"] == "the encoder stopped")
    };
    house.wait_until("all records are there", is_whole).await;
}
