//! A receiver that reports a loss at once, and again only after 300 ms as long as it does not know
//! the round trip, as real ones do. A sender that lets the first report pass loses the packet.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use super::line::Faults;
use super::pair::{Pair, numbered};
use crate::Config;
use crate::wire::{ControlKind, HEADER_LENGTH, Header, parse_losses};

const SPARSE: Duration = Duration::from_millis(300);
const ONE_WAY: Duration = Duration::from_millis(30);

fn pair(loss: f64, seed: u64) -> Pair {
    let line = Faults { loss, ..Faults::none(ONE_WAY) };
    let theirs = Config { receive_latency: Duration::from_millis(400), ..Config::default() };
    let mut pair = Pair::new(&Config::default(), &theirs, (line, line), seed);
    pair.listener.set_first_report_interval(SPARSE);
    pair
}

/// A keyframe of 60 packets first, then 2 Mbit/s.
fn show(pair: &mut Pair, seconds: u32) {
    for number in 0..60 {
        pair.caller.send(pair.now, &numbered(number, 1316)).unwrap();
    }
    pair.stream(seconds * 190, Duration::from_micros(5_263), 1316);
    pair.run_for(Duration::from_secs(1));
}

#[test]
fn first_reports_are_answered_within_ten_milliseconds() {
    let mut pair = pair(0.10, 70);
    let mut reported: HashMap<u32, Instant> = HashMap::new();
    let mut late = Vec::new();
    let mut answered = 0;
    pair.keeps_seen = true;
    let first = pair.caller.statistics(pair.now);
    assert_eq!(first.sent.reported_lost_packets, 0);
    for number in 0..2_000 {
        pair.caller.send(pair.now, &numbered(number, 1316)).unwrap();
        let end = pair.now + Duration::from_millis(5);
        while pair.now < end {
            pair.run_for(Duration::from_millis(1));
            for datagram in std::mem::take(&mut pair.seen) {
                match Header::parse(&datagram).unwrap() {
                    Header::Control(header) if header.kind == ControlKind::Nak => {
                        for (from, to) in parse_losses(&datagram[HEADER_LENGTH..]) {
                            for seq in from.get()..=to.get() {
                                reported.entry(seq).or_insert(pair.now);
                            }
                        }
                    }
                    Header::Data(header) if header.retransmitted => {
                        let Some(at) = reported.get(&header.seq.get()) else { continue };
                        let after = pair.now - *at;
                        // The way of the report, of which one in ten is lost, and the answer to it.
                        if after <= ONE_WAY + Duration::from_millis(10) { answered += 1 } else { late.push(after) }
                    }
                    _ => {}
                }
            }
        }
    }
    assert!(answered > 150, "{answered} answered at once");
    // Late are those whose report or first answer was lost on the way, and no others.
    assert!(late.len() * 3 < answered, "{answered} at once, late: {late:?}");
}

#[test]
fn a_fifth_of_everything_lost_costs_next_to_nothing() {
    let mut dropped = 0;
    for seed in 0..16 {
        let mut pair = pair(0.20, 100 + seed);
        show(&mut pair, 12);
        dropped += pair.listener.statistics(pair.now).received.dropped_packets;
    }
    assert!(dropped <= 14, "{dropped} packets were dropped in 16 runs");
}
