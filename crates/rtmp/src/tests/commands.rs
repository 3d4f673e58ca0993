//! Commands as real encoders send them, byte for byte, to our server.

use bytes::Bytes;

use super::pair::drain;
use crate::amf_value::Value;
use crate::amf0::encode_all;
use crate::timestamp::Timestamp;
use crate::wire::{ChunkDecoder, ChunkEncoder, MessageHead};
use crate::{Error, MediaKind, Refusal, ServerConfig, ServerConnection, ServerEvent};

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
        self.send_on(0, message_type, payload)
    }

    /// Sends a message on a message stream; returns the commands that come back.
    fn send_on(&mut self, message_stream: u32, message_type: u8, payload: &[u8]) -> Vec<Vec<Value>> {
        let head = MessageHead { chunk_stream: 3, message_type, message_stream, timestamp: Timestamp(0) };
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
        self.publish_on(1, name)
    }

    fn publish_on(&mut self, stream: u32, name: &str) -> Option<ServerEvent> {
        let values = ["publish".into(), 5.0.into(), Value::Null, name.into(), "live".into()];
        self.send_on(stream, 20, &encode_all(&values));
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

/// Some peers write AMF3 all along, or only the command object.
#[test]
fn amf3_values_are_understood() {
    let mut bench = Bench::new();
    // "connect", 1, and an AMF3 object {app: "in"}.
    let payload = b"\x00\x02\x00\x07connect\x00\x3f\xf0\x00\x00\x00\x00\x00\x00\x11\x0a\x0b\x01\x07app\x06\x05in\x01";
    let answers = bench.send(17, payload);
    assert_eq!(code(&answers[0]), "NetConnection.Connect.Success");
    assert_eq!(bench.server.connect_info().app, "in");
    // "createStream", 2, null.
    let answers = bench.send(17, b"\x06\x19createStream\x04\x02\x01");
    assert_eq!(answers[0][1], 2.0.into());
}

/// A user and password, over three connections.
#[test]
fn a_guarded_application_asks_for_the_password() {
    let connect = |app: &str| {
        let mut bench = Bench::new();
        let guarded_app = Some("door".to_owned());
        bench.server = ServerConnection::new(ServerConfig { guarded_app, ..ServerConfig::default() }, bench.now);
        let mut hello = vec![3];
        hello.resize(1 + 2 * 1536, 0);
        bench.server.handle_input(bench.now, &hello).unwrap();
        drain(|| bench.server.poll_transmit());
        let object = Value::Object(vec![("app".into(), app.into())]);
        let answers = bench.command(20, &["connect".into(), 1.0.into(), object]);
        (bench, answers)
    };
    let words = |answers: &[Vec<Value>]| answers[0][3].field("description").and_then(Value::as_str).unwrap().to_owned();
    assert_eq!(code(&connect("in").1[0]), "NetConnection.Connect.Success", "other applications are not guarded");
    let (bench, answers) = connect("door");
    assert!(words(&answers).contains("code=403 need auth; authmod=adobe") && bench.server.is_closing());

    let (mut bench, answers) = connect("door?authmod=adobe&user=van");
    assert!(answers.is_empty(), "the application decides");
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::CredentialsWanted { user: "van".into() }));
    bench.server.challenge("van", "salt", "o-1").unwrap();
    assert!(words(&bench.answers()).ends_with("?reason=needauth&user=van&salt=salt&challenge=o-1&opaque=o-1"));
    assert!(bench.server.is_closing());

    let answer = "door?authmod=adobe&user=van&challenge=mine&response=abc&opaque=o-1";
    let (mut bench, _) = connect(answer);
    assert!(matches!(bench.server.poll_event(), Some(ServerEvent::CredentialsGiven(answer)) if answer.opaque == "o-1"));
    bench.server.accept_connect().unwrap();
    assert_eq!(code(&bench.answers()[0]), "NetConnection.Connect.Success");
    assert!(bench.server.accept_connect().is_err(), "once");
    let (mut bench, _) = connect(answer);
    bench.server.refuse_credentials().unwrap();
    assert!(words(&bench.answers()).contains("reason=authfailed"));
}

#[test]
fn questions_about_live_streams_get_polite_answers() {
    let mut bench = Bench::connected();
    let length = bench.command(20, &["getStreamLength".into(), 7.0.into(), Value::Null, "key".into()]);
    assert_eq!(length[0], ["_result".into(), 7.0.into(), Value::Null, 0.0.into()]);
    let seek = bench.command(20, &["seek".into(), 0.0.into(), Value::Null, 5000.0.into()]);
    assert_eq!(code(&seek[0]), "NetStream.Seek.Failed");
    let pause = bench.command(20, &["pause".into(), 0.0.into(), Value::Null, Value::Boolean(true), 0.0.into()]);
    assert_eq!(code(&pause[0]), "NetStream.Pause.Notify");
    assert_eq!(bench.server.poll_event(), None);
}

#[test]
fn a_second_publish_on_the_same_stream_is_refused() {
    let mut bench = Bench::connected();
    assert!(matches!(bench.publish("key"), Some(ServerEvent::PublishRequested(_))));
    bench.server.accept_publish(bench.now, 1).unwrap();
    assert_eq!(code(&bench.answers()[0]), "NetStream.Publish.Start");
    let values = ["publish".into(), 6.0.into(), Value::Null, "other".into(), "live".into()];
    let answers = bench.send_on(1, 20, &encode_all(&values));
    assert_eq!(code(&answers[0]), "NetStream.Publish.BadName");
    assert!(!bench.server.is_closing(), "the first stream goes on");
}

#[test]
fn streams_of_one_connection_are_apart() {
    let mut bench = Bench::connected();
    for (stream, name) in [(1, "one"), (2, "two"), (3, "three")] {
        bench.command(20, &["createStream".into(), 2.0.into(), Value::Null]);
        assert!(
            matches!(bench.publish_on(stream, name), Some(ServerEvent::PublishRequested(request)) if request.stream == stream)
        );
    }
    bench.server.accept_publish(bench.now, 1).unwrap();
    bench.server.accept_publish(bench.now, 3).unwrap();
    bench.server.refuse(2, &Refusal { description: "no".into() }).unwrap();
    assert!(!bench.server.is_closing(), "two streams go on");
    bench.send_on(2, 9, &[0x17, 1, 0, 0, 0, 1]);
    assert_eq!(bench.server.poll_event(), None);
    bench.send_on(3, 9, &[0x17, 1, 0, 0, 0, 1]);
    assert!(matches!(bench.server.poll_event(), Some(ServerEvent::Media { stream: 3, .. })));
    // FCUnpublish names the stream by its name, deleteStream by its number.
    bench.command(20, &["FCUnpublish".into(), 8.0.into(), Value::Null, "three".into()]);
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded { stream: 3 }));
    bench.command(20, &["deleteStream".into(), 9.0.into(), Value::Null, 1.0.into()]);
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded { stream: 1 }));
}

#[test]
fn a_stream_can_be_published_again_after_its_end() {
    let mut bench = Bench::connected();
    bench.publish("key");
    bench.server.accept_publish(bench.now, 1).unwrap();
    bench.command(20, &["deleteStream".into(), 7.0.into(), Value::Null, 1.0.into()]);
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded { stream: 1 }));
    assert!(matches!(bench.publish("key"), Some(ServerEvent::PublishRequested(_))));
    bench.server.accept_publish(bench.now, 1).unwrap();
    // An older way to say the end: publish(false).
    bench.send_on(1, 20, &encode_all(&["publish".into(), 0.0.into(), Value::Null, Value::Boolean(false)]));
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded { stream: 1 }));
}

/// Found by a fuzz target: a request that was withdrawn in the same piece of input was still
/// offered, and answering it was misuse.
#[test]
fn a_withdrawn_request_is_not_offered() {
    let mut bench = Bench::connected();
    let request = encode_all(&["publish".into(), 5.0.into(), Value::Null, "key".into(), "live".into()]);
    let end = encode_all(&["FCUnpublish".into(), 6.0.into(), Value::Null, "key".into()]);
    let mut input: Vec<Bytes> = Vec::new();
    for (message_stream, payload) in [(1, request), (0, end)] {
        let head = MessageHead { chunk_stream: 3, message_type: 20, message_stream, timestamp: Timestamp(0) };
        bench.encoder.encode(head, &[], &payload.into(), &mut input);
    }
    bench.server.handle_input(bench.now, &input.concat()).unwrap();
    assert_eq!(bench.server.poll_event(), None);
    // One that was seen is ended.
    assert!(matches!(bench.publish("key"), Some(ServerEvent::PublishRequested(_))));
    bench.command(20, &["FCUnpublish".into(), 7.0.into(), Value::Null, "key".into()]);
    assert_eq!(bench.server.poll_event(), Some(ServerEvent::PublishEnded { stream: 1 }));
}

#[test]
fn answers_without_a_request_are_misuse() {
    let mut bench = Bench::connected();
    assert!(bench.server.accept_publish(bench.now, 1).is_err());
    assert!(bench.server.accept_play(bench.now, 1).is_err());
    assert!(bench.server.refuse(1, &Refusal { description: "no".into() }).is_err());
}

#[test]
fn media_before_publishing_and_broken_metadata_are_dropped() {
    let mut bench = Bench::connected();
    bench.send_on(1, 9, &[0x17, 1, 0, 0, 0, 1]);
    assert_eq!(bench.server.poll_event(), None);
    bench.publish("key");
    bench.server.accept_publish(bench.now, 1).unwrap();
    bench.send_on(1, 18, &[2, 0, 200, b'x']);
    assert_eq!(bench.server.poll_event(), None);
    bench.send_on(1, 9, &[0x17, 1, 0, 0, 0, 1]);
    assert!(matches!(bench.server.poll_event(), Some(ServerEvent::Media { .. })));
}

/// One aggregate message holds sound and a picture, with times of their own.
#[test]
fn aggregate_messages_are_taken_apart() {
    let mut bench = Bench::connected();
    bench.publish("key");
    bench.server.accept_publish(bench.now, 1).unwrap();
    let inner =
        |kind: u8, time: u8, body: &[u8]| [&[kind, 0, 0, 2, 0, 0, time, 0, 0, 0, 0][..], body, &[0, 0, 0, 13]].concat();
    bench.send_on(1, 22, &[inner(8, 5, &[0xaf, 1]), inner(9, 38, &[0x17, 1])].concat());
    let times: Vec<_> = std::iter::from_fn(|| bench.server.poll_event())
        .map(|event| match event {
            ServerEvent::Media { kind, timestamp, .. } => (kind, timestamp.0),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(times, [(MediaKind::Audio, 0), (MediaKind::Video, 33)]);
}

/// Nobody may fill our memory by asking; but whoever publishes need not read.
#[test]
fn a_peer_that_asks_without_reading_is_left() {
    let mut bench = Bench::connected();
    bench.publish("key");
    bench.server.accept_publish(bench.now, 1).unwrap();
    let call = encode_all(&["getStreamLength".into(), 7.0.into(), Value::Null]);
    let head = MessageHead { chunk_stream: 3, message_type: 20, message_stream: 0, timestamp: Timestamp(0) };
    let outcome = (0..100_000).find_map(|_| {
        let mut out: Vec<Bytes> = Vec::new();
        bench.encoder.encode(head, &[], &call.clone().into(), &mut out);
        bench.server.handle_input(bench.now, &out.concat()).err()
    });
    assert_eq!(outcome, Some(Error::Unread));
}

/// Of many pings the newest is answered.
#[test]
fn pings_that_were_not_answered_yet_get_one_answer() {
    let mut bench = Bench::connected();
    bench.controls.clear();
    let ping = |number: u8| [&[2, 0, 0, 0, 0, 0, 6, 4, 0, 0, 0, 0][..], &[0, 6, 0, 0, 0, number]].concat();
    for number in 0..100 {
        bench.server.handle_input(bench.now, &ping(number)).unwrap();
    }
    bench.answers();
    assert_eq!(bench.controls, [(4, Bytes::from_static(&[0, 7, 0, 0, 0, 99]))]);
}

/// Who was not let in yet may send a few messages, not megabytes of pings.
#[test]
fn what_comes_before_publishing_is_bounded() {
    let mut bench = Bench::connected();
    let ping = [2, 0, 0, 0, 0, 0, 6, 4, 0, 0, 0, 0, 0, 6, 0, 0, 0, 1].repeat(100);
    let outcome = (0..1000).find_map(|_| bench.server.handle_input(bench.now, &ping).err());
    assert!(matches!(outcome, Some(Error::TooMuchBefore { limit: 0x4_0000, .. })), "{outcome:?}");
}

/// While publishing, many clients read nothing for long stretches.
#[test]
fn a_publisher_that_reads_nothing_costs_one_acknowledgement() {
    let mut bench = Bench::connected();
    bench.publish("key");
    bench.server.accept_publish(bench.now, 1).unwrap();
    bench.answers();
    let body = vec![0; 1 << 20];
    for _ in 0..200 {
        let head = MessageHead { chunk_stream: 4, message_type: 9, message_stream: 1, timestamp: Timestamp(0) };
        let mut out: Vec<Bytes> = Vec::new();
        bench.encoder.encode(head, &[], &Bytes::copy_from_slice(&body), &mut out);
        bench.server.handle_input(bench.now, &out.concat()).unwrap();
        while bench.server.poll_event().is_some() {}
    }
    let unread = drain(|| bench.server.poll_transmit());
    assert!(unread.len() <= 12 + 4, "one acknowledgement, the newest: {unread:?}");
}

/// Source: RTMP 1.0, 5.4.5
#[test]
fn a_limited_window_is_announced_when_it_changes() {
    let mut bench = Bench::connected();
    bench.controls.clear();
    let mut limit = |window: u32, kind: u8| {
        bench.controls.clear();
        bench.send(6, &[&window.to_be_bytes()[..], &[kind]].concat());
        bench.controls.first().map(|(_, payload)| u32::from_be_bytes(payload[..].try_into().unwrap()))
    };
    const HARD: u8 = 0;
    const SOFT: u8 = 1;
    const DYNAMIC: u8 = 2;
    assert_eq!(limit(2_500_000, SOFT), None, "that is what we announced");
    assert_eq!(limit(5_000_000, SOFT), None, "a soft limit never rises");
    assert_eq!(limit(1_000_000, DYNAMIC), None, "dynamic behind soft is ignored");
    assert_eq!(limit(1_000_000, HARD), Some(1_000_000));
    assert_eq!(limit(900_000, DYNAMIC), Some(900_000), "dynamic behind hard is hard");
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
    assert!(bench.controls.contains(&(4, Bytes::from_static(&[0, 7, 0, 0, 0, 42]))));
    bench.controls.clear();
    bench.send(18, &vec![5; 1200]);
    let received = u32::try_from(bench.server.counters().received_bytes).unwrap();
    assert_eq!(bench.controls, [(3, Bytes::copy_from_slice(&received.to_be_bytes()))]);
}
