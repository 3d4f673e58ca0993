//! Data packets, as they come and go.

use std::time::{Duration, Instant};

use super::arrivals::PROBE_INTERVAL;
use super::control::Control;
use super::receiver::Insertion;
use super::{ACK_INTERVAL, Connection, Keys, timestamp};
use crate::config;
use crate::wire::{DataHeader, KeyFlag};

/// The least time that the sender keeps packets for retransmission (§4.6).
const MIN_SENDER_PATIENCE: Duration = Duration::from_secs(1);

impl Connection {
    pub(super) fn handle_data(&mut self, now: Instant, header: &DataHeader, raw_header: &[u8], payload: &[u8]) {
        if !self.config.takes_data {
            return;
        }
        if payload.len() > self.largest_payload {
            self.statistics.malformed_packets += 1;
            return;
        }
        let received = &mut self.statistics.received;
        received.retransmitted_packets += u64::from(header.retransmitted);
        match self.receiver.judge(header.seq) {
            Insertion::New { .. } => {}
            Insertion::Duplicate => return received.duplicate_packets += 1,
            Insertion::Belated => return received.belated_packets += 1,
            Insertion::NoRoom => return received.overflown_packets += 1,
        }
        // Honest packets are stamped when they are given, so they are due within the latency.
        let due = self.clock.due(self.clock.peek(header.timestamp));
        if due > now + self.receive_latency + config::EARLINESS {
            self.statistics.malformed_packets += 1;
            return;
        }
        if !header.retransmitted {
            self.arrivals.note(now, header.seq.get(), payload.len());
        }
        let length = payload.len();
        let mut payload = self.payloads.keep(payload);
        let is_readable = match &self.keys {
            None => header.key == KeyFlag::Clear,
            Some(keys) => keys.open(header, raw_header, &mut payload),
        };
        received.packets += 1;
        received.bytes += length as u64;
        received.undecrypted_packets += u64::from(!is_readable);
        let peer_time_us = self.clock.unwrap(header.timestamp);
        let payload = is_readable.then_some(payload);
        if let Insertion::New { missing, was_overtaken } = self.receiver.insert(now, header, peer_time_us, payload) {
            received.lost_packets += u64::from(missing);
            received.reordered_packets += u64::from(was_overtaken);
        }
        self.report_losses(now);
        if self.ack.note_packet() {
            self.say(Control::LightAck);
        }
    }

    pub(super) fn write_data(&mut self, now: Instant, out: &mut Vec<u8>) -> Option<()> {
        if self.closed.is_some() || !self.sender.has_departure() || !self.pacing.may_send(now) {
            return None;
        }
        let departure = self.sender.depart(now)?;
        let (seq, packet) = (departure.seq, departure.packet);
        let header = DataHeader {
            seq,
            position: packet.position,
            in_order: false,
            key: self.keys.as_ref().map_or(KeyFlag::Clear, Keys::flag),
            retransmitted: departure.is_again,
            message: packet.message,
            timestamp: timestamp(self.start, packet.given_at),
            destination: self.remote_id,
        };
        header.write(out);
        let payload_start = out.len();
        out.extend_from_slice(&packet.payload);
        let (length, is_again) = (packet.payload.len(), departure.is_again);
        if let Some(keys) = &mut self.keys {
            self.header.clear();
            DataHeader { retransmitted: false, ..header }.write(&mut self.header);
            keys.seal(seq, &self.header, out, payload_start, !is_again);
        }
        self.pacing.note_sent(now, length, seq.get() % PROBE_INTERVAL == 0 && !is_again);
        let sent = &mut self.statistics.sent;
        let (packets, bytes) = if is_again {
            (&mut sent.retransmitted_packets, &mut sent.retransmitted_bytes)
        } else {
            (&mut sent.packets, &mut sent.bytes)
        };
        *packets += 1;
        *bytes += length as u64;
        Some(())
    }

    /// Gives up packets that would come too late (§4.6).
    pub(super) fn drop_too_late(&mut self, now: Instant) {
        if !self.config.drop_too_late {
            return;
        }
        let patience = (self.send_latency * 5 / 4).max(MIN_SENDER_PATIENCE) + 2 * ACK_INTERVAL;
        let Some(limit) = now.checked_sub(patience) else { return };
        if self.sender.oldest().is_none_or(|oldest| oldest >= limit) {
            return;
        }
        if let Some((count, message, first, last)) = self.sender.drop_before(limit) {
            self.statistics.sent.dropped_packets += count;
            self.say(Control::DropRequest { message: message.get(), first, last });
        }
    }
}
