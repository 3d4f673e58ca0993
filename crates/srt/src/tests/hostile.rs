use std::time::Duration;

use proptest::prelude::*;

use super::line::{Dice, Faults};
use super::pair::{HOUSE, PEER, Pair, address, caller, listener, numbered, start};
use crate::wire::{Handshake, Header, KeyMaterial, parse_losses};
use crate::{Config, ListenerEvent, StreamId};

/// A datagram of any kind with anything in it.
fn datagram() -> impl Strategy<Value = Vec<u8>> {
    let kind = prop_oneof![Just(0x00), Just(0x80), Just(0xff), any::<u8>()];
    (kind, 0..9_u8, prop::collection::vec(any::<u8>(), 0..200)).prop_map(|(first, kind, mut rest)| {
        rest.splice(0..0, [first, kind]);
        rest
    })
}

proptest! {
    #[test]
    fn no_bytes_harm_a_parser(raw in prop::collection::vec(any::<u8>(), 0..600)) {
        let _ = Header::parse(&raw);
        let _ = KeyMaterial::parse(&raw);
        prop_assert!(parse_losses(&raw).count() <= raw.len() / 4);
        if let Ok(handshake) = Handshake::parse(&raw) {
            let mut out = Vec::new();
            handshake.write(&mut out);
        }
        let _ = StreamId::parse(&String::from_utf8_lossy(&raw));
    }

    #[test]
    fn no_datagram_harms_listener_or_caller(raw in datagram()) {
        let (now, config) = (start(), Config::default());
        let _ = listener(now, &config).handle_datagram(now, address(PEER), &raw);
        let _ = caller(now, &config, None).handle_datagram(now, &raw);
    }

}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn no_datagrams_harm_a_connection(raw in prop::collection::vec(datagram(), 1..60)) {
        let line = Faults::none(Duration::from_millis(5));
        let mut pair = Pair::new(&Config::default(), &Config::default(), (line, line), 50);
        pair.stream(20, Duration::from_millis(1), 100);
        let mut out = Vec::new();
        for piece in raw {
            pair.listener.handle_datagram(pair.now, &piece);
            pair.now += Duration::from_millis(3);
            pair.listener.handle_timeout(pair.now);
            while pair.listener.poll_message(pair.now).is_some() {}
            out.clear();
            while pair.listener.poll_transmit(pair.now, &mut out).is_some() {}
            let statistics = pair.listener.statistics(pair.now);
            prop_assert!(statistics.received.buffered_packets <= statistics.received.window_packets);
        }
    }
}

/// Somebody who knows a connection's number, but not what is sent on it, throws packets at it.
#[test]
fn a_show_goes_on_under_forged_packets_of_no_use() {
    let line = Faults::none(Duration::from_millis(20));
    let mut pair = Pair::new(&Config::default(), &Config::default(), (line, line), 51);
    let mut dice = Dice::new(5);
    for number in 0..2_000 {
        pair.caller.send(pair.now, &numbered(number, 200)).unwrap();
        // Far outside of the window, as nearly all guesses are.
        let mut forged = vec![0; 100];
        forged[..4].copy_from_slice(&0x7000_0000_u32.to_be_bytes());
        forged[20] = (dice.next() & 0xff) as u8;
        pair.up.send(pair.now, &forged);
        pair.run_for(Duration::from_millis(2));
    }
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 2_000);
}

/// Nothing is kept of who only asks: the listener answers by what came alone.
#[test]
fn floods_of_inductions_leave_nothing_behind() {
    let (now, config) = (start(), Config::default());
    let datagram = caller(now, &config, None).poll_transmit(now).unwrap();
    let listener = listener(now, &config);
    for port in 1..=10_000_u16 {
        let from = std::net::SocketAddr::new(address(HOUSE).ip(), port);
        assert!(matches!(listener.handle_datagram(now, from, &datagram), ListenerEvent::Answer(_)));
    }
}

/// A drop request for half of all numbers, and a report that names the same packets again and
/// again, cost no more than what is there.
#[test]
fn ranges_cost_no_more_than_what_they_hit() {
    let line = Faults::none(Duration::from_millis(20));
    let mut pair = Pair::starting_at_seq(&Config::default(), &Config::default(), (line, line), 52, Some(1_000));
    let control = |kind: u8, body: &[u8]| [&[0x80, kind, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 11][..], body].concat();
    let began = pair.listener.statistics(pair.now);
    for _ in 0..100 {
        let drop_request = control(7, &[0, 0, 3, 0xe8, 0x3f, 0xff, 0xff, 0xff]);
        pair.listener.handle_datagram(pair.now, &drop_request);
    }
    assert_eq!(pair.listener.statistics(pair.now).received.dropped_packets, began.received.dropped_packets);
    for number in 0..500 {
        pair.caller.send(pair.now, &numbered(number, 100)).unwrap();
    }
    pair.run_for(Duration::from_millis(10));
    let report = control(3, &[[0x80, 0, 3, 0xe8], [0x3f, 0xff, 0xff, 0xff]].concat().repeat(180));
    pair.caller.handle_datagram(pair.now, &report);
    assert!(pair.caller.statistics(pair.now).sent.reported_lost_packets <= 1_000);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 500);
}
