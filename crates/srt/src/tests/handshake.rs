use std::time::Duration;

use rstest::rstest;

use super::line::Faults;
use super::pair::{HOUSE, PEER, Pair, address, call, caller, listener, numbered, start};
use crate::listener::handshake_packet;
use crate::number::SeqNumber;
use crate::wire::{Extension, Group, HEADER_LENGTH, Handshake, HandshakeKind, Header, Terms, flags};
use crate::{CallError, CloseReason, Config, ListenerEvent, RejectReason, destination};

fn terms() -> Terms {
    Terms { version: 0x01_05_00, flags: flags::LIVE, receiver_delay_ms: 80, sender_delay_ms: 300 }
}

fn conclusion(cookie: u32, extensions: Vec<Extension>) -> Handshake {
    let handshake = Handshake {
        version: 5,
        encryption: 0,
        extension_field: 0,
        initial_seq: SeqNumber::new(1_000),
        mtu: 1500,
        flow_window: 8192,
        kind: HandshakeKind::Conclusion,
        socket_id: 42,
        cookie,
        peer_address: [0; 16],
        extensions: Vec::new(),
    };
    handshake.with_extensions(extensions)
}

fn induction() -> Vec<u8> {
    let induction =
        Handshake { version: 4, extension_field: 2, kind: HandshakeKind::Induction, ..conclusion(0, vec![]) };
    handshake_packet(0, 0, &induction)
}

/// Lets a conclusion of a foreign caller, with a right cookie, go to our listener.
fn judge(change: impl FnOnce(&mut Handshake)) -> ListenerEvent {
    let (now, config) = (start(), Config::default());
    let listener = listener(now, &config);
    let ListenerEvent::Answer(answer) = listener.handle_datagram(now, address(PEER), &induction()) else {
        panic!("no answer to the induction");
    };
    let answer = Handshake::parse(&answer[HEADER_LENGTH..]).unwrap();
    let mut handshake = conclusion(answer.cookie, vec![Extension::TermsRequest(terms())]);
    change(&mut handshake);
    listener.handle_datagram(now, address(PEER), &handshake_packet(5, 0, &handshake))
}

fn refused(event: ListenerEvent) -> RejectReason {
    let ListenerEvent::Refused { answer, reason, .. } = event else { panic!("not refused: {event:?}") };
    assert_eq!(destination(&answer), Some(42));
    let answer = Handshake::parse(&answer[HEADER_LENGTH..]).unwrap();
    assert_eq!(answer.kind, HandshakeKind::Refusal(reason));
    reason
}

#[test]
fn latency_is_the_larger_wish_of_both_ends() {
    let ours = Config {
        receive_latency: Duration::from_millis(200),
        send_latency: Duration::from_millis(900),
        ..Config::default()
    };
    let theirs = Config {
        receive_latency: Duration::from_millis(120),
        send_latency: Duration::from_millis(350),
        ..Config::default()
    };
    let (caller, listener) = call(start(), Duration::ZERO, (&ours, None), &theirs).unwrap();
    let latencies = |connection: &crate::Connection| {
        let statistics = connection.statistics(start());
        (statistics.receive_latency.as_millis(), statistics.send_latency.as_millis())
    };
    assert_eq!(latencies(&listener), (900, 350));
    assert_eq!(latencies(&caller), (350, 900));
}

#[test]
fn a_request_says_who_and_what() {
    let event = judge(|handshake| {
        handshake.extensions.push(Extension::StreamId("#!::r=abcdefg-secret,m=publish".to_owned()));
    });
    let ListenerEvent::Request(request) = event else { panic!("{event:?}") };
    assert_eq!(request.stream_id(), Some("#!::r=abcdefg-secret,m=publish"));
    assert_eq!((request.from(), request.remote_id(), request.version()), (address(PEER), 42, (1, 5, 0)));
    assert_eq!(request.wanted_receive_latency(), Duration::from_millis(300));
    assert!(!request.is_encrypted());
}

/// To know of packet filters (bit 7) is not to ask for one.
#[test]
fn a_peer_that_knows_of_filters_is_heard() {
    let event = judge(|handshake| {
        handshake.extensions = vec![Extension::TermsRequest(Terms { flags: 1 << 7, ..terms() })];
    });
    assert!(matches!(event, ListenerEvent::Request(_)), "{event:?}");
}

#[test]
fn a_group_is_seen() {
    let group = Group { id: 0x4000_0001, kind: 1, flags: 0, weight: 3 };
    let ListenerEvent::Request(request) = judge(|handshake| handshake.extensions.push(Extension::Group(group))) else {
        panic!("no request");
    };
    assert_eq!(request.group(), Some(group));
}

#[rstest]
#[case::version_4(|handshake: &mut Handshake| handshake.version = 4, RejectReason::VERSION)]
#[case::no_terms(|handshake: &mut Handshake| handshake.extensions.clear(), RejectReason::ROGUE)]
#[case::small_mtu(|handshake: &mut Handshake| handshake.mtu = 100, RejectReason::ROGUE)]
#[case::no_window(|handshake: &mut Handshake| handshake.flow_window = 1, RejectReason::ROGUE)]
#[case::old(
    |handshake: &mut Handshake| handshake.extensions = vec![Extension::TermsRequest(Terms { version: 0x01_02_03, ..terms() })],
    RejectReason::VERSION
)]
#[case::stream_mode(
    |handshake: &mut Handshake| handshake.extensions = vec![Extension::TermsRequest(Terms { flags: flags::STREAM, ..terms() })],
    RejectReason::MESSAGE_API
)]
#[case::file_congestion(
    |handshake: &mut Handshake| handshake.extensions.push(Extension::Congestion("file".to_owned())),
    RejectReason::CONGESTION
)]
#[case::filter(
    |handshake: &mut Handshake| handshake.extensions.push(Extension::Filter("fec,cols:10".to_owned())),
    RejectReason::FILTER
)]
fn what_does_not_fit_is_refused_with_its_reason(#[case] change: fn(&mut Handshake), #[case] reason: RejectReason) {
    assert_eq!(refused(judge(change)), reason);
}

#[test]
fn a_wrong_cookie_gets_no_answer() {
    assert!(matches!(judge(|handshake| handshake.cookie ^= 1), ListenerEvent::Ignored));
}

#[test]
fn a_cookie_holds_for_its_address_and_for_two_minutes() {
    let (now, config) = (start(), Config::default());
    let listener = listener(now, &config);
    let ListenerEvent::Answer(answer) = listener.handle_datagram(now, address(PEER), &induction()) else {
        panic!("no answer");
    };
    assert_eq!(answer.len(), induction().len(), "an answer is not longer than what asked for it");
    let cookie = Handshake::parse(&answer[HEADER_LENGTH..]).unwrap().cookie;
    let datagram = handshake_packet(5, 0, &conclusion(cookie, vec![Extension::TermsRequest(terms())]));
    let is_heard = |from: &str, seconds| {
        let event = listener.handle_datagram(now + Duration::from_secs(seconds), address(from), &datagram);
        matches!(event, ListenerEvent::Request(_))
    };
    assert!(is_heard(PEER, 0) && is_heard(PEER, 61));
    assert!(!is_heard(PEER, 121), "too old");
    assert!(!is_heard("192.0.2.7:40001", 0) && !is_heard("192.0.2.8:40000", 0), "of somebody else");
}

#[test]
fn reasons_of_the_application_reach_the_caller() {
    let (now, config) = (start(), Config::default());
    let (mut caller, listener) = (caller(now, &config, None), listener(now, &config));
    for _ in 0..3 {
        let datagram = caller.poll_transmit(now).unwrap();
        let answer = match listener.handle_datagram(now, address(PEER), &datagram) {
            ListenerEvent::Answer(answer) => answer,
            ListenerEvent::Request(request) => listener.refuse(now, &request, RejectReason::UNAUTHORIZED),
            event => panic!("{event:?}"),
        };
        match caller.handle_datagram(now, &answer) {
            Ok(None) => {}
            Ok(Some(_)) => panic!("let in"),
            Err(error) => {
                assert_eq!(error, CallError::Refused(RejectReason::UNAUTHORIZED));
                assert_eq!(error.to_string(), "the peer refuses: the key is not known (code 1401)");
                return;
            }
        }
    }
    panic!("no end");
}

#[test]
fn a_caller_repeats_itself_and_gives_up() {
    let now = start();
    let mut caller = caller(now, &Config::default(), None);
    let mut sent = 0;
    let mut at = now;
    let error = loop {
        sent += usize::from(caller.poll_transmit(at).is_some());
        if let Err(error) = caller.handle_timeout(at) {
            break error;
        }
        at = caller.poll_timeout().max(at + Duration::from_millis(1));
    };
    assert_eq!((sent, error), (13, CallError::Timeout(Duration::from_secs(3))));
}

/// The clock in a datagram with a handshake.
fn stamp(datagram: &[u8]) -> u32 {
    let Ok(Header::Control(header)) = Header::parse(datagram) else { panic!("no control packet") };
    header.timestamp
}

/// Each end sets its clock by the other's handshake. One that kept the time of a sending that was
/// lost made everything late by what passed until the next.
#[test]
fn handshakes_are_stamped_when_they_leave() {
    let (now, config) = (start(), Config::default());
    let (mut caller, listener) = (caller(now, &config, None), listener(now, &config));
    let induction = caller.poll_transmit(now).unwrap();
    let ListenerEvent::Answer(answer) = listener.handle_datagram(now, address(PEER), &induction) else {
        panic!("no answer");
    };
    assert!(caller.handle_datagram(now, &answer).unwrap().is_none());
    let wait = Duration::from_millis(250);
    let conclusions = [now, now + wait].map(|at| stamp(&caller.poll_transmit(at).unwrap()));
    assert_eq!(conclusions[1] - conclusions[0], 250_000);
    let (_, mut accepted) = call(now, Duration::ZERO, (&config, None), &config).unwrap();
    let answers = [now + wait, now + 2 * wait].map(|at| {
        accepted.repeat_response();
        let mut out = Vec::new();
        accepted.poll_transmit(at, &mut out).unwrap();
        stamp(&out)
    });
    // The clock of a connection begins with it (§3).
    assert_eq!(answers, [250_000, 500_000]);
}

/// Our answer was lost: the caller asks again, and gets the same one.
#[test]
fn a_repeated_conclusion_is_answered_again() {
    let now = start();
    let config = Config::default();
    let (_, mut listener) = call(now, Duration::ZERO, (&config, None), &config).unwrap();
    let mut out = Vec::new();
    assert_eq!(listener.poll_transmit(now, &mut out), None);
    listener.repeat_response();
    listener.repeat_response();
    assert!(listener.poll_transmit(now, &mut out).is_some());
    let answer = Handshake::parse(&out[HEADER_LENGTH..]).unwrap();
    assert_eq!((answer.kind, answer.socket_id), (HandshakeKind::Conclusion, 11));
    assert_eq!(listener.poll_transmit(now, &mut out), None, "once is enough");
}

#[test]
fn a_closed_end_tells_the_other() {
    let line = Faults::none(Duration::from_millis(10));
    let mut pair = Pair::new(&Config::default(), &Config::default(), (line, line), 40);
    pair.caller.close();
    pair.run_for(Duration::from_millis(50));
    assert_eq!(pair.listener.close_reason(), Some(CloseReason::Shutdown));
    assert_eq!(pair.caller.send(pair.now, &numbered(0, 10)), Err(crate::SendError::Over));
}

#[test]
fn a_silent_peer_is_given_up() {
    let line = Faults::none(Duration::from_millis(10));
    let mut pair = Pair::new(&Config::default(), &Config::default(), (line, line), 41);
    pair.run_for(Duration::from_secs(20));
    assert_eq!(pair.listener.close_reason(), None, "signs of life are sent");
    pair.up.set_faults(Faults { loss: 1.0, ..line });
    pair.run_for(Duration::from_secs(6));
    assert_eq!(pair.listener.close_reason(), Some(CloseReason::Idle(Duration::from_secs(5))));
    assert_eq!(pair.caller.close_reason(), Some(CloseReason::Shutdown), "and told so");
}

#[test]
fn numbers_of_connections_are_found_in_datagrams() {
    let datagram = handshake_packet(5, 0, &conclusion(1, vec![]));
    assert_eq!((destination(&datagram), crate::conclusion_from(&datagram)), (Some(0), Some(42)));
    assert_eq!(destination(&datagram[..15]), None);
    assert_eq!(address(HOUSE).port(), 7810);
}
