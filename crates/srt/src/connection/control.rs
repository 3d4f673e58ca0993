use std::collections::VecDeque;
use std::time::{Duration, Instant};

use bytes::Bytes;

use super::{ACK_INTERVAL, CloseReason, Connection, LIGHT_ACK_PACKETS, MIN_REPORT_INTERVAL, write_control_packet};
use crate::config::largest_payload;
use crate::number::SeqNumber;
use crate::wire::{
    Acknowledgement, ControlHeader, ControlKind, PathReport, RateReport, parse_drop_request, parse_losses, word_at,
    write_losses,
};

/// Acknowledgements whose answer is waited for.
const MAX_UNANSWERED: usize = 256;

/// A packet is not sent twice within this time before the round trip is known.
const UNMEASURED_FLIGHT: Duration = Duration::from_millis(20);

/// Extension types that come in mid-stream (§3.2.1.1, table 5).
const KEY_REQUEST: u16 = 3;
const KEY_RESPONSE: u16 = 4;

/// A control packet that waits to be sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Control {
    /// Our answer to the handshake.
    Response,
    KeepAlive,
    Ack,
    LightAck,
    AckAck(u32),
    Nak(Vec<(SeqNumber, SeqNumber)>),
    DropRequest {
        message: u32,
        first: SeqNumber,
        last: SeqNumber,
    },
    KeyRequest(Bytes),
    KeyResponse(Bytes),
    Shutdown,
}

/// What was acknowledged, and what the peer knows of it.
#[derive(Debug)]
pub(super) struct AckState {
    number: u32,
    last_sent: SeqNumber,
    last_sent_at: Instant,
    last_confirmed: SeqNumber,
    unanswered: VecDeque<(u32, SeqNumber, Instant)>,
    packets_since: u32,
}

impl AckState {
    pub(super) fn new(first: SeqNumber, now: Instant) -> Self {
        Self {
            number: 0,
            last_sent: first,
            last_sent_at: now,
            last_confirmed: first,
            unanswered: VecDeque::new(),
            packets_since: 0,
        }
    }

    /// When an acknowledgement is due. One that was not answered is sent again after `patience`.
    pub(super) fn next_at(&self, expected: SeqNumber, patience: Duration) -> Option<Instant> {
        if expected != self.last_sent {
            return Some(self.last_sent_at + ACK_INTERVAL);
        }
        (expected != self.last_confirmed).then(|| self.last_sent_at + patience.max(ACK_INTERVAL))
    }

    /// True if a light acknowledgement is due.
    pub(super) fn note_packet(&mut self) -> bool {
        self.packets_since += 1;
        let is_due = self.packets_since >= LIGHT_ACK_PACKETS;
        if is_due {
            self.packets_since = 0;
        }
        is_due
    }

    fn note_sent(&mut self, now: Instant, expected: SeqNumber) -> u32 {
        self.number = self.number.wrapping_add(1);
        (self.last_sent, self.last_sent_at, self.packets_since) = (expected, now, 0);
        if self.unanswered.len() == MAX_UNANSWERED {
            self.unanswered.pop_front();
        }
        self.unanswered.push_back((self.number, expected, now));
        self.number
    }

    /// When the acknowledgement with this number was sent. Older ones need no answer any more.
    fn note_answered(&mut self, number: u32) -> Option<Instant> {
        let place = self.unanswered.iter().position(|(sent, _, _)| *sent == number)?;
        let (_, expected, sent_at) = self.unanswered.drain(..=place).next_back()?;
        self.last_confirmed = expected;
        Some(sent_at)
    }
}

impl Connection {
    pub(super) fn handle_control(&mut self, now: Instant, header: &ControlHeader, body: &[u8]) {
        match header.kind {
            ControlKind::Handshake => self.repeat_response(),
            ControlKind::Ack => match Acknowledgement::parse(body) {
                Some(acknowledgement) => self.handle_ack(now, header.info, &acknowledgement),
                None => self.statistics.malformed_packets += 1,
            },
            ControlKind::Nak => self.handle_losses(now, body),
            ControlKind::AckAck => {
                if let Some(sent_at) = self.ack.note_answered(header.info) {
                    self.round_trip.sample(now.saturating_duration_since(sent_at));
                    if !std::mem::replace(&mut self.has_own_round_trip, true) {
                        self.receiver.report_by(now + self.report_interval());
                    }
                    self.clock.sample(now, header.timestamp);
                }
            }
            ControlKind::DropRequest => match parse_drop_request(body) {
                Some((first, last)) => {
                    let dropped = self.receiver.give_up(first, last);
                    self.statistics.received.dropped_packets += u64::from(dropped);
                }
                None => self.statistics.malformed_packets += 1,
            },
            ControlKind::Shutdown => self.closed = Some(CloseReason::Shutdown),
            ControlKind::Extension(KEY_REQUEST) => self.handle_key_request(body),
            ControlKind::Extension(KEY_RESPONSE) => self.handle_key_response(body),
            ControlKind::KeepAlive | ControlKind::CongestionWarning | ControlKind::PeerError => {}
            ControlKind::Extension(_) | ControlKind::Unknown(_) => self.statistics.malformed_packets += 1,
        }
    }

    fn handle_ack(&mut self, now: Instant, number: u32, ack: &Acknowledgement) {
        let free = ack.path.map(|path| path.free_packets);
        self.sender.acknowledge(ack.next_expected, free);
        let Some(path) = ack.path else { return };
        self.statistics.sent.acknowledgements += 1;
        // An end that receives measures by itself.
        if !self.has_own_round_trip {
            self.round_trip.adopt(path.rtt_us, path.rtt_variance_us);
        }
        if let Some(rates) = ack.rates {
            self.statistics.sent.peer_packets_per_second = rates.packets_per_second;
            self.statistics.sent.capacity_packets_per_second = rates.capacity_packets_per_second;
        }
        self.say(Control::AckAck(number));
        self.announce_keys(now);
    }

    fn handle_losses(&mut self, now: Instant, body: &[u8]) {
        self.statistics.sent.loss_reports += 1;
        // Before the first measure nothing is known of what is on its way.
        let flight = self.round_trip.measured().map_or(UNMEASURED_FLIGHT, |time| time * 17 / 16);
        // No honest report names more packets than are on their way.
        let most = self.statistics.sent.reported_lost_packets + self.sender.in_flight() as u64;
        for range in parse_losses(body) {
            if self.statistics.sent.reported_lost_packets > most {
                break;
            }
            let outcome = self.sender.report_lost(now, range, flight, self.send_latency);
            self.statistics.sent.reported_lost_packets += outcome.reported;
            if let Some((first, last)) = outcome.gone {
                self.say(Control::DropRequest { message: 0, first, last });
            }
        }
    }

    /// Sends a full acknowledgement if one is due.
    pub(super) fn acknowledge(&mut self, now: Instant) {
        let due = self.ack.next_at(self.receiver.next_expected(), self.round_trip.patience());
        if due.is_some_and(|at| at <= now) && !self.control.contains(&Control::Ack) {
            self.say(Control::Ack);
        }
    }

    /// Reports what is missing, at once and again until it comes (§4.8.2).
    pub(super) fn report_losses(&mut self, now: Instant) {
        if self.receiver.next_report().is_none_or(|at| at > now) {
            return;
        }
        let ranges = self.receiver.take_reportable(now, now + self.report_interval());
        if !ranges.is_empty() {
            self.say(Control::Nak(ranges));
        }
    }

    /// The time between two reports of the same loss.
    fn report_interval(&self) -> Duration {
        #[cfg(test)]
        if let Some(interval) = self.first_report_interval.filter(|_| !self.has_own_round_trip) {
            return interval;
        }
        let interval = (self.round_trip.patience() / 2).max(MIN_REPORT_INTERVAL);
        // Just behind the time at which the answer to the last but one comes, not just before.
        let interval = interval + self.round_trip.time() / 16;
        // Without periodic reports the sender repeats by its own clock.
        if self.reports_periodically { interval } else { interval * 8 }
    }

    pub(super) fn write_control(&mut self, now: Instant, control: Control, out: &mut Vec<u8>) {
        let (times, to) = ((self.start, now), self.remote_id);
        match control {
            // Stamped anew each time: the caller sets its clock by the one that comes through.
            Control::Response => write_control_packet((ControlKind::Handshake, 0), times, to, out, |out| {
                self.response.iter().for_each(|response| response.write(out));
            }),
            Control::KeepAlive => write_control_packet((ControlKind::KeepAlive, 0), times, to, out, |_| {}),
            Control::Ack => {
                let (number, body) = self.full_ack(now);
                write_control_packet((ControlKind::Ack, number), times, to, out, |out| body.write(out));
            }
            Control::LightAck => {
                let body =
                    Acknowledgement { next_expected: self.receiver.next_expected(), ..Acknowledgement::default() };
                write_control_packet((ControlKind::Ack, 0), times, to, out, |out| body.write(out));
            }
            Control::AckAck(number) => {
                write_control_packet((ControlKind::AckAck, number), times, to, out, |_| {});
            }
            Control::Nak(ranges) => {
                self.statistics.received.loss_reports += 1;
                let room = largest_payload(self.config.mtu.into());
                let body = |out: &mut Vec<u8>| write_losses(ranges, room, out);
                write_control_packet((ControlKind::Nak, 0), times, to, out, body);
            }
            Control::DropRequest { message, first, last } => {
                write_control_packet((ControlKind::DropRequest, message), times, to, out, |out| {
                    out.extend_from_slice(&first.get().to_be_bytes());
                    out.extend_from_slice(&last.get().to_be_bytes());
                });
            }
            Control::KeyRequest(raw) => {
                let kind = ControlKind::Extension(KEY_REQUEST);
                write_control_packet((kind, 0), times, to, out, |out| out.extend_from_slice(&raw));
            }
            Control::KeyResponse(raw) => {
                let kind = ControlKind::Extension(KEY_RESPONSE);
                write_control_packet((kind, 0), times, to, out, |out| out.extend_from_slice(&raw));
            }
            Control::Shutdown => write_control_packet((ControlKind::Shutdown, 0), times, to, out, |_| {}),
        }
    }

    fn full_ack(&mut self, now: Instant) -> (u32, Acknowledgement) {
        let next_expected = self.receiver.next_expected();
        let free_packets = u32::try_from(self.receiver.free()).unwrap_or(u32::MAX).max(2);
        let (rtt_us, rtt_variance_us) = (self.round_trip.time_us(), self.round_trip.variance_us());
        let rates = RateReport {
            packets_per_second: self.arrivals.packets_per_second(),
            capacity_packets_per_second: self.arrivals.capacity(),
            bytes_per_second: self.arrivals.bytes_per_second(),
        };
        let path = PathReport { rtt_us, rtt_variance_us, free_packets };
        self.statistics.received.acknowledgements += 1;
        let number = self.ack.note_sent(now, next_expected);
        (number, Acknowledgement { next_expected, path: Some(path), rates: Some(rates) })
    }
}

/// True if `body` is what we asked to be confirmed.
pub(super) fn confirms(body: &[u8], asked: &[u8]) -> bool {
    body == asked || word_at(body, 0) == word_at(asked, 0) && body.starts_with(asked)
}
