use std::time::Duration;

use super::line::Faults;
use super::pair::{Pair, number_of};
use crate::Config;

/// A day: timestamps wrap twenty times, packet and message numbers once, and one packet in
/// twenty is lost.
#[test]
fn a_day_with_every_wrap() {
    let line = Faults { loss: 0.05, ..Faults::none(Duration::from_millis(20)) };
    let config = Config { receive_latency: Duration::from_millis(400), ..Config::default() };
    let seq = Some(0x7fff_ffff - 40_000);
    let mut pair = Pair::starting_at_seq(&Config::default(), &config, (line, line), 20, seq);
    pair.caller.set_next_message(0x03ff_ffff - 60_000);
    let (count, interval) = (120_000, Duration::from_millis(720));
    let mut delivered = 0;
    for part in 0..count / 1_000 {
        let base = pair.at_listener.len();
        assert_eq!(base, 0);
        pair.stream(1_000, interval, 40);
        for message in pair.at_listener.drain(..) {
            let expected = (delivered - part * 1_000) % 1_000;
            assert_eq!(number_of(&message) % 1_000, expected % 1_000);
            delivered += 1 + message.lost_before;
        }
    }
    pair.run_for(Duration::from_secs(1));
    delivered += u32::try_from(pair.at_listener.len()).unwrap();
    assert_eq!(pair.now - pair.start, Duration::from_secs(86_401));
    assert_eq!(delivered, count);
    let received = pair.listener.statistics(pair.now).received;
    assert!(received.dropped_packets <= 12, "{received:?}");
    assert!(received.drift_us.abs() < 2_000, "{received:?}");
}

/// Nothing is sent for hours: the connection stays, and still works.
#[test]
fn silence_is_no_end() {
    let line = Faults::none(Duration::from_millis(20));
    let mut pair = Pair::new(&Config::default(), &Config::default(), (line, line), 21);
    pair.run_for(Duration::from_secs(3 * 3600));
    pair.stream(10, Duration::from_millis(5), 100);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 10);
}
