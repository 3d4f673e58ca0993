//! A byte link that cuts, stalls, half-closes and resets.

use std::time::Duration;

use bytes::Bytes;

use super::pair::{Pair, drain};
use crate::{ClientConnection, ClientPurpose, Error, Greeting, MediaOutput, ServerEvent, TimeoutKind, Timestamp};

/// What a whole conversation of a publisher looks like to the server: each of our client's
/// turns, in order.
fn turns(greeting: Greeting) -> Vec<Vec<u8>> {
    let mut pair = Pair::with(usize::MAX, ClientPurpose::Publish, greeting);
    let mut turns = Vec::new();
    for turn in 0..10 {
        if turn == 6 {
            say_something(&mut pair.client);
        }
        let up = drain(|| pair.client.poll_transmit());
        pair.server.handle_input(pair.now, &up).unwrap();
        pair.collect_server_events();
        pair.client.handle_input(pair.now, &drain(|| pair.server.poll_transmit())).unwrap();
        turns.push(up);
    }
    assert_eq!(pair.media().len(), 3);
    turns.retain(|turn| !turn.is_empty());
    turns
}

fn say_something(client: &mut ClientConnection) {
    client.send_video(Timestamp(0), &[0x17, 1, 0, 0, 0], &Bytes::from(vec![7; 300])).unwrap();
    client.send_audio(Timestamp(0x0123_4567), &[0xaf, 1], &Bytes::from(vec![8; 40])).unwrap();
    client.send_video(Timestamp(0x0123_4599), &[0x27, 1, 0, 0, 0], &Bytes::from(vec![9; 20])).unwrap();
    client.close();
}

/// Gives the server whole turns up to the byte `at` of the conversation, in two pieces each
/// where the cut falls.
fn replay(turns: &[Vec<u8>], at: usize, and_on: bool) -> Pair {
    let mut pair = Pair::new(usize::MAX);
    let mut left = at;
    for turn in turns {
        let (before, after) = turn.split_at(left.min(turn.len()));
        pair.server.handle_input(pair.now, before).unwrap();
        pair.collect_server_events();
        drain(|| pair.server.poll_transmit());
        if !after.is_empty() && !and_on {
            return pair;
        }
        if !after.is_empty() {
            pair.server.handle_input(pair.now, after).unwrap();
            pair.collect_server_events();
        }
        left = left.saturating_sub(turn.len());
    }
    pair
}

#[test]
fn a_cut_at_any_byte_changes_nothing() {
    for greeting in [Greeting::Plain, Greeting::DigestFirst] {
        let turns = turns(greeting);
        let whole = replay(&turns, usize::MAX, true);
        let total: usize = turns.iter().map(Vec::len).sum();
        for at in 0..total {
            let cut = replay(&turns, at, true);
            assert_eq!(cut.server_events, whole.server_events, "cut at byte {at}");
        }
    }
}

/// Wherever the line stops, the server notices within its limits, and what it was told before
/// is a beginning of the whole.
#[test]
fn a_stall_at_any_byte_is_noticed() {
    let turns = turns(Greeting::Plain);
    let whole = replay(&turns, usize::MAX, true);
    let total: usize = turns.iter().map(Vec::len).sum();
    for at in 0..total - 1 {
        let mut stalled = replay(&turns, at, false);
        assert!(whole.server_events.starts_with(&stalled.server_events), "stalled at byte {at}");
        let due = stalled.server.poll_timeout().expect("every wait has an end");
        let wait = due - stalled.now;
        assert!(wait <= Duration::from_secs(15), "{wait:?} at byte {at}");
        let Err(Error::Timeout(kind)) = stalled.pass(wait) else { panic!("no time-out at byte {at}") };
        let published = stalled.server_events.iter().any(|event| matches!(event, ServerEvent::PublishRequested(_)));
        let ended = stalled.server_events.iter().any(|event| matches!(event, ServerEvent::PublishEnded { .. }));
        let expected = match (at, published && !ended) {
            (_, true) => TimeoutKind::Idle,
            (..3073, _) => TimeoutKind::Handshake,
            _ => TimeoutKind::Setup,
        };
        assert_eq!(kind, expected, "at byte {at}");
    }
}

/// The peer closes its direction: what we still have to say can be said.
#[test]
fn a_half_closed_link_still_carries_our_words() {
    let mut pair = Pair::new(1000);
    pair.drive();
    pair.server.end_publish(1, "The encoder's line is half closed.");
    let last_words = drain(|| pair.server.poll_transmit());
    assert!(pair.server.is_closing());
    pair.client.handle_input(pair.now, &last_words).unwrap();
    assert!(!pair.client.is_publishing());
    assert_eq!(pair.server.poll_timeout(), None);
}

/// Bytes that come after the end, as from a link that was reset and delivers late, do nothing.
#[test]
fn nothing_is_heard_after_the_end() {
    let mut pair = Pair::new(1000);
    pair.drive();
    let late = {
        say_something(&mut pair.client);
        drain(|| pair.client.poll_transmit())
    };
    pair.server.end_publish(1, "Over.");
    pair.server_events.clear();
    pair.server.handle_input(pair.now, &late).unwrap();
    pair.collect_server_events();
    assert_eq!(pair.server_events, []);
}

/// The client's side of the same: the server's answers cut at any byte, and stalling there.
#[test]
fn the_client_bears_cuts_and_stalls_at_any_byte() {
    let mut pair = Pair::new(usize::MAX);
    let mut answers = Vec::new();
    for _ in 0..8 {
        pair.server.handle_input(pair.now, &drain(|| pair.client.poll_transmit())).unwrap();
        pair.collect_server_events();
        let down = drain(|| pair.server.poll_transmit());
        pair.client.handle_input(pair.now, &down).unwrap();
        answers.extend(down);
    }
    assert!(pair.client.is_publishing());
    for at in 0..answers.len() {
        let mut client = Pair::new(1).client;
        let now = pair.now;
        client.handle_input(now, &answers[..at]).unwrap();
        if !client.is_publishing() {
            let due = client.poll_timeout().expect("every wait has an end");
            assert!(due - now <= Duration::from_secs(11), "at byte {at}");
        }
        client.handle_input(now, &answers[at..]).unwrap();
        assert!(client.is_publishing(), "cut at byte {at}");
    }
}
