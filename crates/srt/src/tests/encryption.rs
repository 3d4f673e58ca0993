use std::time::Duration;

use rstest::rstest;

use super::line::Faults;
use super::pair::{Pair, numbered, refusal};
use crate::crypto::Sealer;
use crate::randomness::Randomness;
use crate::{Config, KeyLength, Passphrase, RejectReason};

fn secret(text: &str) -> Option<Passphrase> {
    Some(Passphrase::new(text).unwrap())
}

fn config(text: &str) -> Config {
    Config { passphrase: secret(text), receive_latency: Duration::from_millis(500), ..Config::default() }
}

#[rstest]
#[case::aes_128(KeyLength::Aes128, false)]
#[case::aes_192(KeyLength::Aes192, false)]
#[case::aes_256(KeyLength::Aes256, false)]
#[case::authenticated_128(KeyLength::Aes128, true)]
#[case::authenticated_256(KeyLength::Aes256, true)]
fn keys_are_made_new_in_mid_stream(#[case] key_length: KeyLength, #[case] authenticated: bool) {
    let line = Faults { loss: 0.05, ..Faults::none(Duration::from_millis(30)) };
    let ours = Config { key_length, authenticated, key_refresh: 700, key_announce: 200, ..config("wexcombe reach") };
    let mut pair = Pair::new(&ours, &config("wexcombe reach"), (line, line), 30);
    pair.keeps_seen = true;
    pair.stream(5_000, Duration::from_millis(2), 1_200);
    pair.run_for(Duration::from_secs(1));
    let received = pair.listener.statistics(pair.now).received;
    assert_eq!((received.undecrypted_packets, received.dropped_packets), (0, 0));
    for (number, delivered) in (0..).zip(&pair.at_listener) {
        assert_eq!(delivered.payload, numbered(number, 1_200));
    }
    assert_eq!(pair.at_listener.len(), 5_000);
    let data = || pair.seen.iter().filter(|datagram| datagram[0] & 0x80 == 0);
    let flags: Vec<u8> = data().map(|datagram| datagram[4] >> 3 & 3).collect();
    let changes = flags.windows(2).filter(|flags| flags[0] != flags[1]).count();
    assert!((6..=7).contains(&changes), "{changes} changes of the key");
    // No payload in clear.
    assert!(data().all(|datagram| !datagram.windows(32).any(|piece| piece.iter().all(|byte| *byte == piece[0]))));
}

#[test]
fn both_ends_can_send_with_the_callers_key() {
    let line = Faults::none(Duration::from_millis(10));
    let mut pair = Pair::new(&config("wexcombe reach"), &config("wexcombe reach"), (line, line), 31);
    pair.listener.send(pair.now, &numbered(1, 500)).unwrap();
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_caller[0].payload, numbered(1, 500));
}

#[rstest]
#[case::other_secret("wexcombe reach", "another phrase", RejectReason::BAD_SECRET)]
#[case::caller_without("", "wexcombe reach", RejectReason::UNSECURE)]
#[case::listener_without("wexcombe reach", "", RejectReason::UNSECURE)]
fn secrets_must_be_the_same(#[case] ours: &str, #[case] theirs: &str, #[case] reason: RejectReason) {
    let of = |text: &str| if text.is_empty() { Config::default() } else { config(text) };
    assert_eq!(refusal(&of(ours), &of(theirs)), reason);
}

/// Each salt of the peer asks for milliseconds of work, which is given out, one at a time.
#[test]
fn keys_with_another_salt_wait_for_their_derivation() {
    let line = Faults::none(Duration::from_millis(10));
    let mut pair = Pair::new(&config("wexcombe reach"), &config("wexcombe reach"), (line, line), 33);
    let key_request = |text: &str, seed: u8| {
        let mut random = Randomness::new([seed; 32]);
        let sealer = Sealer::new(&secret(text).unwrap(), KeyLength::Aes128, false, &mut random).unwrap();
        let header = [0xff, 0xff, 0, 3, 0, 0, 0, 0, 0, 0, 0, 9, 0, 0, 0, 11];
        [&header[..], &sealer.message().to_bytes()].concat()
    };
    for seed in 101..200 {
        pair.listener.handle_datagram(pair.now, &key_request("wexcombe reach", seed));
    }
    let derivation = pair.listener.poll_derivation().expect("the first of them");
    assert_eq!(pair.listener.poll_derivation(), None);
    pair.listener.handle_datagram(pair.now, &key_request("wexcombe reach", 200));
    assert_eq!(pair.listener.poll_derivation(), None, "one is on its way");
    pair.listener.take_derived(Some(derivation.run()));
    pair.listener.handle_datagram(pair.now, &key_request("another phrase", 5));
    let derivation = pair.listener.poll_derivation().expect("the next");
    pair.listener.take_derived(Some(derivation.run()));
    let mut out = Vec::new();
    let mut answers = Vec::new();
    while pair.listener.poll_transmit(pair.now, &mut out).is_some() {
        if out.starts_with(&[0xff, 0xff, 0, 4]) {
            answers.push(out[16..].to_vec());
        }
        out.clear();
    }
    assert_eq!(answers, [key_request("wexcombe reach", 101)[16..].to_vec(), vec![0, 0, 0, 4]]);
    // What the peer began with is still good: a wrong key changes nothing.
    pair.caller.send(pair.now, &numbered(1, 500)).unwrap();
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.listener.statistics(pair.now).received.packets, 1);
}

/// Somebody between the ends puts in a packet of its own: it is not handed on.
#[test]
fn clear_packets_are_not_taken_on_an_encrypted_connection() {
    let line = Faults::none(Duration::from_millis(10));
    let mut pair = Pair::new(&config("wexcombe reach"), &config("wexcombe reach"), (line, line), 32);
    pair.keeps_seen = true;
    pair.stream(3, Duration::from_millis(5), 100);
    let mut forged = pair.seen.iter().rfind(|datagram| datagram[0] & 0x80 == 0).unwrap().clone();
    forged[3] += 1;
    forged[4] &= !0b1_1000;
    pair.up.send(pair.now, &forged);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 3);
    assert_eq!(pair.listener.statistics(pair.now).received.undecrypted_packets, 1);
}
