use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use waverant_store::{LegRecord, NewSession, SessionEnd, TakeRecord};

/// Something of a show that happened and is to be kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum Entry {
    SessionBegan(NewSession),
    SessionEnded(SessionEnd),
    Leg(LegRecord),
    Take(TakeRecord),
}

/// Which record an entry is about: a later one about the same record replaces an earlier one that
/// was not written yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum About {
    Begin(u64),
    End(u64),
    Leg(u64, u64),
    Take(u64, u32),
}

impl Entry {
    fn about(&self) -> About {
        match self {
            Self::SessionBegan(session) => About::Begin(session.id),
            Self::SessionEnded(end) => About::End(end.id),
            Self::Leg(leg) => About::Leg(leg.session_id, leg.destination_id),
            Self::Take(take) => About::Take(take.session_id, take.number),
        }
    }
}

/// Where an entry stands in the order, and which of those about the same record it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Ticket {
    place: u64,
    version: u64,
}

/// What was not written yet, in the order in which it first came. It never has more entries than
/// there are records of shows, however long the database is away.
#[derive(Debug, Default)]
pub(super) struct Pending {
    next: u64,
    order: BTreeMap<u64, (u64, Entry)>,
    places: HashMap<About, u64>,
}

impl Pending {
    pub(super) fn add(&mut self, entry: Entry) {
        self.next += 1;
        let (version, about) = (self.next, entry.about());
        let place = *self.places.entry(about).or_insert(version);
        self.order.insert(place, (version, entry));
    }

    pub(super) fn first(&self) -> Option<(Ticket, Entry)> {
        let (place, (version, entry)) = self.order.first_key_value()?;
        Some((Ticket { place: *place, version: *version }, entry.clone()))
    }

    /// What stands behind a ticket was written, or never can be; unless something newer came meanwhile,
    /// it is forgotten.
    pub(super) fn done(&mut self, ticket: Ticket) {
        if self.order.get(&ticket.place).is_some_and(|(version, _)| *version == ticket.version)
            && let Some((_, entry)) = self.order.remove(&ticket.place)
        {
            self.places.remove(&entry.about());
        }
    }

    /// Counts what was added; to see whether something was.
    pub(super) fn version(&self) -> u64 {
        self.next
    }

    pub(super) fn entries(&self) -> Vec<Entry> {
        self.order.values().map(|(_, entry)| entry.clone()).collect()
    }
}

#[cfg(test)]
mod tests {
    use time::OffsetDateTime;

    use super::*;

    fn end(id: u64, reason: &str) -> Entry {
        let (ended_at, reason) = (OffsetDateTime::UNIX_EPOCH, reason.to_owned());
        Entry::SessionEnded(SessionEnd { id, ended_at, reason, loss_count: 0, report: String::new() })
    }

    #[test]
    fn a_newer_entry_takes_the_place_of_the_one_before() {
        let mut pending = Pending::default();
        for entry in [end(1, "a"), end(2, "b"), end(1, "c")] {
            pending.add(entry);
        }
        assert_eq!(pending.entries(), [end(1, "c"), end(2, "b")]);
        let (ticket, entry) = pending.first().unwrap();
        assert_eq!(entry, end(1, "c"));
        pending.add(end(1, "d"));
        pending.done(ticket);
        assert_eq!(pending.first().unwrap().1, end(1, "d"), "what came while the other was written stays");
        for _ in 0..2 {
            let (ticket, _) = pending.first().unwrap();
            pending.done(ticket);
        }
        assert!(pending.order.is_empty() && pending.places.is_empty());
    }

    #[test]
    fn days_without_a_database_cost_no_more_than_the_shows() {
        let mut pending = Pending::default();
        for number in 0..1_000_000 {
            pending.add(end(number % 10, "still away"));
        }
        assert_eq!(pending.entries().len(), 10);
    }
}
