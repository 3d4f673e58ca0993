use std::collections::{BTreeMap, HashMap};

use waverant_relay::ShowRecord;

/// Which record a record is about: a later one about the same record replaces an earlier one that
/// was not written yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum About {
    Begin(u64),
    End(u64),
    Leg(u64, u64),
    Take(u64, u32),
}

impl From<&ShowRecord> for About {
    fn from(record: &ShowRecord) -> Self {
        match record {
            ShowRecord::SessionBegan(session) => Self::Begin(session.id),
            ShowRecord::SessionEnded(end) => Self::End(end.id),
            ShowRecord::Leg(leg) => Self::Leg(leg.session_id, leg.destination_id),
            ShowRecord::Take(take) => Self::Take(take.session_id, take.number),
        }
    }
}

/// Where a record stands in the order, and which of those about the same record it is.
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
    order: BTreeMap<u64, (u64, ShowRecord)>,
    places: HashMap<About, u64>,
}

impl Pending {
    pub(super) fn add(&mut self, record: ShowRecord) {
        self.next += 1;
        let (version, about) = (self.next, About::from(&record));
        let place = *self.places.entry(about).or_insert(version);
        self.order.insert(place, (version, record));
    }

    pub(super) fn first(&self) -> Option<(Ticket, ShowRecord)> {
        let (place, (version, record)) = self.order.first_key_value()?;
        Some((Ticket { place: *place, version: *version }, record.clone()))
    }

    /// What stands behind a ticket was written, or never can be; unless something newer came meanwhile,
    /// it is forgotten.
    pub(super) fn done(&mut self, ticket: Ticket) {
        if self.order.get(&ticket.place).is_some_and(|(version, _)| *version == ticket.version)
            && let Some((_, record)) = self.order.remove(&ticket.place)
        {
            self.places.remove(&About::from(&record));
        }
    }

    /// Counts what was added; to see whether something was.
    pub(super) fn version(&self) -> u64 {
        self.next
    }

    pub(super) fn entries(&self) -> Vec<ShowRecord> {
        self.order.values().map(|(_, record)| record.clone()).collect()
    }
}

#[cfg(test)]
mod tests {
    use time::OffsetDateTime;
    use waverant_relay::SessionEnd;

    use super::*;

    fn end(id: u64, reason: &str) -> ShowRecord {
        let (ended_at, reason) = (OffsetDateTime::UNIX_EPOCH, reason.to_owned());
        ShowRecord::SessionEnded(SessionEnd { id, ended_at, reason, loss_count: 0, report: String::new() })
    }

    #[test]
    fn a_newer_entry_takes_the_place_of_the_one_before() {
        let mut pending = Pending::default();
        for record in [end(1, "a"), end(2, "b"), end(1, "c")] {
            pending.add(record);
        }
        assert_eq!(pending.entries(), [end(1, "c"), end(2, "b")]);
        let (ticket, record) = pending.first().unwrap();
        assert_eq!(record, end(1, "c"));
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
