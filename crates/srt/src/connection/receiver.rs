use std::collections::VecDeque;
use std::time::{Duration, Instant};

use super::delivery_clock::DeliveryClock;
use super::payloads::Payloads;
use crate::config::MAX_MESSAGE;
use crate::number::SeqNumber;
use crate::wire::{DataHeader, Position};

/// Packets in order after which the reorder tolerance shrinks by one.
const CALM: u16 = 50;

/// What is missing is reported after this at the latest, however few packets overtake it.
const LONGEST_PATIENCE: Duration = Duration::from_millis(20);

/// Ranges in one report; more do not fit a packet, and are reported with the next.
const MAX_RANGES: usize = 128;

/// One message of the peer's application.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Message<'a> {
    /// What it holds.
    pub payload: &'a [u8],
    /// Microseconds on the peer's clock at which it was given to the peer.
    pub peer_time_us: i64,
    /// Packets right before it that never came, or could not be decrypted.
    pub lost_before: u32,
}

#[derive(Debug)]
struct Held {
    position: Position,
    peer_time_us: i64,
    payload: Payload,
}

#[derive(Debug)]
enum Payload {
    Clear(Vec<u8>),
    /// Came, and cannot be decrypted.
    Unreadable,
    /// Given up by the sender.
    GivenUp,
}

#[derive(Debug)]
enum Slot {
    Missing {
        /// When it is to be reported (again).
        report_at: Instant,
        /// How many packets may still overtake it before it is reported earlier.
        patience: u16,
    },
    Held(Held),
}

/// What became of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Insertion {
    /// It is of use. The number of packets found missing before it.
    New {
        missing: u32,
        was_overtaken: bool,
    },
    Duplicate,
    Belated,
    NoRoom,
}

/// A message that is complete.
#[derive(Debug)]
pub(super) struct Whole {
    pub(super) payload: Vec<u8>,
    pub(super) peer_time_us: i64,
    pub(super) lost_before: u32,
}

/// What was handed on.
#[derive(Debug, Default)]
pub(super) struct Released {
    pub(super) message: Option<Whole>,
    /// Packets given up because it was time for what came behind them.
    pub(super) dropped: u32,
}

/// Packets that wait for their time, and what is known to be missing among them.
#[derive(Debug)]
pub(super) struct Receiver {
    /// The number of the first slot: what is to be handed on next.
    base: SeqNumber,
    slots: VecDeque<Slot>,
    /// Slots at the front that hold something.
    contiguous: usize,
    missing: usize,
    window: usize,
    drop_too_late: bool,
    tolerance: u16,
    max_tolerance: u16,
    in_order: u16,
    /// What is left of the patience with what was found missing last.
    patience: u16,
    /// When something missing is to be reported, or earlier.
    next_report: Option<Instant>,
    /// Pieces of a message that is not complete.
    pieces: Option<(i64, Vec<u8>)>,
    lost_before: u32,
}

impl Receiver {
    pub(super) fn new(first: SeqNumber, window: u32, drop_too_late: bool, max_tolerance: u16) -> Self {
        Self {
            base: first,
            slots: VecDeque::new(),
            contiguous: 0,
            missing: 0,
            window: usize::try_from(window).unwrap_or(usize::MAX),
            drop_too_late,
            tolerance: 0,
            max_tolerance,
            in_order: 0,
            patience: 0,
            next_report: None,
            pieces: None,
            lost_before: 0,
        }
    }

    /// The first packet that has not come.
    pub(super) fn next_expected(&self) -> SeqNumber {
        self.base.at_place(self.contiguous)
    }

    pub(super) fn held(&self) -> usize {
        self.slots.len() - self.missing
    }

    pub(super) fn window(&self) -> usize {
        self.window
    }

    pub(super) fn free(&self) -> usize {
        self.window.saturating_sub(self.slots.len())
    }

    /// The peer's time of the oldest and of the newest packet held, in microseconds.
    pub(super) fn span(&self) -> (i64, i64) {
        let time = |slot: &Slot| match slot {
            Slot::Held(held) => Some(held.peer_time_us),
            Slot::Missing { .. } => None,
        };
        let first = self.slots.iter().find_map(time).unwrap_or_default();
        (first, self.slots.iter().rev().find_map(time).unwrap_or(first))
    }

    /// True if a packet with this number would be of use.
    pub(super) fn judge(&self, seq: SeqNumber) -> Insertion {
        let Some(place) = seq.place_after(self.base) else { return Insertion::Belated };
        match self.slots.get(place) {
            Some(Slot::Held(_)) => Insertion::Duplicate,
            Some(Slot::Missing { .. }) => Insertion::New { missing: 0, was_overtaken: true },
            None if place >= self.window => Insertion::NoRoom,
            None => Insertion::New { missing: 0, was_overtaken: false },
        }
    }

    /// Takes a packet that [`judge`](Self::judge) found of use. The payload is None if it cannot be decrypted.
    pub(super) fn insert(
        &mut self,
        now: Instant,
        header: &DataHeader,
        peer_time_us: i64,
        payload: Option<Vec<u8>>,
    ) -> Insertion {
        let judgement = self.judge(header.seq);
        let (Insertion::New { was_overtaken, .. }, Some(place)) = (judgement, header.seq.place_after(self.base)) else {
            return judgement;
        };
        let payload = payload.map_or(Payload::Unreadable, Payload::Clear);
        let held = Slot::Held(Held { position: header.position, peer_time_us, payload });
        if was_overtaken {
            self.learn_reordering(place, header.retransmitted);
            self.slots[place] = held;
            self.note_found();
            self.extend_contiguous();
            return Insertion::New { missing: 0, was_overtaken: !header.retransmitted };
        }
        let missing = place - self.slots.len();
        self.pass(now);
        if missing > 0 {
            let patience = self.tolerance;
            let report_at = if patience == 0 { now } else { now + LONGEST_PATIENCE };
            self.slots.extend((0..missing).map(|_| Slot::Missing { report_at, patience }));
            self.missing += missing;
            self.patience = patience;
            self.next_report = Some(self.next_report.map_or(report_at, |at| at.min(report_at)));
        }
        self.slots.push_back(held);
        self.extend_contiguous();
        self.note_in_order(missing == 0);
        Insertion::New { missing: u32::try_from(missing).unwrap_or(u32::MAX), was_overtaken: false }
    }

    /// Ranges that are to be reported now. Each is reported again at `again_at`.
    pub(super) fn take_reportable(&mut self, now: Instant, again_at: Instant) -> Vec<(SeqNumber, SeqNumber)> {
        let mut ranges: Vec<(SeqNumber, SeqNumber)> = Vec::new();
        if self.next_report.is_none_or(|at| at > now) {
            return ranges;
        }
        let mut next_report = None;
        for (place, slot) in self.slots.iter_mut().enumerate().skip(self.contiguous) {
            let Slot::Missing { report_at, patience } = slot else { continue };
            let is_full = ranges.len() == MAX_RANGES;
            if *report_at <= now && !is_full {
                (*report_at, *patience) = (again_at, 0);
                let seq = self.base.at_place(place);
                match ranges.last_mut() {
                    Some((_, last)) if *last + 1 == seq => *last = seq,
                    _ => ranges.push((seq, seq)),
                }
            }
            next_report = Some(next_report.map_or(*report_at, |at: Instant| at.min(*report_at)));
        }
        self.next_report = next_report;
        ranges
    }

    /// Reports what is missing by `at`: the round trip turned out shorter than was assumed.
    pub(super) fn report_by(&mut self, at: Instant) {
        for slot in self.slots.iter_mut().skip(self.contiguous) {
            if let Slot::Missing { report_at, .. } = slot {
                *report_at = at.min(*report_at);
            }
        }
        self.next_report = self.next_report.map(|next| next.min(at));
    }

    /// When the next report of something missing is due; may be too early.
    pub(super) fn next_report(&self) -> Option<Instant> {
        self.next_report
    }

    /// One more packet went past all that is missing; those that were patient long enough are lost.
    fn pass(&mut self, now: Instant) {
        if self.patience == 0 {
            return;
        }
        self.patience -= 1;
        for slot in self.slots.iter_mut().skip(self.contiguous) {
            if let Slot::Missing { report_at, patience } = slot
                && *patience > 0
            {
                *patience -= 1;
                if *patience == 0 {
                    (*report_at, self.next_report) = (now, Some(now));
                }
            }
        }
    }

    fn note_found(&mut self) {
        self.missing -= 1;
        if self.missing == 0 {
            (self.next_report, self.patience) = (None, 0);
        }
    }

    /// The sender will not send these again.
    pub(super) fn give_up(&mut self, first: SeqNumber, last: SeqNumber) -> u32 {
        let start = usize::try_from(first.since(self.base).max(0)).unwrap_or_default();
        let Some(end) = last.place_after(self.base) else { return 0 };
        let mut count = 0;
        for place in start..self.slots.len().min(end.saturating_add(1)) {
            let Some(slot @ Slot::Missing { .. }) = self.slots.get_mut(place) else { continue };
            *slot = Slot::Held(Held { position: Position::Middle, peer_time_us: 0, payload: Payload::GivenUp });
            self.note_found();
            count += 1;
        }
        self.extend_contiguous();
        count
    }

    /// When the next packet is to be handed on, as far as is known.
    pub(super) fn next_due(&self, clock: &DeliveryClock) -> Option<Instant> {
        self.next_time().map(|peer_time_us| clock.due(peer_time_us))
    }

    /// The peer's time of the next packet to be handed on, as far as is known.
    fn next_time(&self) -> Option<i64> {
        let time = |slot: &Slot| match slot {
            Slot::Held(held) if !matches!(held.payload, Payload::GivenUp) => Some(held.peer_time_us),
            _ => None,
        };
        if self.contiguous == 0 && !self.drop_too_late {
            return None;
        }
        // Nearly always it is the first.
        self.slots.front().and_then(time).or_else(|| self.slots.iter().find_map(time))
    }

    /// Hands on the next message if it is time.
    pub(super) fn release(&mut self, now: Instant, clock: &DeliveryClock, payloads: &mut Payloads) -> Released {
        let mut released = Released::default();
        let due_until = clock.due_until(now);
        if self.next_time().is_none_or(|time| time > due_until) {
            return released;
        }
        if self.contiguous == 0 {
            released.dropped = self.drop_missing();
        }
        while let Some(Slot::Held(held)) = self.slots.front() {
            // What is behind a message that was given up has a time of its own.
            let is_due = matches!(held.payload, Payload::GivenUp) || held.peer_time_us <= due_until;
            if !is_due {
                break;
            }
            let Some(Slot::Held(held)) = self.slots.pop_front() else { break };
            self.base = self.base + 1;
            self.contiguous -= 1;
            released.message = self.assemble(held, payloads);
            if released.message.is_some() {
                break;
            }
        }
        released
    }

    /// Joins the packets of a message. One with a hole is given up.
    fn assemble(&mut self, held: Held, payloads: &mut Payloads) -> Option<Whole> {
        let Payload::Clear(payload) = held.payload else {
            self.lost_before += 1;
            self.pieces = None;
            return None;
        };
        let (peer_time_us, payload) = match (held.position, self.pieces.take()) {
            (Position::Solo, _) => (held.peer_time_us, payload),
            (Position::First, _) => {
                self.pieces = Some((held.peer_time_us, payload));
                return None;
            }
            (_, None) => {
                self.lost_before += 1;
                return None;
            }
            (_, Some((_, pieces))) if pieces.len() + payload.len() > MAX_MESSAGE => {
                payloads.give_back(payload);
                self.lost_before += 1;
                return None;
            }
            (position, Some((time, mut pieces))) => {
                pieces.extend_from_slice(&payload);
                payloads.give_back(payload);
                if !position.is_last() {
                    self.pieces = Some((time, pieces));
                    return None;
                }
                (time, pieces)
            }
        };
        Some(Whole { payload, peer_time_us, lost_before: std::mem::take(&mut self.lost_before) })
    }

    /// Gives up what is missing at the front.
    fn drop_missing(&mut self) -> u32 {
        let mut dropped = 0;
        while let Some(Slot::Missing { .. }) = self.slots.front() {
            self.slots.pop_front();
            self.base = self.base + 1;
            self.note_found();
            dropped += 1;
        }
        self.lost_before += dropped;
        self.pieces = None;
        self.contiguous = 0;
        self.extend_contiguous();
        dropped
    }

    fn extend_contiguous(&mut self) {
        while let Some(Slot::Held(_)) = self.slots.get(self.contiguous) {
            self.contiguous += 1;
        }
    }

    /// A packet that was overtaken and not lost tells how much patience is right.
    fn learn_reordering(&mut self, place: usize, retransmitted: bool) {
        if retransmitted {
            return;
        }
        let distance = u16::try_from(self.slots.len() - place).unwrap_or(u16::MAX);
        self.tolerance = self.tolerance.max(distance).min(self.max_tolerance);
        self.in_order = 0;
    }

    fn note_in_order(&mut self, is_in_order: bool) {
        if !is_in_order {
            return;
        }
        self.in_order += 1;
        if self.in_order >= CALM {
            self.in_order = 0;
            self.tolerance = self.tolerance.saturating_sub(1);
        }
    }
}
