//! The second front door.

use std::time::Duration;

use rstest::rstest;
use serde_json::json;
use waverant_media::TrackKind;
use waverant_standin::{
    Encoder, EncoderEnd, EncoderFault, EncoderOptions, EncoderReport, Mark, MarkKind, Network, NetworkFaults,
    PlatformOptions, PlatformReport, SrtContainer, SrtOptions, compare, read_take, watch_over_srt,
};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY, clip};

const LABELS: [(&str, &str); 3] = [("en", "Programme mix"), ("en", "Commentary"), ("cy", "Riverbank")];

fn over_srt(address: std::net::SocketAddr, key: &str, seconds: f64) -> EncoderOptions {
    EncoderOptions::new(format!("srt://{address}"), key, Duration::from_secs_f64(seconds))
}

async fn publish(options: EncoderOptions) -> EncoderReport {
    Encoder::new(clip().with_sounds(3).with_labels(&LABELS), options).run().await.unwrap()
}

/// What a platform that takes one sound is to see of the show.
fn with_one_sound(sent: &[Mark]) -> Vec<Mark> {
    sent.iter().filter(|mark| mark.track == 0).cloned().collect()
}

/// Encoders that wrap the show in Matroska, with clusters that have no length and laced sounds.
#[tokio::test(flavor = "multi_thread")]
async fn a_show_in_matroska_loses_nothing() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let knowing = house.add_platform("plovio", None).await;
    let plain = PlatformOptions { is_enhanced: false, ..PlatformOptions::new(PLATFORM_KEY) };
    let plain = house.add_platform_with("quayside", plain, None).await;
    let faults = NetworkFaults { loss: 0.05, delay: Duration::from_millis(20), ..NetworkFaults::default() };
    let network = Network::start(house.srt, (faults, faults), 9).await.unwrap();
    let mut options = over_srt(network.address(), &key, 6.0);
    // A machine that stands still for a second must not count as a bad line.
    (options.srt.latency, options.srt.container) = (Some(Duration::from_secs(2)), SrtContainer::Matroska);
    let sent = publish(options).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    for (platform, sent) in [(&knowing, sent.sent.clone()), (&plain, with_one_sound(&sent.sent))] {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        check_platform(&sent, &platform.report());
    }
    check_show(&ground, &house, &sent).await;
}

fn check_platform(sent: &[Mark], report: &PlatformReport) {
    let connection = &report.connections[0];
    assert_eq!(connection.fault, None);
    assert_eq!(compare(sent, &connection.received, true).fault, None);
}

/// How far each sound lies from the pictures in `marks`, less how far it did at the encoder.
fn shifts(sent: &[Mark], marks: &[Mark]) -> Vec<i64> {
    let shift = |wanted: &dyn Fn(&&Mark) -> bool| {
        let at = |marks: &[Mark]| marks.iter().filter(wanted).map(|mark| i64::from(mark.timestamp_ms)).next().unwrap();
        at(marks) - at(sent) - sent.iter().find(wanted).unwrap().composition_ms
    };
    let pictures = shift(&|mark: &&Mark| mark.kind.is_picture());
    (0..3).map(|track| shift(&|mark: &&Mark| mark.kind == MarkKind::Sound && mark.track == track) - pictures).collect()
}

async fn check_show(ground: &Ground, house: &House<'_>, sent: &EncoderReport) {
    let session = house.ended_session(1).await;
    assert_eq!(session["session"]["end_reason"], "the encoder stopped");
    let take = ground.path("recordings").join(session["takes"][0]["path"].as_str().unwrap());
    let (marks, _) = read_take(&take).unwrap();
    assert_eq!(compare(&sent.sent, &marks, true).fault, None);
    for shift in shifts(&sent.sent, &marks) {
        assert!(shift.abs() <= 20, "a sound is {shift} ms off");
    }
    let file = waverant_container::FileReader::open(bytes::Bytes::from(std::fs::read(&take).unwrap())).unwrap();
    let tracks = file.tracks().iter().map(|track| &track.track).filter(|track| track.id.kind() == TrackKind::Audio);
    let told: Vec<_> =
        tracks.map(|track| (track.language.as_deref().unwrap(), track.name.as_deref().unwrap())).collect();
    assert_eq!(told, LABELS);
}

/// Three sounds come in over a bad line, one goes to the platforms, all are in the take.
#[rstest]
#[case::clear_line(NetworkFaults::default())]
#[case::five_percent_lost(NetworkFaults {
    loss: 0.05,
    delay: Duration::from_millis(25),
    jitter: Duration::from_millis(10),
    reorder: (0.01, Duration::from_millis(8)),
    duplicate: 0.01,
    ..NetworkFaults::default()
})]
#[tokio::test(flavor = "multi_thread")]
async fn a_show_over_srt_loses_nothing(#[case] faults: NetworkFaults) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    // One platform takes all tracks, the other knows of one only.
    let knowing = house.add_platform("plovio", None).await;
    let plain = PlatformOptions { is_enhanced: false, ..PlatformOptions::new(PLATFORM_KEY) };
    let plain = house.add_platform_with("quayside", plain, None).await;
    let network = Network::start(house.srt, (faults, faults), 7).await.unwrap();
    let mut options = over_srt(network.address(), &key, 6.0);
    options.srt.latency = Some(Duration::from_secs(1));
    let (sent, live) = tokio::join!(publish(options), async {
        house
            .wait_until("on air", |house| house.live()["session"]["video"]["frame_rate"].as_f64().unwrap_or(0.0) > 25.0)
            .await;
        tokio::time::sleep(Duration::from_secs(2)).await;
        house.live()
    });
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert_eq!(live["session"]["audio"].as_array().unwrap().len(), 3);
    for (platform, sent) in [(&knowing, sent.sent.clone()), (&plain, with_one_sound(&sent.sent))] {
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        check_platform(&sent, &platform.report());
    }
    check_show(&ground, &house, &sent).await;
    if faults.loss > 0.0 {
        let (up, _) = network.reports();
        assert!(up.lost > 50, "{up:?}");
        let line = &live["session"]["line"];
        let share = |name: &str| line[name].as_f64().unwrap();
        assert!((0.02..0.09).contains(&share("loss_share")), "{line}");
        assert!((0.02..0.12).contains(&share("retransmit_share")), "{line}");
        assert!(share("rtt_ms") >= 45.0, "{line}");
        assert_eq!((&line["dropped_packet_count"], &line["latency_ms"]), (&json!(0), &json!(1000)));
        assert!(line["points"].as_array().unwrap().len() > 3);
    }
}

#[rstest]
#[case::no_stream_id(Some(""), "1400", "no_key")]
#[case::no_key(Some("finish-line"), "1400", "malformed_key")]
#[case::unknown_key(Some("abcdefg-0000000000000000000000"), "1401", "unknown_key")]
#[case::wrong_mode(Some("#!::r={key},m=request"), "1405", "publish_key")]
#[case::unknown_mode(Some("#!::r={key},m=listen"), "1400", "malformed_key")]
#[case::unknown_sound(Some("#!::r={key},m=request,sound=loud"), "1400", "malformed_key")]
#[tokio::test(flavor = "multi_thread")]
async fn who_is_not_let_in_is_told_at_once(#[case] stream_id: Option<&str>, #[case] code: &str, #[case] reason: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut options = over_srt(house.srt, &key, 3.0);
    options.srt.stream_id = stream_id.map(|text| text.replace("{key}", &key));
    let report = publish(options).await;
    let EncoderEnd::Refused { code: told, after_ms, .. } = report.end else { panic!("{:?}", report.end) };
    assert_eq!(told, code);
    assert!(after_ms < 1_000, "told after {after_ms} ms");
    house.wait_until("it is listed", |house| house.get("/turned-away")["items"][0]["reason"] == reason).await;
}

/// The public form of a stream id opens as well.
#[tokio::test(flavor = "multi_thread")]
async fn a_key_opens_from_its_addresses_only() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    let make = |ranges: serde_json::Value| {
        let form = json!({"label": "boat", "allowed_from": ranges});
        house.try_call("POST", "/channels/finish-line/keys", Some(form))
    };
    let (status, problem) = make(json!(["the boathouse"]));
    assert!(status == 422 && problem["detail"].as_str().unwrap().contains("192.0.2.0/24"), "{problem}");
    let key_of = |made: &serde_json::Value| made["encoder"]["key"].as_str().unwrap().to_owned();
    let (foreign, ours) = (make(json!(["192.0.2.9/24"])).1, make(json!(["192.0.2.0/24", "127.0.0.1"])).1);
    assert_eq!(foreign["key"]["allowed_from"], json!(["192.0.2.0/24"]));
    let report = publish(over_srt(house.srt, &key_of(&foreign), 2.0)).await;
    assert!(matches!(&report.end, EncoderEnd::Refused { code, .. } if code == "1403"), "{:?}", report.end);
    let report = house.publish(house.encoder(&key_of(&foreign), 2.0)).await;
    assert!(matches!(&report.end, EncoderEnd::Refused { .. }), "{:?}", report.end);
    let listed = |house: &House<'_>| house.get("/turned-away")["items"].clone();
    house.wait_until("both are listed", |house| listed(house).as_array().unwrap().len() == 2).await;
    for item in listed(&house).as_array().unwrap() {
        assert_eq!((&item["reason"], &item["channel"]), (&json!("address_not_allowed"), &json!("finish-line")));
    }
    assert_eq!(publish(over_srt(house.srt, &key_of(&ours), 1.0)).await.end, EncoderEnd::Finished);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_id_with_fields_opens() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut options = over_srt(house.srt, &key, 1.5);
    options.srt.stream_id = Some(format!("#!::u=van,r={key},m=publish,t=stream"));
    assert_eq!(publish(options).await.end, EncoderEnd::Finished);
    assert_eq!(house.ended_session(1).await["session"]["end_reason"], "the encoder stopped");
}

/// A lost line is held, and the encoder's return goes on in the same session and take.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_encoder_comes_back_into_its_session() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    let platform = house.add_platform("plovio", None).await;
    let mut options = over_srt(house.srt, &key, 30.0);
    options.fault = Some(EncoderFault::BreakAfter(Duration::from_secs(3)));
    let first = publish(options).await;
    assert_eq!(first.end, EncoderEnd::Faulted);
    house.wait_until("it is held", |house| house.live()["state"] == "holding").await;
    let mut options = over_srt(house.srt, &key, 3.0);
    options.first_packet = clip().with_sounds(3).keyframe_from(first.next_packet);
    assert_eq!(publish(options).await.end, EncoderEnd::Finished);
    let session = house.ended_session(1).await;
    assert_eq!(session["takes"].as_array().unwrap().len(), 1);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(platform.report().connections.len(), 1, "the platform saw one stream");
}

/// A second encoder over SRT takes over from one over RTMP, which is told so.
#[tokio::test(flavor = "multi_thread")]
async fn srt_takes_over_from_rtmp() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"takeover": "replace"}));
    let second = house.make_key("boat", 0);
    let rtmp = house.publish(house.encoder(&key, 20.0));
    let srt = async {
        house.wait_until("on air", |house| house.live()["state"] == "on air").await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        publish(over_srt(house.srt, &second, 3.0)).await
    };
    let (one, two) = tokio::join!(rtmp, srt);
    assert!(matches!(one.end, EncoderEnd::Refused { .. }), "{:?}", one.end);
    assert_eq!(two.end, EncoderEnd::Finished);
    assert_eq!(house.ended_session(1).await["session"]["end_reason"], "the encoder stopped");
}

/// A passphrase of the channel: right, wrong, missing.
#[tokio::test(flavor = "multi_thread")]
async fn a_channel_asks_for_its_passphrase() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"srt": {"passphrase": "wexcombe reach", "latency_ms": 300}}));
    let channel = house.get("/channels/finish-line");
    assert_eq!(channel["srt"], json!({"latency_ms": 300, "has_passphrase": true}));
    assert!(!channel.to_string().contains("wexcombe"));
    for (passphrase, code, reason) in
        [(Some("another phrase"), "1010", "wrong_passphrase"), (None, "1011", "passphrase_differs")]
    {
        let mut options = over_srt(house.srt, &key, 2.0);
        options.srt.passphrase = passphrase.map(str::to_owned);
        let report = publish(options).await;
        let EncoderEnd::Refused { code: told, .. } = report.end else { panic!("{:?}", report.end) };
        // The protocol's own reasons are below 1000.
        assert_eq!(format!("{}", 1000 + told.parse::<u32>().unwrap()), code);
        house.wait_until("it is listed", |house| house.get("/turned-away")["items"][0]["reason"] == reason).await;
        assert_eq!(house.get("/turned-away")["items"][0]["channel"], "finish-line");
    }
    assert_eq!(house.live()["state"], "off air", "nobody came in");
    let mut options = over_srt(house.srt, &key, 2.0);
    options.srt.passphrase = Some("wexcombe reach".to_owned());
    options.srt.key_length = waverant_srt::KeyLength::Aes256;
    let sent = publish(options).await;
    assert_eq!(sent.end, EncoderEnd::Finished);
    check_show(&ground, &house, &sent).await;
}

/// A program of the house watches over SRT what comes over RTMP.
#[tokio::test(flavor = "multi_thread")]
async fn players_are_served_over_srt() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let viewing = house.make_viewing_key();
    let watch = |stream_id: String| {
        let address = house.srt;
        async move { watch_over_srt(address, &stream_id, &SrtOptions::default(), Duration::from_secs(9)).await }
    };
    house.change_channel(json!({"viewing": {"ways": ["rtmp"]}}));
    let refused = watch(viewing.clone()).await.unwrap_err().to_string();
    assert!(refused.contains("1403"), "{refused}");
    house.change_channel(json!({"viewing": {"ways": ["srt"]}}));
    let refused = watch(format!("#!::r={viewing},m=publish")).await.unwrap_err().to_string();
    assert!(refused.contains("1405"), "{refused}");
    let clip = clip().with_sounds(3).with_labels(&LABELS);
    let publish = Encoder::new(clip, house.encoder(&key, 6.0)).run();
    let seen = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        let (plain, asked) = (viewing.clone(), format!("#!::r={viewing},m=request"));
        let chosen = format!("#!::r={viewing},m=request,shows=one,sound=name:riverbank");
        tokio::join!(watch(plain), watch(asked), watch(chosen))
    };
    let (sent, (plain, asked, chosen)) = tokio::join!(publish, seen);
    let with_it = |mark: &&Mark| mark.kind.is_picture() || mark.track == 2;
    let expected: Vec<Mark> = sent.as_ref().unwrap().sent.iter().filter(with_it).cloned().collect();
    let expected: Vec<Mark> = expected.into_iter().map(|mark| Mark { track: 0, ..mark }).collect();
    assert_eq!(compare(&expected, &chosen.unwrap(), true).fault, None);
    for marks in [plain.unwrap(), asked.unwrap()] {
        let found = compare(&sent.as_ref().unwrap().sent, &marks, true);
        assert_eq!(found.fault, None);
        assert!(found.first_picture.is_some());
    }
}

/// Floods from many ports and forged packets; the show is not harmed, and memory stays bounded.
#[tokio::test(flavor = "multi_thread")]
async fn a_hostile_crowd_over_srt_hurts_nobody() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let before = house.resident_kib();
    let address = house.srt;
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let flood = std::thread::spawn({
        let stop = stop.clone();
        move || flood(address, &stop)
    });
    let (sent, most) = tokio::join!(publish(over_srt(house.srt, &key, 6.0)), async {
        let mut most = before;
        for _ in 0..60 {
            tokio::time::sleep(Duration::from_millis(100)).await;
            most = most.max(house.resident_kib());
        }
        most
    });
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    let datagrams = flood.join().unwrap();
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    check_platform(&sent.sent, &platform.report());
    // A quarter are calls that are left half-open.
    assert!(datagrams > 10_000, "{datagrams}");
    assert!(most - before < 64 * 1024, "memory grew by {} KiB", most - before);
    assert_eq!(publish(over_srt(house.srt, &key, 1.0)).await.end, EncoderEnd::Finished);
}

/// Inductions of callers that never come back, conclusions with made-up cookies, garbage, and
/// packets for connections of others, from 64 ports.
fn flood(house: std::net::SocketAddr, stop: &std::sync::atomic::AtomicBool) -> u64 {
    let sockets: Vec<std::net::UdpSocket> =
        (0..64).map(|_| std::net::UdpSocket::bind("127.0.0.1:0").unwrap()).collect();
    let handshake = |kind: u32, cookie: u32, id: u32| {
        let words = [0x8000_0000, 0, 0, 0, 5, 0x0000_0005, 1, 1500, 8192, kind, id, cookie, 0x7f00_0001, 0, 0, 0];
        let mut raw: Vec<u8> = words.iter().flat_map(|word: &u32| word.to_be_bytes()).collect();
        // Terms, and an extension that says it is far longer than it is.
        raw.extend([0, 1, 0, 3, 0, 1, 4, 4, 0, 0, 0, 0x3f, 0, 120, 0, 120, 0, 5, 0xff, 0xff, 1, 2, 3, 4]);
        raw
    };
    let mut count = 0_u32;
    while !stop.load(std::sync::atomic::Ordering::Relaxed) {
        let socket = &sockets[count as usize % sockets.len()];
        let datagram = match count % 4 {
            0 => handshake(1, 0, count),
            1 => handshake(0xffff_ffff, count.wrapping_mul(0x9e37_79b9), count),
            2 => (0..200).map(|place| (count.wrapping_mul(place) >> 3 & 0xff) as u8).collect(),
            // Numbers of connections are guessed near the ones that are given.
            _ => [&[0, 0, 0, 1, 0xe0, 0, 0, 1, 0, 0, 0, 9][..], &count.to_be_bytes(), &[7; 1316]].concat(),
        };
        let _ = socket.send_to(&datagram, house);
        count += 1;
        if count.is_multiple_of(64) {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
    count.into()
}

/// A stop in mid-show: the encoder is told at once, the take is whole, the records have the end.
/// A key that is removed does the same to its encoder.
#[rstest]
#[case::the_service_stops(true)]
#[case::the_key_is_removed(false)]
#[tokio::test(flavor = "multi_thread")]
async fn an_encoder_over_srt_is_told_when_its_show_is_ended(#[case] is_stop: bool) {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(20_000);
    let publish = publish(over_srt(house.srt, &key, 15.0));
    let end = async {
        house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
        tokio::time::sleep(Duration::from_secs(2)).await;
        if is_stop {
            house.signal("-TERM");
        } else {
            house.call("DELETE", "/channels/finish-line/keys/1", None);
        }
    };
    let (sent, ()) = tokio::join!(publish, end);
    let EncoderEnd::Refused { code, after_ms, .. } = sent.end else { panic!("{:?}", sent.end) };
    assert_eq!(code, "shutdown");
    assert!(after_ms < 10_000, "told after {after_ms} ms");
    if is_stop {
        assert_eq!(house.wait_for_exit(), Some(0));
        drop(house);
        house = ground.start();
    }
    let session = house.ended_session(1).await;
    assert_eq!(session["takes"][0]["state"], "complete", "{session}");
}
