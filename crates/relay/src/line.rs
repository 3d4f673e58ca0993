//! What can be said of an SRT line: one that a publisher comes in by, or one to a destination.

use std::collections::VecDeque;
use std::time::{Duration, Instant};

use waverant_srt::Statistics;

/// Shares are of this long.
const WINDOW: Duration = Duration::from_secs(10);

/// So much is kept to be drawn.
const HISTORY: Duration = Duration::from_secs(120);

/// Round trips that a latency is to have, however good the line is.
const MIN_ROUNDS: f64 = 4.0;

/// The share of packets that may be lost for good when a latency is advised.
const TOLERATED_LOSS: f64 = 1e-5;

/// The share of packets that do not come at all, beyond which the line is too thin.
const MISSING_FOR_GOOD: f64 = 0.002;

/// The share of packets that are lost at first, beyond which a line is told though all is made good.
const MUCH: f64 = 0.05;

/// Latencies are advised in steps.
const STEP_MS: u128 = 20;

/// The figures of a line at one moment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LineQuality {
    /// Round trip time.
    pub rtt: Duration,
    /// The share of packets that were missing at first, over the last ten seconds: 0 to 1.
    pub loss_share: f64,
    /// The share of packets that were sent again, of all that came.
    pub retransmit_share: f64,
    /// What waits for its time, or to be acknowledged.
    pub buffered: Duration,
    /// What was agreed on to wait.
    pub latency: Duration,
    /// Packets that did not come in time, since the connection began.
    pub dropped_packets: u64,
    /// Packets that could not be decrypted.
    pub undecrypted_packets: u64,
}

/// Of which kind a fault of a line is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineFaultKind {
    /// Nothing can be decrypted.
    Locked,
    /// The latency asks for more than the buffer holds.
    LatencyLarge,
    /// Packets do not come in time, or very many have to be sent again.
    Loses,
    /// The latency is too short for what is lost.
    LatencySmall,
}

/// What is wrong with a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineFault {
    /// Of which kind.
    pub kind: LineFaultKind,
    /// What was found.
    pub cause: String,
    /// What to change.
    pub advice: String,
    /// The latency that would help, where one does.
    pub latency: Option<Duration>,
}

impl LineFault {
    /// All of it in one line.
    pub fn text(&self) -> String {
        format!("{}; {}", self.cause, self.advice)
    }
}

/// What is drawn of a moment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LinePoint {
    /// How long ago.
    pub age: Duration,
    /// Round trip time.
    pub rtt: Duration,
    /// The share of packets that were missing at first, since the point before.
    pub loss_share: f64,
    /// Packets that did not come in time, since the point before.
    pub dropped_packets: u64,
}

/// The figures of one direction, counted since the connection began.
#[derive(Clone, Copy, Debug)]
struct Sample {
    rtt: Duration,
    latency: Duration,
    buffered: Duration,
    packets: u64,
    lost: u64,
    again: u64,
    dropped: u64,
    undecrypted: u64,
    messages: u64,
    /// Packets that wait for their time, and that may.
    waiting: (u32, u32),
}

impl Sample {
    fn of_received(statistics: &Statistics) -> Self {
        let received = &statistics.received;
        Self {
            rtt: statistics.rtt,
            latency: statistics.receive_latency,
            buffered: received.buffered,
            packets: received.packets,
            lost: received.lost_packets,
            again: received.retransmitted_packets,
            dropped: received.dropped_packets,
            undecrypted: received.undecrypted_packets,
            messages: received.messages,
            waiting: (received.buffered_packets, received.window_packets),
        }
    }

    fn of_sent(statistics: &Statistics) -> Self {
        let sent = &statistics.sent;
        Self {
            rtt: statistics.rtt,
            latency: statistics.send_latency,
            buffered: sent.buffered,
            packets: sent.packets + sent.retransmitted_packets,
            lost: sent.reported_lost_packets,
            again: sent.retransmitted_packets,
            dropped: sent.dropped_packets,
            undecrypted: 0,
            messages: sent.packets,
            waiting: (0, 0),
        }
    }
}

impl Sample {
    /// The latency that the buffer has room for, if it is full. The other end then sends no faster
    /// than room is made, and the stream falls behind.
    fn latency_that_fits(&self) -> Option<Duration> {
        let (waiting, window) = self.waiting;
        let is_full = window > 0 && u64::from(waiting) * 20 >= u64::from(window) * 19;
        let per_packet = self.buffered.checked_div(waiting).filter(|_| is_full)?;
        let millis = (per_packet * window).mul_f64(0.8).as_millis() / STEP_MS * STEP_MS;
        Some(Duration::from_millis(u64::try_from(millis).unwrap_or(u64::MAX)))
    }
}

/// Follows the figures of one connection, in the direction of its media.
#[derive(Clone, Debug, Default)]
pub struct LineMeter {
    /// The oldest first.
    samples: VecDeque<(Instant, Sample)>,
}

impl LineMeter {
    /// Takes figures of what comes in. Those of another connection must go to another meter.
    pub fn record_received(&mut self, now: Instant, statistics: &Statistics) {
        self.record(now, Sample::of_received(statistics));
    }

    /// Takes figures of what goes out. Those of another connection must go to another meter.
    pub fn record_sent(&mut self, now: Instant, statistics: &Statistics) {
        self.record(now, Sample::of_sent(statistics));
    }

    fn record(&mut self, now: Instant, sample: Sample) {
        self.samples.push_back((now, sample));
        while self.samples.front().is_some_and(|(at, _)| now.saturating_duration_since(*at) > HISTORY) {
            self.samples.pop_front();
        }
    }

    /// The figures of the last seconds; None before there are any.
    pub fn quality(&self) -> Option<LineQuality> {
        let ((_, newest), before) = (self.samples.back()?, self.before_window()?);
        let came = newest.packets.saturating_sub(before.packets);
        let lost = newest.lost.saturating_sub(before.lost);
        let again = newest.again.saturating_sub(before.again);
        let dropped = newest.dropped.saturating_sub(before.dropped);
        Some(LineQuality {
            rtt: newest.rtt,
            loss_share: share(lost, came + dropped),
            retransmit_share: share(again, came),
            buffered: newest.buffered,
            latency: newest.latency,
            dropped_packets: newest.dropped,
            undecrypted_packets: newest.undecrypted,
        })
    }

    /// What was, to be drawn; the oldest first.
    pub fn points(&self, now: Instant) -> Vec<LinePoint> {
        let pairs = self.samples.iter().zip(self.samples.iter().skip(1));
        let point = |((_, before), (at, after)): (&(Instant, Sample), &(Instant, Sample))| {
            let dropped_packets = after.dropped.saturating_sub(before.dropped);
            let came = after.packets.saturating_sub(before.packets);
            let lost = after.lost.saturating_sub(before.lost);
            LinePoint {
                age: now.saturating_duration_since(*at),
                rtt: after.rtt,
                loss_share: share(lost, came + dropped_packets),
                dropped_packets,
            }
        };
        pairs.map(point).collect()
    }

    /// What is wrong with the line.
    pub fn fault(&self) -> Option<LineFault> {
        let (quality, (_, newest)) = (self.quality()?, self.samples.back()?);
        let (rtt, latency) = (quality.rtt.as_millis(), quality.latency.as_millis());
        let lost = quality.loss_share * 100.0;
        let figures = format!("round trip {rtt} ms, {lost:.1} % lost, latency {latency} ms");
        let wanted = advised_latency(quality.rtt, quality.loss_share);
        let advised = wanted.as_millis();
        let is_short = latency < advised;
        let fault = |kind, cause: String, advice: String| {
            let helps = is_short && matches!(kind, LineFaultKind::Loses | LineFaultKind::LatencySmall);
            Some(LineFault { kind, cause, advice, latency: helps.then_some(wanted) })
        };
        if quality.undecrypted_packets > 0 && newest.messages == 0 {
            let cause = "the SRT stream cannot be decrypted".to_owned();
            return fault(LineFaultKind::Locked, cause, "set the passphrase anew at both ends".to_owned());
        }
        if let Some(fits) = newest.latency_that_fits() {
            let cause = format!(
                "the latency of the SRT line asks for more packets than the buffer has room for ({} at this bitrate)",
                newest.waiting.1,
            );
            let (kind, advice) = (LineFaultKind::LatencyLarge, format!("set it to {} ms", fits.as_millis()));
            return Some(LineFault { kind, cause, advice, latency: Some(fits) });
        }
        let dropped = newest.dropped - self.before_window()?.dropped;
        if dropped > 0 {
            let packets = if dropped == 1 { "packet" } else { "packets" };
            let cause =
                format!("{dropped} {packets} of the SRT line did not come in time in the last 10 s ({figures})");
            return fault(LineFaultKind::Loses, cause, self.advice_for(dropped, latency, advised)?);
        }
        // Of a few packets at the beginning a share says nothing.
        if !self.has_whole_window() {
            return None;
        }
        if quality.loss_share > 0.001 && latency < advised {
            let cause = format!("the latency of the SRT line leaves little room ({figures})");
            return fault(LineFaultKind::LatencySmall, cause, format!("set it to {advised} ms"));
        }
        let advice = "all was made good so far; a line that loses so much may soon carry less: lower the bitrate in \
                      the encoder, or take another line";
        let cause = || format!("the SRT line loses much ({figures})");
        (quality.loss_share > MUCH).then(|| fault(LineFaultKind::Loses, cause(), advice.to_owned())).flatten()
    }

    fn advice_for(&self, dropped: u64, latency: u128, advised: u128) -> Option<String> {
        let came = self.samples.back()?.1.packets.saturating_sub(self.before_window()?.packets);
        Some(if latency < advised {
            format!("set the latency to {advised} ms")
        } else if share(dropped, came + dropped) > MISSING_FOR_GOOD {
            "the line does not carry the bitrate: lower it in the encoder".to_owned()
        } else {
            "the latency is enough for what the line loses, so something stood still for a moment: the line, or one \
             of the machines"
                .to_owned()
        })
    }

    fn has_whole_window(&self) -> bool {
        let (oldest, newest) = (self.samples.front(), self.samples.back());
        oldest.zip(newest).is_some_and(|((oldest, _), (newest, _))| newest.saturating_duration_since(*oldest) >= WINDOW)
    }

    /// The newest sample from before the window, or the oldest there is.
    fn before_window(&self) -> Option<&Sample> {
        let (now, _) = self.samples.back()?;
        let is_before = |(at, _): &&(Instant, Sample)| now.saturating_duration_since(*at) >= WINDOW;
        let before = self.samples.iter().rev().find(is_before).or_else(|| self.samples.front());
        before.map(|(_, sample)| sample)
    }
}

/// The latency that makes good the losses of a line: at least four round trips, and as many as
/// it takes until a packet that is sent again and again has come nearly surely.
pub fn advised_latency(rtt: Duration, loss_share: f64) -> Duration {
    let loss = loss_share.clamp(0.0, 0.5);
    let rounds = if loss > 0.0 { (TOLERATED_LOSS.ln() / loss.ln() - 1e-9).ceil() + 1.0 } else { 0.0 };
    let wanted = rtt.mul_f64(rounds.max(MIN_ROUNDS)).as_millis();
    let millis = wanted.div_ceil(STEP_MS).max(1) * STEP_MS;
    Duration::from_millis(u64::try_from(millis).unwrap_or(u64::MAX))
}

fn share(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { part as f64 / whole as f64 }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn start() -> Instant {
        Instant::now()
    }

    /// A line on which every second packets come, are lost and are dropped at these rates.
    fn run(seconds: u32, (rtt, latency): (u64, u64), (lost, dropped): (u64, u64)) -> LineMeter {
        let (mut meter, begin) = (LineMeter::default(), start());
        for second in 0..=u64::from(seconds) {
            let mut statistics = Statistics {
                rtt: Duration::from_millis(rtt),
                receive_latency: Duration::from_millis(latency),
                ..Statistics::default()
            };
            let received = &mut statistics.received;
            received.packets = second * (1000 - dropped);
            received.messages = received.packets;
            received.lost_packets = second * lost;
            received.retransmitted_packets = second * lost;
            received.dropped_packets = second * dropped;
            meter.record_received(begin + Duration::from_secs(second), &statistics);
        }
        meter
    }

    #[test]
    fn a_line_to_a_destination_is_judged_by_what_was_sent() {
        let (mut meter, begin) = (LineMeter::default(), start());
        for second in 0..=10 {
            let mut statistics = Statistics { rtt: Duration::from_millis(100), ..Statistics::default() };
            statistics.send_latency = Duration::from_millis(200);
            let sent = &mut statistics.sent;
            (sent.packets, sent.retransmitted_packets) = (second * 900, second * 100);
            (sent.reported_lost_packets, sent.dropped_packets) = (second * 100, second * 2);
            sent.buffered = Duration::from_millis(120);
            meter.record_sent(begin + Duration::from_secs(second), &statistics);
        }
        let quality = meter.quality().unwrap();
        assert!((quality.retransmit_share - 0.1).abs() < 1e-9 && (quality.loss_share - 0.1).abs() < 1e-3);
        assert_eq!((quality.dropped_packets, quality.buffered), (20, Duration::from_millis(120)));
        assert!(meter.fault().is_some_and(|fault| {
            let text = fault.text();
            text.contains("20 packets") && text.contains("600 ms")
        }));
    }

    #[test]
    fn a_latency_beyond_the_buffer_is_told() {
        let found = |waiting: u32, buffered: u64| {
            let mut statistics = Statistics { receive_latency: Duration::from_secs(30), ..Statistics::default() };
            let received = &mut statistics.received;
            (received.buffered_packets, received.window_packets) = (waiting, 32_768);
            received.buffered = Duration::from_millis(buffered);
            let mut meter = LineMeter::default();
            meter.record_received(start(), &statistics);
            meter.fault().map(|fault| fault.text())
        };
        // 1900 packets a second: 17 s fill it.
        assert_eq!(found(30_000, 15_800), None);
        assert!(
            found(32_700, 17_200).is_some_and(|text| text.contains("set it to 13780 ms")),
            "{:?}",
            found(32_700, 17_200)
        );
    }

    #[test]
    fn a_burst_at_the_beginning_is_not_much() {
        let told = |seconds| run(seconds, (50, 1_000), (80, 0)).fault().is_some();
        assert!(!told(1) && !told(9) && told(10));
        // What is lost for good is told at once.
        assert!(run(1, (50, 1_000), (80, 1)).fault().is_some());
    }

    #[test]
    fn shares_are_of_the_last_seconds() {
        let meter = run(30, (60, 500), (50, 0));
        let quality = meter.quality().unwrap();
        assert!((quality.loss_share - 0.05).abs() < 1e-9 && (quality.retransmit_share - 0.05).abs() < 1e-9);
        let points = meter.points(start() + Duration::from_secs(30));
        assert_eq!(points.len(), 30);
        assert!(points.iter().all(|point| (point.loss_share - 0.05).abs() < 1e-9));
        assert_eq!(LineMeter::default().quality(), None);
        assert_eq!(run(600, (60, 500), (0, 0)).samples.len(), 121);
    }

    #[rstest]
    #[case::good((60, 500), (1, 0), None)]
    #[case::too_late((100, 200), (50, 3), Some("set the latency to 500 ms"))]
    #[case::not_carried((60, 2_000), (300, 200), Some("lower it in the encoder"))]
    #[case::a_stall((60, 2_000), (20, 1), Some("stood still for a moment"))]
    #[case::little_room((200, 300), (20, 0), Some("leaves little room"))]
    #[case::much((50, 1_000), (80, 0), Some("loses much"))]
    #[case::some((50, 1_000), (40, 0), None)]
    fn findings_say_what_to_set(#[case] times: (u64, u64), #[case] rates: (u64, u64), #[case] expected: Option<&str>) {
        let found = run(20, times, rates).fault().map(|fault| fault.text());
        match expected {
            Some(part) => assert!(found.as_ref().is_some_and(|text| text.contains(part)), "{found:?}"),
            None => assert_eq!(found, None),
        }
    }

    #[rstest]
    #[case(50, 0.0, 200)]
    #[case(50, 0.01, 200)]
    #[case(50, 0.1, 300)]
    #[case(100, 0.2, 900)]
    #[case(0, 0.0, 20)]
    fn latencies_follow_round_trip_and_loss(#[case] rtt: u64, #[case] loss: f64, #[case] expected: u64) {
        assert_eq!(advised_latency(Duration::from_millis(rtt), loss).as_millis(), u128::from(expected));
    }
}
