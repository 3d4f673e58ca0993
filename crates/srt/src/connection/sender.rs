use std::collections::VecDeque;
use std::time::{Duration, Instant};

use bytes::Bytes;

use crate::number::{MessageNumber, SeqNumber};
use crate::wire::Position;

/// A packet that is not acknowledged yet.
#[derive(Debug)]
pub(super) struct Outgoing {
    pub(super) payload: Bytes,
    pub(super) position: Position,
    pub(super) message: MessageNumber,
    /// When the application gave it.
    pub(super) given_at: Instant,
    /// When it left last, whether for the first time or again.
    sent_at: Option<Instant>,
    was_sent_again: bool,
    is_lost: bool,
}

/// A packet that is to leave now.
#[derive(Debug)]
pub(super) struct Departure<'a> {
    pub(super) seq: SeqNumber,
    pub(super) packet: &'a Outgoing,
    pub(super) is_again: bool,
}

/// What a loss report asked for.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct ReportOutcome {
    /// Packets that it names.
    pub(super) reported: u64,
    /// Packets that are no longer there.
    pub(super) gone: Option<(SeqNumber, SeqNumber)>,
}

/// Packets from the first that is not acknowledged to the last that waits.
#[derive(Debug)]
pub(super) struct Sender {
    /// The number of the first slot.
    base: SeqNumber,
    slots: VecDeque<Outgoing>,
    /// The first slot that was never sent.
    unsent: usize,
    lost: VecDeque<SeqNumber>,
    next_message: MessageNumber,
    capacity: usize,
    /// What the peer has room for, behind what it acknowledged.
    peer_window: usize,
    departed_at: Instant,
}

impl Sender {
    pub(super) fn new(first: SeqNumber, capacity: u32, now: Instant) -> Self {
        let capacity = usize::try_from(capacity).unwrap_or(usize::MAX);
        Self {
            base: first,
            slots: VecDeque::new(),
            unsent: 0,
            lost: VecDeque::new(),
            next_message: MessageNumber::new(1),
            capacity,
            peer_window: capacity,
            departed_at: now,
        }
    }

    #[cfg(test)]
    pub(super) fn set_next_message(&mut self, number: MessageNumber) {
        self.next_message = number;
    }

    /// Takes a message, in pieces of `payload_size`. False if there is no room for it.
    pub(super) fn push(&mut self, now: Instant, message: &Bytes, payload_size: usize) -> bool {
        let pieces = message.len().div_ceil(payload_size).max(1);
        if self.slots.len() + pieces > self.capacity {
            return false;
        }
        for piece in 0..pieces {
            let end = message.len().min((piece + 1) * payload_size);
            let position = match (piece == 0, piece + 1 == pieces) {
                (true, true) => Position::Solo,
                (true, false) => Position::First,
                (false, true) => Position::Last,
                (false, false) => Position::Middle,
            };
            let payload = message.slice(piece * payload_size..end);
            let message = self.next_message;
            self.slots.push_back(Outgoing {
                payload,
                position,
                message,
                given_at: now,
                sent_at: None,
                was_sent_again: false,
                is_lost: false,
            });
        }
        self.next_message = self.next_message.next();
        true
    }

    pub(super) fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    pub(super) fn in_flight(&self) -> usize {
        self.unsent
    }

    pub(super) fn waiting(&self) -> usize {
        self.slots.len() - self.unsent
    }

    /// When the oldest packet was given.
    pub(super) fn oldest(&self) -> Option<Instant> {
        self.slots.front().map(|packet| packet.given_at)
    }

    /// True if a packet could leave now, were it not for the pace.
    pub(super) fn has_departure(&self) -> bool {
        !self.lost.is_empty() || (self.unsent < self.slots.len() && self.unsent < self.peer_window)
    }

    /// The next packet to leave: what is lost goes first.
    pub(super) fn depart(&mut self, now: Instant) -> Option<Departure<'_>> {
        while let Some(seq) = self.lost.pop_front() {
            let Some(place) = seq.place_after(self.base).filter(|place| *place < self.unsent) else { continue };
            let slot = &mut self.slots[place];
            // Acknowledged in between and used anew, or queued twice.
            if std::mem::take(&mut slot.is_lost) {
                (slot.sent_at, slot.was_sent_again) = (Some(now), true);
                return Some(Departure { seq, packet: &self.slots[place], is_again: true });
            }
        }
        if self.unsent >= self.peer_window {
            return None;
        }
        let place = self.unsent;
        let slot = self.slots.get_mut(place)?;
        slot.sent_at = Some(now);
        self.unsent += 1;
        self.departed_at = now;
        Some(Departure { seq: self.base.at_place(place), packet: &self.slots[place], is_again: false })
    }

    /// Everything before `next_expected` has come.
    pub(super) fn acknowledge(&mut self, next_expected: SeqNumber, free: Option<u32>) {
        let Some(count) = next_expected.place_after(self.base).filter(|count| *count <= self.unsent) else { return };
        if count > 0 {
            self.slots.drain(..count);
            self.base = next_expected;
            self.unsent -= count;
        }
        if let Some(free) = free {
            self.peer_window = usize::try_from(free).unwrap_or(usize::MAX);
        }
    }

    /// Queues what the peer misses. The report of a packet that was sent once means that it is lost:
    /// something behind it came. What was sent again less than `flight` ago may still be on its
    /// way, since the report cannot know of that; when time runs out it is sent all the same.
    pub(super) fn report_lost(
        &mut self,
        now: Instant,
        (first, last): (SeqNumber, SeqNumber),
        flight: Duration,
        latency: Duration,
    ) -> ReportOutcome {
        let mut outcome = ReportOutcome::default();
        let (from, to) = (first.since(self.base), last.since(self.base));
        if from < 0 {
            let end = if to < 0 { last } else { SeqNumber::new(self.base.get().wrapping_sub(1)) };
            outcome.gone = Some((first, end));
        }
        let (Ok(start), Ok(end)) = (usize::try_from(from.max(0)), usize::try_from(to)) else { return outcome };
        for place in start..self.unsent.min(end.saturating_add(1)) {
            outcome.reported += 1;
            let slot = &mut self.slots[place];
            let is_on_its_way =
                slot.was_sent_again && slot.sent_at.is_some_and(|sent| now.saturating_duration_since(sent) < flight);
            let is_last_chance = now + flight * 3 / 2 >= slot.given_at + latency;
            if !slot.is_lost && (!is_on_its_way || is_last_chance) {
                slot.is_lost = true;
                self.lost.push_back(self.base.at_place(place));
            }
        }
        outcome
    }

    /// When what was sent last counts as lost although nobody says so: there is no later packet
    /// that would show it.
    pub(super) fn silence_ends(&self, patience: Duration) -> Option<Instant> {
        (self.unsent > 0 && self.lost.is_empty()).then(|| self.departed_at + patience)
    }

    /// When the first packet that is not acknowledged counts as lost, whatever was reported: it left
    /// longer than `patience` ago, and acknowledgements stop before it.
    pub(super) fn first_is_overdue_at(&self, patience: Duration) -> Option<Instant> {
        let first = self.slots.front().filter(|first| self.unsent > 0 && !first.is_lost)?;
        first.sent_at.map(|at| at + patience)
    }

    /// Queues the first packet that is not acknowledged.
    pub(super) fn repeat_first(&mut self) {
        if let Some(first) = self.slots.front_mut() {
            first.is_lost = true;
            self.lost.push_back(self.base);
        }
    }

    /// Queues the last packet, so that the peer sees what it misses; or, for a peer that reports
    /// a loss only once, everything that was sent longer than `patience` ago.
    pub(super) fn repeat_last(&mut self, now: Instant, patience: Duration, everything: bool) {
        self.departed_at = now;
        let first = if everything { 0 } else { self.unsent.saturating_sub(1) };
        for place in first..self.unsent {
            let slot = &mut self.slots[place];
            let is_old = slot.sent_at.is_some_and(|sent| now.saturating_duration_since(sent) >= patience);
            if is_old && !slot.is_lost {
                slot.is_lost = true;
                self.lost.push_back(self.base.at_place(place));
            }
        }
    }

    /// Drops packets that were given before `limit`; whole messages only. Returns how many, and
    /// the last of them.
    pub(super) fn drop_before(&mut self, limit: Instant) -> Option<(u64, MessageNumber, SeqNumber, SeqNumber)> {
        let count = self.slots.iter().take_while(|packet| packet.given_at < limit).count();
        let message = self.slots.get(count.checked_sub(1)?)?.message;
        self.slots.drain(..count);
        let first = self.base;
        self.base = first.at_place(count);
        self.unsent = self.unsent.saturating_sub(count);
        let last = SeqNumber::new(self.base.get().wrapping_sub(1));
        Some((count as u64, message, first, last))
    }
}
