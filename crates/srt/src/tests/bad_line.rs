use std::time::Duration;

use rstest::rstest;

use super::line::Faults;
use super::pair::{Pair, number_of, numbered};
use crate::Config;

const INTERVAL: Duration = Duration::from_micros(1_755);
const LENGTH: usize = 1316;

fn with_latency(latency: Duration) -> Config {
    Config { receive_latency: latency, ..Config::default() }
}

/// Sends 6 Mbit/s for `count` packets, and checks that all that comes is in order and on time.
/// Returns the share that came.
fn deliver(faults: (Faults, Faults), latency: Duration, count: u32, seed: u64) -> (f64, Pair) {
    let mut pair = Pair::new(&Config::default(), &with_latency(latency), faults, seed);
    pair.stream(count, INTERVAL, LENGTH);
    pair.run_for(latency * 3);
    let mut last = None;
    for delivered in &pair.at_listener {
        let number = number_of(delivered);
        assert!(last.is_none_or(|last| number > last), "{number} after {last:?}");
        assert_eq!(delivered.payload, numbered(number, LENGTH));
        last = Some(number);
        // The way here, which the handshake took as well, and the latency.
        let due = pair.start + INTERVAL * number + faults.0.delay + latency;
        let early = due.saturating_duration_since(delivered.at);
        // A packet may be handed on until one behind it is due.
        let late = delivered.at.saturating_duration_since(due);
        assert!(early < Duration::from_millis(1) && late < Duration::from_millis(15), "{number}: {early:?} {late:?}");
    }
    (pair.at_listener.len() as f64 / f64::from(count), pair)
}

fn lossy(loss: f64) -> Faults {
    Faults { loss, ..Faults::none(Duration::from_millis(30)) }
}

#[rstest]
#[case::none(0.0, 1.0)]
#[case::one_percent(0.01, 0.999_99)]
#[case::five_percent(0.05, 0.999_95)]
#[case::ten_percent(0.10, 0.999_9)]
#[case::twenty_percent(0.20, 0.997)]
fn losses_are_made_good_within_four_round_trips(#[case] loss: f64, #[case] least: f64) {
    let (share, pair) = deliver((lossy(loss), lossy(loss)), Duration::from_millis(240), 100_000, 1);
    let now = pair.now;
    let (sent, received) = (pair.caller.statistics(now).sent, pair.listener.statistics(now).received);
    let again = sent.retransmitted_packets as f64 / sent.packets as f64;
    println!("loss {loss}: delivered {share}, sent again {again:.4}, dropped {}", received.dropped_packets);
    assert!(share >= least, "{share} of {least}");
    // Each loss costs one retransmission, and those that are lost another.
    assert!(again <= loss / (1.0 - loss) * 1.25 + 0.001, "{again} sent again at a loss of {loss}");
    // Both ends' figures against what the line did.
    let truth = pair.up.truth;
    assert_eq!(sent.packets + sent.retransmitted_packets, truth.data);
    let arrived = received.packets + received.duplicate_packets + received.belated_packets;
    assert_eq!(arrived, truth.data - truth.data_lost + truth.duplicated);
    let never_came = u64::from(100_000_u32) - received.packets;
    assert!(received.lost_packets >= never_came);
    assert_eq!(received.dropped_packets + received.messages, 100_000);
    assert!(received.lost_packets as f64 >= 100_000.0 * loss * 0.95, "{} found missing", received.lost_packets);
    assert!(received.lost_packets as f64 <= 100_000.0 * loss * 1.05 + 1.0, "{} found missing", received.lost_packets);
}

#[test]
fn bursts_are_made_good() {
    let up = Faults { burst: (0.001, 60), ..Faults::none(Duration::from_millis(30)) };
    let (share, _) = deliver((up, lossy(0.0)), Duration::from_millis(300), 50_000, 3);
    assert!(share > 0.999_5, "{share}");
}

#[test]
fn duplicates_are_handed_on_once() {
    let up = Faults { duplicate: 0.2, ..Faults::none(Duration::from_millis(30)) };
    let (share, pair) = deliver((up, lossy(0.0)), Duration::from_millis(120), 20_000, 4);
    assert_eq!(share, 1.0);
    assert_eq!(pair.listener.statistics(pair.now).received.duplicate_packets, pair.up.truth.duplicated);
}

#[test]
fn overtaken_packets_are_soon_no_longer_taken_for_lost() {
    let up = Faults { reorder: (0.02, Duration::from_millis(8)), ..Faults::none(Duration::from_millis(30)) };
    let (share, pair) = deliver((up, lossy(0.0)), Duration::from_millis(120), 50_000, 5);
    assert_eq!(share, 1.0);
    let (sent, received) = (pair.caller.statistics(pair.now).sent, pair.listener.statistics(pair.now).received);
    assert!(received.reordered_packets > 900, "{received:?}");
    assert!(sent.retransmitted_packets < 150, "{} sent again without need", sent.retransmitted_packets);
}

/// The way became longer by a constant, which the clock follows; what varies is not seen.
#[test]
fn jitter_does_not_reach_the_application() {
    let up = Faults { jitter: Duration::from_millis(50), ..Faults::none(Duration::from_millis(30)) };
    let config = with_latency(Duration::from_millis(240));
    let mut pair = Pair::new(&Config::default(), &config, (up, lossy(0.02)), 6);
    pair.stream(20_000, INTERVAL, LENGTH);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 20_000);
    let offset = |(number, at)| pair.start + INTERVAL * number + Duration::from_secs(1) - at;
    let offsets: Vec<Duration> =
        pair.at_listener.iter().map(|delivered| offset((number_of(delivered), delivered.at))).collect();
    let steps = offsets.windows(2).filter(|pair| pair[0].abs_diff(pair[1]) > Duration::from_millis(1)).count();
    assert!(steps <= 8, "{steps} packets were off the rhythm");
}

/// What cannot be had in time is given up at both ends, and the rest goes on.
#[test]
fn an_outage_costs_what_was_in_it() {
    let good = Faults::none(Duration::from_millis(30));
    let config = with_latency(Duration::from_millis(240));
    let mut pair = Pair::new(&Config::default(), &config, (good, good), 7);
    pair.stream(1_000, INTERVAL, LENGTH);
    let dead = Faults { loss: 1.0, ..good };
    pair.up.set_faults(dead);
    pair.down.set_faults(dead);
    pair.stream(2_000, INTERVAL, LENGTH);
    pair.up.set_faults(good);
    pair.down.set_faults(good);
    pair.stream(1_000, INTERVAL, LENGTH);
    pair.run_for(Duration::from_secs(2));
    let delivered = pair.at_listener.len();
    // The sender keeps a second; what comes in order is handed on, even if it is late.
    assert!((2_000..=2_600).contains(&delivered), "{delivered}");
    let (sent, received) = (pair.caller.statistics(pair.now).sent, pair.listener.statistics(pair.now).received);
    assert!(sent.dropped_packets > 1_000, "{sent:?}");
    assert_eq!(received.messages + received.dropped_packets, 4_000, "{received:?}");
    let told: u32 = pair.at_listener.iter().map(|delivered| delivered.lost_before).sum();
    assert_eq!(u64::from(told), received.dropped_packets);
}

/// After an outage both ends are in step again, so that the end of the stream is known to have come.
#[rstest]
fn an_outage_leaves_nothing_unacknowledged(#[values(300, 1_000)] latency: u64, #[values(1, 2, 3, 4)] seed: u64) {
    let good = Faults::none(Duration::from_millis(20));
    let config = with_latency(Duration::from_millis(latency));
    let ours = Config { send_latency: config.receive_latency, ..Config::default() };
    let mut pair = Pair::new(&ours, &config, (good, good), seed);
    pair.stream(2_000, INTERVAL, LENGTH);
    let dead = Faults { loss: 1.0, ..good };
    pair.up.set_faults(dead);
    pair.down.set_faults(dead);
    pair.run_for(Duration::from_millis(seed * 7));
    pair.stream(2_200, INTERVAL, LENGTH);
    pair.up.set_faults(good);
    pair.down.set_faults(good);
    pair.stream(2_000, INTERVAL, LENGTH);
    pair.run_for(Duration::from_millis(200));
    assert!(pair.caller.is_flushed(), "{:?}", pair.caller.statistics(pair.now).sent);
}

/// The end of a stream has no later packet that would show its loss.
#[test]
fn the_last_packets_come_too() {
    let good = Faults::none(Duration::from_millis(30));
    let mut pair = Pair::new(&Config::default(), &with_latency(Duration::from_millis(500)), (good, good), 8);
    pair.stream(100, INTERVAL, LENGTH);
    pair.up.set_faults(Faults { loss: 1.0, ..good });
    pair.stream(10, INTERVAL, LENGTH);
    pair.up.set_faults(good);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 110);
    assert!(pair.caller.is_flushed());
}

#[test]
fn large_messages_are_joined_again() {
    let line = lossy(0.05);
    let mut pair = Pair::new(&Config::default(), &with_latency(Duration::from_millis(400)), (line, line), 9);
    pair.stream(500, Duration::from_millis(10), 7_000);
    pair.run_for(Duration::from_secs(1));
    assert_eq!(pair.at_listener.len(), 500);
    for (number, delivered) in (0..).zip(&pair.at_listener) {
        assert_eq!(delivered.payload, numbered(number, 7_000));
    }
}

/// A hole in the middle of a message takes the whole message, and no other.
#[test]
fn a_torn_message_is_given_up_whole() {
    let line = Faults { loss: 0.3, ..Faults::none(Duration::from_millis(60)) };
    let mut pair = Pair::new(&Config::default(), &with_latency(Duration::from_millis(120)), (line, line), 10);
    pair.stream(1_000, Duration::from_millis(10), 4_000);
    pair.run_for(Duration::from_secs(1));
    assert!((100..1_000).contains(&pair.at_listener.len()), "{}", pair.at_listener.len());
    for delivered in &pair.at_listener {
        assert_eq!(delivered.payload, numbered(number_of(delivered), 4_000));
    }
}

#[test]
fn both_directions_work_at_once() {
    let line = lossy(0.02);
    let config = with_latency(Duration::from_millis(240));
    let mut pair = Pair::new(&config, &config, (line, line), 11);
    for number in 0..2_000 {
        pair.caller.send(pair.now, &numbered(number, LENGTH)).unwrap();
        pair.listener.send(pair.now, &numbered(number, 700)).unwrap();
        pair.run_for(INTERVAL);
    }
    pair.run_for(Duration::from_secs(1));
    assert!(pair.at_listener.len() >= 1_999 && pair.at_caller.len() >= 1_999);
}

/// A line that is too thin: the sender's buffer stays bounded, and what is late is given up.
#[test]
fn pacing_holds_and_the_buffer_is_bounded() {
    let good = Faults::none(Duration::from_millis(10));
    let slow = Config { bandwidth: crate::Bandwidth::Max(125_000), ..Config::default() };
    let mut pair = Pair::new(&slow, &with_latency(Duration::from_millis(120)), (good, good), 12);
    pair.stream(5_000, INTERVAL, LENGTH);
    let statistics = pair.caller.statistics(pair.now).sent;
    let rate = statistics.bytes as f64 / (INTERVAL.as_secs_f64() * 5_000.0);
    assert!((100_000.0..=130_000.0).contains(&rate), "{rate} bytes per second");
    assert!(statistics.dropped_packets > 3_000, "{statistics:?}");
    assert!(statistics.buffered <= Duration::from_millis(1_100), "{statistics:?}");
}

/// Satellite lines ask for seconds: 20 Mbit/s with a latency of six hold more than 11000 packets.
/// They used to be more than the window had room for, and the stream crawled.
#[test]
fn long_latencies_have_room() {
    let latency = Duration::from_secs(6);
    let line = Faults { loss: 0.01, ..Faults::none(Duration::from_millis(300)) };
    let mut pair = Pair::new(&Config::default(), &with_latency(latency), (line, line), 14);
    pair.stream(24_000, Duration::from_micros(526), LENGTH);
    let held = pair.listener.statistics(pair.now).received.buffered_packets;
    assert!((10_500..12_000).contains(&held), "{held}");
    pair.run_for(latency * 2);
    assert_eq!(pair.at_listener.len(), 24_000);
}

/// A show of 6 Mbit/s whose keyframes are given at once, through a line of 20 Mbit/s with a queue of a
/// tenth of a second. Without a pace each keyframe overran the queue.
#[rstest]
#[case::by_default(Config::default().bandwidth, 0)]
#[case::unpaced(crate::Bandwidth::Max(125_000_000), 100)]
fn keyframes_do_not_overrun_the_line(#[case] bandwidth: crate::Bandwidth, #[case] least_lost: u64) {
    let up = Faults { bottleneck: Some((2_500_000, 256_000)), ..Faults::none(Duration::from_millis(20)) };
    let ours = Config { bandwidth, ..Config::default() };
    let mut pair = Pair::new(&ours, &with_latency(Duration::from_millis(240)), (up, lossy(0.0)), 13);
    let mut number = 0;
    for picture in 0..300 {
        for _ in 0..if picture % 60 == 0 { 220 } else { 16 } {
            pair.caller.send(pair.now, &numbered(number, LENGTH)).unwrap();
            number += 1;
        }
        pair.run_for(Duration::from_millis(33));
    }
    pair.run_for(Duration::from_secs(1));
    let lost = pair.up.truth.data_lost;
    assert!(if least_lost == 0 { lost == 0 } else { lost >= least_lost }, "{lost} lost");
    if least_lost == 0 {
        assert_eq!(pair.at_listener.len(), number as usize);
        assert_eq!(pair.listener.statistics(pair.now).received.dropped_packets, 0);
    }
}
