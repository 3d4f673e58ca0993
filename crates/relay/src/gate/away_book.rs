use std::collections::HashMap;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};
use time::{Duration, OffsetDateTime};

/// Groups of callers with a key that is known, and of strangers, that are kept in mind.
const MOST_KNOWN: usize = 500;
const MOST_STRANGERS: usize = 300;

/// Groups of strangers of one address; what comes in yet other forms is one more.
const MOST_OF_ADDRESS: usize = 8;

/// A group of which nobody came for so long is over: who comes then is told of anew.
const OVER_AFTER: Duration = Duration::minutes(10);

/// Somebody who was turned away.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AwayAttempt {
    /// When.
    pub at: OffsetDateTime,
    /// From where; the last of a group, and none where it is of many addresses.
    pub address: Option<IpAddr>,
    /// The reason's stable word.
    pub reason: String,
    /// The reason in words.
    pub detail: String,
    /// By what it came, as in `srt`, as far as that was known.
    pub protocol: String,
    /// What it calls itself, as far as it said.
    pub encoder: String,
    /// The public part of the key that was presented.
    pub key_prefix: Option<String>,
    /// The channel, if the key was one of its keys.
    pub channel_name: Option<String>,
}

/// Those who were turned away alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AwayGroup {
    /// The group's number, which tells when it began.
    pub id: u64,
    /// The first of them.
    pub first_at: OffsetDateTime,
    /// The last of them.
    pub last: AwayAttempt,
    /// How many there were.
    pub count: u64,
}

/// What makes attempts alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Likeness {
    address: Option<IpAddr>,
    reason: String,
    protocol: String,
    encoder: String,
    /// Of a key that is known; guesses differ each time.
    key: Option<(String, String)>,
}

/// Who was turned away, grouped. Its memory is bounded whoever comes: of one address, and of all, there are so many
/// groups, and what comes beyond that is a group of many.
#[derive(Debug, Default)]
pub struct AwayBook {
    groups: HashMap<Likeness, (AwayGroup, bool)>,
    by_address: HashMap<IpAddr, usize>,
    /// Groups of strangers, and of callers with a key that is known.
    strangers: usize,
    known: usize,
    next: u64,
}

impl AwayBook {
    /// Notes an attempt.
    pub fn note(&mut self, attempt: AwayAttempt) {
        let likeness = self.likeness(&attempt);
        let attempt = AwayAttempt { address: likeness.address, encoder: likeness.encoder.clone(), ..attempt };
        if let Some((group, is_news)) = self.groups.get_mut(&likeness) {
            group.count += 1;
            group.last = attempt;
            *is_news = true;
            return;
        }
        self.next += 1;
        // Times of a thousandth of a second, and a number behind: they rise over restarts.
        let millis = u64::try_from(attempt.at.unix_timestamp_nanos() / 1_000_000).unwrap_or_default();
        let group = AwayGroup { id: millis * 1024 + self.next % 1024, first_at: attempt.at, last: attempt, count: 1 };
        self.count(&likeness);
        self.groups.insert(likeness, (group, true));
    }

    fn likeness(&self, attempt: &AwayAttempt) -> Likeness {
        let key = attempt.channel_name.clone().zip(attempt.key_prefix.clone());
        let exact = Likeness {
            address: attempt.address,
            reason: attempt.reason.clone(),
            protocol: attempt.protocol.clone(),
            encoder: attempt.encoder.clone(),
            key,
        };
        if self.groups.contains_key(&exact) {
            return exact;
        }
        let is_known = exact.key.is_some();
        let (of_kind, most) = if is_known { (self.known, MOST_KNOWN) } else { (self.strangers, MOST_STRANGERS) };
        let of_address = attempt.address.and_then(|address| self.by_address.get(&address)).copied().unwrap_or(0);
        if of_kind >= most {
            return Likeness { address: None, encoder: String::new(), key: None, ..exact };
        }
        // Who calls itself something else each time is one.
        if of_address >= MOST_OF_ADDRESS { Likeness { encoder: String::new(), ..exact } } else { exact }
    }

    /// What is to be written down since this was asked last.
    pub fn take_news(&mut self) -> Vec<AwayGroup> {
        let news = self.groups.values_mut().filter(|(_, is_news)| *is_news);
        let mut news: Vec<AwayGroup> = news
            .map(|(group, is_news)| {
                *is_news = false;
                group.clone()
            })
            .collect();
        news.sort_by_key(|group| (group.last.at, group.id));
        news
    }

    /// What could not be written is news again. What is newer stays.
    pub fn put_back(&mut self, groups: &[AwayGroup]) {
        for (group, is_news) in self.groups.values_mut() {
            *is_news |= groups.iter().any(|lost| lost.id == group.id);
        }
    }

    /// Forgets groups that are over and written.
    pub fn sweep(&mut self, now: OffsetDateTime) {
        self.groups.retain(|_, (group, is_news)| *is_news || now - group.last.at < OVER_AFTER);
        self.by_address.clear();
        (self.strangers, self.known) = (0, 0);
        let left: Vec<Likeness> = self.groups.keys().cloned().collect();
        left.iter().for_each(|likeness| self.count(likeness));
    }

    fn count(&mut self, likeness: &Likeness) {
        if let Some(address) = likeness.address {
            *self.by_address.entry(address).or_default() += 1;
        }
        *(if likeness.key.is_some() { &mut self.known } else { &mut self.strangers }) += 1;
    }
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-05-17 12:00 UTC);

    fn attempt(address: u32, reason: &str, encoder: &str) -> AwayAttempt {
        AwayAttempt {
            at: NOW,
            address: Some(IpAddr::V4(address.into())),
            reason: reason.to_owned(),
            detail: "words".to_owned(),
            protocol: "rtmp".to_owned(),
            encoder: encoder.to_owned(),
            key_prefix: Some("abcdefg".to_owned()),
            channel_name: None,
        }
    }

    fn told(book: &mut AwayBook) -> Vec<(Option<IpAddr>, String, u64)> {
        book.take_news().into_iter().map(|group| (group.last.address, group.last.reason, group.count)).collect()
    }

    #[test]
    fn those_who_are_alike_are_one() {
        let mut book = AwayBook::default();
        for second in 0..5 {
            let guess = Some(format!("guess0{second}"));
            let at = NOW + Duration::seconds(second);
            book.note(AwayAttempt { at, key_prefix: guess, ..attempt(1, "unknown_key", "van") });
        }
        book.note(attempt(2, "unknown_key", "van"));
        let groups = book.take_news();
        assert_eq!(groups.iter().map(|group| group.count).collect::<Vec<_>>(), [1, 5]);
        let last = &groups[1];
        assert_eq!((last.first_at, last.last.at), (NOW, NOW + Duration::seconds(4)));
        assert_eq!(last.last.key_prefix.as_deref(), Some("guess04"), "the last guess is told");
        assert!(book.take_news().is_empty());
        book.put_back(&groups[..1]);
        book.note(attempt(2, "unknown_key", "van"));
        assert_eq!(told(&mut book), [(Some(IpAddr::V4(2.into())), "unknown_key".to_owned(), 2)], "counted on");
    }

    #[test]
    fn keys_that_are_known_are_told_apart() {
        let mut book = AwayBook::default();
        for prefix in ["abcdefg", "hjkmnpq", "abcdefg"] {
            let channel_name = Some("finish-line".to_owned());
            book.note(AwayAttempt {
                channel_name,
                key_prefix: Some(prefix.to_owned()),
                ..attempt(1, "expired_key", "")
            });
        }
        let mut counts: Vec<u64> = book.take_news().iter().map(|group| group.count).collect();
        counts.sort_unstable();
        assert_eq!(counts, [1, 2]);
    }

    #[test]
    fn a_million_addresses_are_a_few_groups() {
        let mut book = AwayBook::default();
        let channel_name = Some("finish-line".to_owned());
        book.note(AwayAttempt { channel_name, ..attempt(7, "retired_key", "van") });
        for number in 0..100_000 {
            book.note(attempt(1000 + number, "unknown_key", &format!("guesser {number}")));
        }
        let groups = book.take_news();
        assert_eq!(groups.len(), MOST_STRANGERS + 2);
        assert_eq!(groups.iter().map(|group| group.count).sum::<u64>(), 100_001, "all are counted");
        let many = groups.iter().find(|group| group.last.address.is_none()).unwrap();
        assert_eq!(many.count, 100_000 - MOST_STRANGERS as u64);
        assert!(groups.iter().any(|group| group.last.reason == "retired_key"), "it has a place of its own");
        assert!(book.by_address.len() <= groups.len());
    }

    #[test]
    fn one_address_is_a_few_groups_whatever_it_calls_itself() {
        let mut book = AwayBook::default();
        for number in 0..1000 {
            book.note(attempt(1, "unknown_key", &format!("guesser {number}")));
        }
        let groups = book.take_news();
        assert_eq!(groups.len(), MOST_OF_ADDRESS + 1);
        assert!(
            groups.iter().any(|group| group.count == 1000 - MOST_OF_ADDRESS as u64 && group.last.encoder.is_empty())
        );
    }

    #[test]
    fn what_is_over_and_written_is_forgotten() {
        let mut book = AwayBook::default();
        book.note(attempt(1, "unknown_key", ""));
        book.sweep(NOW + OVER_AFTER);
        assert_eq!(book.groups.len(), 1, "it is not written yet");
        let first = book.take_news();
        book.sweep(NOW + OVER_AFTER);
        assert!(book.groups.is_empty() && book.by_address.is_empty());
        let at = NOW + Duration::HOUR;
        book.note(AwayAttempt { at, ..attempt(1, "unknown_key", "") });
        let again = book.take_news();
        assert!(again[0].id > first[0].id && again[0].count == 1);
    }
}
