//! Commands as real encoders send them, byte for byte, to our server.

use bytes::Bytes;

use super::pair::drain;
use crate::amf0::{Value, encode_all};
use crate::timestamp::Timestamp;
use crate::wire::{ChunkDecoder, ChunkEncoder, MessageHead};
use crate::{Refusal, ServerConfig, ServerConnection, ServerEvent};

/// A server past the handshake, fed with single commands.
struct Bench {
    server: ServerConnection,
    now: std::time::Instant,
    encoder: ChunkEncoder,
    decoder: ChunkDecoder,
    /// Type and payload of the other messages that came back.
    controls: Vec<(u8, Bytes)>,
}

impl Bench {
    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn new() -> Self {
        let now = std::time::Instant::now();
        let mut server = ServerConnection::new(ServerConfig::default(), now);
        let mut hello = vec![3];
        hello.resize(1 + 2 * 1536, 0);
        server.handle_input(now, &hello).unwrap();
        drain(|| server.poll_transmit());
        Self { server, now, encoder: ChunkEncoder::new(), decoder: ChunkDecoder::new(1 << 20), controls: Vec::new() }
    }

    fn connected() -> Self {
        let mut bench = Self::new();
        let object = Value::Object(vec![("app".into(), "in".into()), ("tcUrl".into(), "rtmp://a/in".into())]);
        let answers = bench.command(20, &["connect".into(), 1.0.into(), object]);
        assert_eq!(answers[0][0].as_str(), Some("_result"));
        assert_eq!(answers[0][3].field("code").and_then(Value::as_str), Some("NetConnection.Connect.Success"));
        bench
    }

    /// Sends a command; returns the commands that come back, as lists of values.
    fn command(&mut self, message_type: u8, values: &[Value]) -> Vec<Vec<Value>> {
        let mut payload = encode_all(values);
        if message_type == 17 {
            payload.insert(0, 0);
        }
        self.send(message_type, &payload)
    }

    fn send(&mut self, message_type: u8, payload: &[u8]) -> Vec<Vec<Value>> {
        let head = MessageHead { chunk_stream: 3, message_type, message_stream: 0, timestamp: Timestamp(0) };
        let mut out: Vec<Bytes> = Vec::new();
        self.encoder.encode(head, &[], &Bytes::copy_from_slice(payload), &mut out);
        self.server.handle_input(self.now, &out.concat()).unwrap();
        self.answers()
    }

    fn answers(&mut self) -> Vec<Vec<Value>> {
        let bytes = drain(|| self.server.poll_transmit());
        let mut input = &bytes[..];
        let mut answers = Vec::new();
        while let Some(message) = self.decoder.next_message(&mut input).unwrap() {
            match message.message_type {
                1 => {
                    let size: [u8; 4] = message.payload[..4].try_into().unwrap();
                    self.decoder.set_chunk_size(u32::from_be_bytes(size)).unwrap();
                }
                20 => answers.push(crate::amf0::decode_all(&message.payload).unwrap()),
                other => self.controls.push((other, message.payload)),
            }
        }
        answers
    }

    fn publish(&mut self, name: &str) -> Option<ServerEvent> {
        self.command(20, &["publish".into(), 5.0.into(), Value::Null, name.into(), "live".into()]);
        self.server.poll_event()
    }
}

fn code(answer: &[Value]) -> &str {
    answer.last().and_then(|value| value.field("code")).and_then(Value::as_str).unwrap_or_default()
}

#[test]
fn the_calls_around_publishing_are_answered() {
    let mut bench = Bench::connected();
    for (transaction, name) in [(2.0, "releaseStream"), (3.0, "FCPublish"), (4.0, "_checkbw")] {
        let answers = bench.command(20, &[name.into(), transaction.into(), Value::Null, "key".into()]);
        assert_eq!(answers[0][..2], ["_result".into(), transaction.into()], "{name}");
    }
    let answers = bench.command(20, &["createStream".into(), 5.0.into(), Value::Null]);
    assert_eq!(answers[0], ["_result".into(), 5.0.into(), Value::Null, 1.0.into()]);
}

#[test]
fn commands_in_amf3_framing_are_understood() {
    let mut bench = Bench::connected();
    let answers = bench.command(17, &["createStream".into(), 2.0.into(), Value::Null]);
    assert_eq!(answers[0][3], 1.0.into());
}

#[test]
fn unknown_calls_get_an_error_and_unknown_notices_nothing() {
    let mut bench = Bench::connected();
    let answers = bench.command(20, &["teaTime".into(), 9.0.into(), Value::Null]);
    assert_eq!((answers[0][0].as_str(), code(&answers[0])), (Some("_error"), "NetConnection.Call.Failed"));
    assert!(bench.command(20, &["teaTime".into(), 0.0.into(), Value::Null]).is_empty());
}

#[test]
fn playing_is_refused_in_words() {
    let mut bench = Bench::connected();
    let answers = bench.command(20, &["play".into(), 0.0.into(), Value::Null, "key".into()]);
    assert_eq!(code(&answers[0]), "NetStream.Play.Failed");
}

#[test]
fn a_second_publish_on_the_same_connection_is_refused() {
    let mut bench = Bench::connected();
    assert!(matches!(bench.publish("key"), Some(ServerEvent::PublishRequested(_))));
    bench.server.accept_publish(bench.now).unwrap();
    assert_eq!(code(&bench.answers()[0]), "NetStream.Publish.Start");
    let answers = bench.command(20, &["publish".into(), 6.0.into(), Value::Null, "other".into(), "live".into()]);
    assert_eq!(code(&answers[0]), "NetStream.Publish.BadName");
    assert!(!bench.server.is_closing(), "the first stream goes on");
}

#[test]
fn a_stream_can_be_published_again_after_its_end() {
    let mut bench = Bench::connected();
    bench.publish("key");
    bench.server.accept_publish(bench.now).unwrap();
    bench.command(20, &["deleteStream".into(), 7.0.into(), Value::Null, 1.0.into()]);
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded));
    assert!(matches!(bench.publish("key"), Some(ServerEvent::PublishRequested(_))));
}

#[test]
fn answers_without_a_request_are_misuse() {
    let mut bench = Bench::connected();
    assert!(bench.server.accept_publish(bench.now).is_err());
    assert!(bench.server.refuse_publish(&Refusal { description: "no".into() }).is_err());
}

#[test]
fn media_before_publishing_and_broken_metadata_are_dropped() {
    let mut bench = Bench::connected();
    bench.send(9, &[0x17, 1, 0, 0, 0, 1]);
    assert_eq!(bench.server.poll_event(), None);
    bench.publish("key");
    bench.server.accept_publish(bench.now).unwrap();
    bench.send(18, &[2, 0, 200, b'x']);
    assert_eq!(bench.server.poll_event(), None);
    bench.send(9, &[0x17, 1, 0, 0, 0, 1]);
    assert!(matches!(bench.server.poll_event(), Some(ServerEvent::Media { .. })));
}

#[test]
fn streams_of_one_connection_are_bounded() {
    let mut bench = Bench::connected();
    let mut refused = 0;
    for number in 0..20u32 {
        let answers = bench.command(20, &["createStream".into(), f64::from(number + 2).into(), Value::Null]);
        refused += u32::from(answers[0][0].as_str() == Some("_error"));
    }
    assert_eq!(refused, 4);
}

#[test]
fn pings_are_answered_and_input_is_acknowledged() {
    let mut bench = Bench::connected();
    bench.controls.clear();
    // Window Acknowledgement Size 1000, then a ping, then more than the window.
    bench.send(5, &1000u32.to_be_bytes());
    bench.send(4, &[0, 6, 0, 0, 0, 42]);
    assert_eq!(bench.controls.last(), Some(&(4, Bytes::from_static(&[0, 7, 0, 0, 0, 42]))));
    bench.controls.clear();
    bench.send(18, &vec![5; 1200]);
    let received = u32::try_from(bench.server.counters().received_bytes).unwrap();
    assert_eq!(bench.controls, [(3, Bytes::copy_from_slice(&received.to_be_bytes()))]);
}
