//! Dialects of encoders, written byte by byte, at the running service.

use std::io::Write;

use serde_json::json;
use waverant_media::testing::{AAC_CONFIG, AVC_RECORD};

use crate::house::{Ground, House};

/// The chunk size of both directions until somebody changes it.
const CHUNK: usize = 128;

fn text(text: &str) -> Vec<u8> {
    let length = u16::try_from(text.len()).unwrap().to_be_bytes();
    [&[2], &length[..], text.as_bytes()].concat()
}

fn number(number: f64) -> Vec<u8> {
    [&[0], &number.to_be_bytes()[..]].concat()
}

/// A message with a type 0 header, in chunks of 128 bytes.
fn message(chunk_stream: u8, time: u32, kind: u8, stream: u8, body: &[u8]) -> Vec<u8> {
    let (time, length) = (time.to_be_bytes(), u32::try_from(body.len()).unwrap().to_be_bytes());
    let mut out = [&[chunk_stream], &time[1..], &length[1..], &[kind, stream, 0, 0, 0]].concat();
    for (place, chunk) in body.chunks(CHUNK).enumerate() {
        if place > 0 {
            out.push(0xc0 | chunk_stream);
        }
        out.extend(chunk);
    }
    out
}

fn publish(stream: u8, name: &str) -> Vec<u8> {
    let body = [text("publish"), number(5.0), vec![5], text(name), text("live")].concat();
    message(3, 0, 20, stream, &body)
}

/// Headers and some pictures and sound, all on one chunk stream.
fn media(stream: u8) -> Vec<u8> {
    let mut out = message(4, 0, 9, stream, &[&[0x17, 0, 0, 0, 0], AVC_RECORD].concat());
    out.extend(message(4, 0, 8, stream, &[&[0xaf, 0], AAC_CONFIG].concat()));
    for number in 0..30u8 {
        let start = if number == 0 { [0x17, 1, 0, 0, 0] } else { [0x27, 1, 0, 0, 0] };
        let time = u32::from(number) * 33;
        out.extend(message(4, time, 9, stream, &[&start[..], &[0, 0, 1, 0x2c, 0x41], &[number; 299]].concat()));
        out.extend(message(4, time, 8, stream, &[0xaf, 1, number, number]));
    }
    out
}

/// AMF3 in `connect`, the key in the query of the name, all media on one chunk stream in chunks of
/// 128 bytes without Set Chunk Size, and nothing read after the handshake.
#[tokio::test(flavor = "multi_thread")]
async fn an_old_encoder_that_reads_nothing_is_understood() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let mut stream = house.greet();
    let amf3_object = b"\x11\x0a\x0b\x01\x07app\x06\x05in\x01";
    let connect = [&[0], &text("connect")[..], &number(1.0), amf3_object].concat();
    stream.write_all(&message(3, 0, 17, 0, &connect)).unwrap();
    stream.write_all(&message(3, 0, 20, 0, &[text("createStream"), number(2.0), vec![5]].concat())).unwrap();
    stream.write_all(&publish(1, &format!("finish?a=b&key={key}&c=d%20e"))).unwrap();
    house.wait_until("on air", |house| house.live()["state"] == "on air").await;
    stream.write_all(&media(1)).unwrap();
    house.wait_until("it is seen", |house| house.live()["session"]["video"]["width"] == 1280).await;
    let live = house.live();
    assert_eq!(live["session"]["audio"][0]["codec"], "AAC");
    assert_eq!(live["findings"], json!([]));
}

/// Two channels over one connection; when one stream ends, the other goes on.
#[tokio::test(flavor = "multi_thread")]
async fn two_streams_of_one_connection_are_two_sessions() {
    let ground = Ground::new().await;
    let house = ground.start();
    let first = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "boathouse", "hold_ms": 0})));
    let second = house.call("POST", "/channels/boathouse/keys", Some(json!({"label": "same box"})));
    let second = second["encoder"]["key"].as_str().unwrap().to_owned();
    let state = |house: &House<'_>, name: &str| {
        let live = house.get("/live");
        let channels = live["channels"].as_array().unwrap();
        channels.iter().find(|channel| channel["name"] == name).unwrap()["state"].as_str().unwrap().to_owned()
    };

    let mut stream = house.greet();
    let object = [&[3, 0, 3][..], b"app", &text("in"), &[0, 0, 9]].concat();
    stream.write_all(&message(3, 0, 20, 0, &[text("connect"), number(1.0), object].concat())).unwrap();
    for (number_of_stream, key) in [(1, &first), (2, &second)] {
        let create = [text("createStream"), number(2.0), vec![5]].concat();
        stream.write_all(&message(3, 0, 20, 0, &create)).unwrap();
        stream.write_all(&publish(number_of_stream, key)).unwrap();
        stream.write_all(&media(number_of_stream)).unwrap();
    }
    let both = |house: &House<'_>| ["finish-line", "boathouse"].map(|name| state(house, name));
    house.wait_until("both are on air", |house| both(house) == ["on air", "on air"]).await;
    let end = [text("deleteStream"), number(0.0), vec![5], number(1.0)].concat();
    stream.write_all(&message(3, 0, 20, 0, &end)).unwrap();
    house.wait_until("one is over", |house| both(house) == ["off air", "on air"]).await;
    stream.write_all(&media(2)).unwrap();
    assert_eq!(state(&house, "boathouse"), "on air");
}
