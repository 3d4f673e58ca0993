use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use waverant_relay::{Act, Announcement, AwayGroup, KeyUse, ShowRecord};

/// Acts that wait. People do not do more while the database is away; more are only counted.
const MOST_ACTS: usize = 10_000;

/// What others are to be told and waits; more is only counted.
const MOST_ANNOUNCEMENTS: usize = 10_000;

/// What is to be kept.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub(super) enum Entry {
    /// Something of a show.
    Show(ShowRecord),
    /// What somebody did.
    Act(Box<Act>),
    /// That a key was used; the last time counts.
    KeyUse(KeyUse),
    /// What others are to be told.
    Announcement(Box<Announcement>),
    /// Who was turned away before a stop, grouped.
    TurnedAway(Vec<AwayGroup>),
}

/// Which record a record is about: a later one about the same record replaces an earlier one that
/// was not written yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum About {
    Begin(u64),
    End(u64),
    Leg(u64, u64),
    Take(u64, u32),
    KeyUse(u64),
    TurnedAway,
}

impl Entry {
    /// The record that a later entry may be about too; each act is one of its own, and what others are told.
    fn about(&self) -> Option<About> {
        match self {
            Self::Show(record) => Some(record.into()),
            Self::KeyUse(used) => Some(About::KeyUse(used.key_id)),
            Self::TurnedAway(_) => Some(About::TurnedAway),
            Self::Act(_) | Self::Announcement(_) => None,
        }
    }
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
    /// Rises with what is added.
    pub(super) version: u64,
}

/// What was not written yet, in the order in which it first came. It never has more entries than
/// there are records of shows, and some acts, however long the database is away.
#[derive(Debug, Default)]
pub(super) struct Pending {
    next: u64,
    order: BTreeMap<u64, (u64, Entry)>,
    places: HashMap<About, u64>,
    acts: usize,
    lost_acts: u64,
    announcements: usize,
    lost_announcements: u64,
}

impl Pending {
    /// Nothing yet. What is added counts from `next`, which is larger than what an earlier run counted to.
    pub(super) fn new(next: u64) -> Self {
        Self { next, ..Self::default() }
    }

    pub(super) fn add(&mut self, record: ShowRecord) {
        self.put(About::from(&record), Entry::Show(record));
    }

    pub(super) fn add_key_use(&mut self, used: KeyUse) {
        self.put(About::KeyUse(used.key_id), Entry::KeyUse(used));
    }

    pub(super) fn add_turned_away(&mut self, groups: Vec<AwayGroup>) {
        self.put(About::TurnedAway, Entry::TurnedAway(groups));
    }

    fn put(&mut self, about: About, entry: Entry) {
        self.next += 1;
        let place = *self.places.entry(about).or_insert(self.next);
        self.order.insert(place, (self.next, entry));
    }

    /// Adds an act, if there is room; else says how many there were that had none.
    pub(super) fn add_act(&mut self, act: Act) -> Result<(), u64> {
        if self.acts >= MOST_ACTS {
            self.lost_acts += 1;
            return Err(self.lost_acts);
        }
        self.next += 1;
        self.acts += 1;
        self.order.insert(self.next, (self.next, Entry::Act(Box::new(act))));
        Ok(())
    }

    /// Adds what others are to be told, if there is room; else says how much there was that had none.
    pub(super) fn add_announcement(&mut self, announced: Announcement) -> Result<(), u64> {
        if self.announcements >= MOST_ANNOUNCEMENTS {
            self.lost_announcements += 1;
            return Err(self.lost_announcements);
        }
        self.next += 1;
        self.announcements += 1;
        self.order.insert(self.next, (self.next, Entry::Announcement(Box::new(announced))));
        Ok(())
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
            if let Some(about) = entry.about() {
                self.places.remove(&about);
            }
            match entry {
                Entry::Act(_) => self.acts -= 1,
                Entry::Announcement(_) => self.announcements -= 1,
                Entry::Show(_) | Entry::KeyUse(_) | Entry::TurnedAway(_) => {}
            }
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
    use waverant_relay::{ActBy, ActOutcome, Occurrence, OccurrenceKind, SessionEnd};

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
        assert_eq!(pending.entries(), [end(1, "c"), end(2, "b")].map(Entry::Show));
        let (ticket, record) = pending.first().unwrap();
        assert_eq!(record, Entry::Show(end(1, "c")));
        pending.add(end(1, "d"));
        pending.done(ticket);
        assert_eq!(pending.first().unwrap().1, Entry::Show(end(1, "d")), "what came while the other was written stays");
        for _ in 0..2 {
            let (ticket, _) = pending.first().unwrap();
            pending.done(ticket);
        }
        assert!(pending.order.is_empty() && pending.places.is_empty());
    }

    fn act(person: &str) -> Act {
        Act {
            at: OffsetDateTime::UNIX_EPOCH,
            person: person.to_owned(),
            by: ActBy::Console,
            token: String::new(),
            address: String::new(),
            what: "end_session".to_owned(),
            channel: None,
            subject: String::new(),
            outcome: ActOutcome::Done,
            reason: None,
            before: None,
            after: None,
            mark: String::new(),
        }
    }

    #[test]
    fn each_act_is_kept_up_to_a_number() {
        let mut pending = Pending::default();
        for _ in 0..2 {
            pending.add_act(act("cox")).unwrap();
        }
        pending.add(end(1, "a"));
        assert_eq!(pending.entries().len(), 3, "two acts that are alike are two");
        let (ticket, first) = pending.first().unwrap();
        assert_eq!(first, Entry::Act(Box::new(act("cox"))));
        pending.done(ticket);
        let told = serde_json::to_string(&pending.entries()).unwrap();
        assert_eq!(serde_json::from_str::<Vec<Entry>>(&told).unwrap(), pending.entries(), "they lie on the disk");
        let old = serde_json::to_string(&[end(1, "a")]).unwrap();
        assert_eq!(serde_json::from_str::<Vec<Entry>>(&old).unwrap(), [Entry::Show(end(1, "a"))]);
        let lost = (0..MOST_ACTS + 4).filter(|_| pending.add_act(act("cox")).is_err()).count();
        assert_eq!((lost, pending.add_act(act("cox"))), (5, Err(6)));
    }

    #[test]
    fn what_others_are_told_is_kept_in_order_up_to_a_number() {
        let announced = |number: usize| Announcement {
            event_id: format!("evt_{number}"),
            targets: vec![1],
            occurrence: Occurrence::new(OccurrenceKind::Test, OffsetDateTime::UNIX_EPOCH, "a test")
                .in_channel(7, "weir"),
        };
        let mut pending = Pending::default();
        let lost = (0..MOST_ANNOUNCEMENTS + 3).filter(|number| pending.add_announcement(announced(*number)).is_err());
        assert_eq!(lost.count(), 3);
        pending.add(end(1, "a"));
        let entries = pending.entries();
        let told = serde_json::to_string(&entries).unwrap();
        assert_eq!(serde_json::from_str::<Vec<Entry>>(&told).unwrap(), entries, "they lie on the disk");
        for number in 0..MOST_ANNOUNCEMENTS {
            let (ticket, first) = pending.first().unwrap();
            assert_eq!(first, Entry::Announcement(Box::new(announced(number))));
            pending.done(ticket);
        }
        assert_eq!(pending.add_announcement(announced(0)), Ok(()));
    }

    #[test]
    fn the_last_use_of_a_key_counts() {
        let used = |second| KeyUse {
            key_id: 7,
            used_at: OffsetDateTime::UNIX_EPOCH + time::Duration::seconds(second),
            address: "192.0.2.7:4000".to_owned(),
            encoder: "van".to_owned(),
            protocol: "srt".to_owned(),
        };
        let mut pending = Pending::default();
        (0..1000).for_each(|second| pending.add_key_use(used(second)));
        assert_eq!(pending.entries(), [Entry::KeyUse(used(999))]);
        let told = serde_json::to_string(&pending.entries()).unwrap();
        assert_eq!(serde_json::from_str::<Vec<Entry>>(&told).unwrap(), pending.entries(), "it lies on the disk");
        let (ticket, _) = pending.first().unwrap();
        pending.done(ticket);
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
