//! Servers that send our client elsewhere, and our server doing so.

use bytes::Bytes;

use super::pair::{Pair, drain};
use crate::amf_value::Value;
use crate::amf0::encode_all;
use crate::timestamp::Timestamp;
use crate::wire::{ChunkEncoder, MessageHead};
use crate::{ClientConnection, ClientEvent, ServerConfig, ServerConnection};

/// Our client past the handshake with a server that is not ours, which says `values`.
fn told(values: &[Vec<Value>]) -> Vec<ClientEvent> {
    let mut pair = Pair::new(1);
    let now = pair.now;
    let client: &mut ClientConnection = &mut pair.client;
    let mut answer = vec![3];
    answer.resize(1 + 2 * 1536, 9);
    client.handle_input(now, &answer).unwrap();
    let mut encoder = ChunkEncoder::new();
    for values in values {
        let mut out: Vec<Bytes> = Vec::new();
        let head = MessageHead { chunk_stream: 3, message_type: 20, message_stream: 0, timestamp: Timestamp(0) };
        encoder.encode(head, &[], &encode_all(values).into(), &mut out);
        client.handle_input(now, &out.concat()).unwrap();
    }
    drain(|| client.poll_transmit());
    std::iter::from_fn(|| client.poll_event()).collect()
}

fn object(pairs: &[(&str, Value)]) -> Value {
    Value::Object(pairs.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect())
}

fn connected() -> Vec<Value> {
    vec!["_result".into(), 1.0.into(), Value::Null, object(&[("code", "NetConnection.Connect.Success".into())])]
}

#[test]
fn a_redirect_in_the_answer_to_connect_is_reported() {
    let ex = object(&[("code", 302.0.into()), ("redirect", "rtmp://b.test/live".into())]);
    let information = object(&[
        ("level", "error".into()),
        ("code", "NetConnection.Connect.Rejected".into()),
        ("description", "Elsewhere.".into()),
        ("ex", ex),
    ]);
    let events = told(&[vec!["_error".into(), 1.0.into(), Value::Null, information]]);
    assert_eq!(events, [ClientEvent::Redirected { address: "rtmp://b.test/live".into() }]);
}

#[test]
fn our_server_can_send_clients_elsewhere() {
    let mut pair = Pair::new(1000);
    let config = ServerConfig { redirect: Some("rtmp://b.test/in".into()), ..ServerConfig::default() };
    pair.server = ServerConnection::new(config, pair.now);
    pair.drive();
    assert_eq!(pair.client_events, [ClientEvent::Redirected { address: "rtmp://b.test/in".into() }]);
    assert!(pair.server.is_closing());
}

#[test]
fn a_rejected_connect_tells_why() {
    let information = object(&[
        ("level", "error".into()),
        ("code", "NetConnection.Connect.Rejected".into()),
        ("description", "No such application.".into()),
    ]);
    let events = told(&[vec!["_error".into(), 1.0.into(), Value::Null, information]]);
    let (code, description) = ("NetConnection.Connect.Rejected".into(), "No such application.".into());
    assert_eq!(events, [ClientEvent::Refused { code, description }]);
}

/// Source: E-RTMP 2, Reconnect Request
#[test]
fn a_reconnect_request_is_reported_with_and_without_an_address() {
    for (address, expected) in [(Value::from("rtmp://b.test/live"), Some("rtmp://b.test/live")), (Value::Null, None)] {
        let information = object(&[
            ("level", "status".into()),
            ("code", "NetConnection.Connect.ReconnectRequest".into()),
            ("description", "Maintenance.".into()),
            ("tcUrl", address),
        ]);
        let events = told(&[connected(), vec!["onStatus".into(), 0.0.into(), Value::Null, information]]);
        let (address, description) = (expected.map(str::to_owned), "Maintenance.".to_owned());
        assert_eq!(events, [ClientEvent::ReconnectRequested { address, description }]);
    }
}

#[test]
fn our_server_asks_those_who_know_the_request() {
    let mut pair = Pair::new(1000);
    pair.drive();
    assert!(pair.server.request_reconnect(None, "The relay restarts."));
    pair.drive();
    let description = "The relay restarts.".to_owned();
    assert_eq!(pair.client_events.last(), Some(&ClientEvent::ReconnectRequested { address: None, description }));
    assert!(pair.server.request_reconnect(Some("rtmp://b.test/in"), "Elsewhere."));
    pair.drive();
    let Some(ClientEvent::ReconnectRequested { address, .. }) = pair.client_events.last() else { panic!("no request") };
    assert_eq!(address.as_deref(), Some("rtmp://b.test/in"));
    assert!(pair.client.is_publishing(), "the connection goes on until the client is ready");
}

/// Servers of other dialects: answers before questions, unknown notices, a stream without a number.
#[test]
fn odd_servers_are_borne() {
    let stream = vec!["_result".into(), 4.0.into(), Value::Null];
    let start = object(&[("level", "status".into()), ("code", "NetStream.Publish.Start".into())]);
    let events = told(&[
        vec!["onBWDone".into(), 0.0.into(), Value::Null, 8192.0.into()],
        connected(),
        vec!["_error".into(), 2.0.into(), Value::Null, Value::Null],
        vec!["onFCPublish".into(), 0.0.into(), Value::Null, object(&[("code", "NetStream.Publish.Start".into())])],
        stream,
        vec!["onStatus".into(), 0.0.into(), Value::Null, start],
    ]);
    assert_eq!(events, [ClientEvent::Publishing]);
}
