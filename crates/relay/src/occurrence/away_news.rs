use std::collections::HashMap;

use time::{Duration, OffsetDateTime};

use super::{Occurrence, OccurrenceKind};
use crate::AwayAttempt;

/// Those who were turned away alike are told once in this time.
const QUIET: Duration = Duration::minutes(1);

/// Keys of which it is known when they were told last; more count as strangers.
const MOST_KEYS: usize = 500;

/// What of those who were turned away is told to other systems: who has a key that is known, each once a minute for each
/// reason; and of all strangers one a minute, with how many there were.
#[derive(Debug, Default)]
pub struct AwayNews {
    keys: HashMap<(String, String, String), OffsetDateTime>,
    strangers_told: Option<OffsetDateTime>,
    /// Strangers since then.
    strangers: u64,
}

impl AwayNews {
    /// What is told of an attempt, if something is. `channel_id` is the channel of its key.
    pub fn note(&mut self, attempt: &AwayAttempt, channel_id: Option<u64>) -> Option<Occurrence> {
        let key = attempt.channel_name.clone().zip(attempt.key_prefix.clone());
        let Some(((name, prefix), id)) = key.zip(channel_id) else { return self.note_stranger(attempt) };
        self.keys.retain(|_, told| attempt.at - *told < QUIET);
        let alike = (name.clone(), prefix.clone(), attempt.reason.clone());
        if self.keys.contains_key(&alike) {
            return None;
        }
        if self.keys.len() >= MOST_KEYS {
            return self.note_stranger(attempt);
        }
        self.keys.insert(alike, attempt.at);
        let text = format!("{name}: somebody with the key {prefix}… was turned away: {}", attempt.detail);
        Some(told(attempt, text).in_channel(id, &name).with("key_prefix", prefix))
    }

    fn note_stranger(&mut self, attempt: &AwayAttempt) -> Option<Occurrence> {
        self.strangers += 1;
        if self.strangers_told.is_some_and(|told| attempt.at - told < QUIET) {
            return None;
        }
        self.strangers_told = Some(attempt.at);
        let count = std::mem::take(&mut self.strangers);
        let others =
            if count > 1 { format!(" (and {} more since this was told last)", count - 1) } else { String::new() };
        let text = format!("Somebody who is not known was turned away: {}{others}", attempt.detail);
        Some(told(attempt, text).with("count", count))
    }
}

fn told(attempt: &AwayAttempt, text: String) -> Occurrence {
    let address = attempt.address.map(|address| address.to_canonical().to_string());
    Occurrence::new(OccurrenceKind::TurnedAway, attempt.at, text)
        .with("reason", attempt.reason.as_str())
        .with("detail", attempt.detail.as_str())
        .with("address", address)
        .with("protocol", attempt.protocol.as_str())
        .with("encoder", attempt.encoder.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn attempt(second: i64, key: Option<&str>, reason: &str) -> AwayAttempt {
        AwayAttempt {
            at: OffsetDateTime::UNIX_EPOCH + Duration::seconds(second),
            address: "192.0.2.7".parse().ok(),
            reason: reason.to_owned(),
            detail: "no".to_owned(),
            protocol: "srt".to_owned(),
            encoder: String::new(),
            key_prefix: key.map(str::to_owned),
            channel_name: key.map(|_| "finish-line".to_owned()),
        }
    }

    #[test]
    fn who_has_a_key_is_told_once_a_minute() {
        let mut news = AwayNews::default();
        let mut note = |second, key, reason| news.note(&attempt(second, Some(key), reason), Some(7)).is_some();
        assert_eq!(
            [note(0, "a", "late"), note(1, "a", "late"), note(2, "a", "busy"), note(3, "b", "late")],
            [true, false, true, true]
        );
        assert!(note(60, "a", "late"));
    }

    #[test]
    fn a_million_strangers_are_one_a_minute() {
        let mut news = AwayNews::default();
        let told: Vec<Occurrence> = (0..1_000_000)
            .filter_map(|number| news.note(&attempt(number / 10_000, None, "unknown_key"), None))
            .collect();
        assert_eq!(told.len(), 2);
        assert_eq!(told[1].data["count"], 600_000);
        assert!(news.keys.is_empty());
    }

    #[test]
    fn many_keys_are_bounded() {
        let mut news = AwayNews::default();
        let told = (0..10_000).filter(|key| news.note(&attempt(0, Some(&key.to_string()), "late"), Some(7)).is_some());
        assert_eq!((told.count(), news.keys.len()), (501, 500));
    }
}
