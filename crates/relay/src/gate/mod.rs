//! The gate: decides whether a publisher may come in, and says why not.

mod name;

use std::collections::HashMap;
use std::net::IpAddr;

use thiserror::Error;
use time::OffsetDateTime;

pub use name::{ChannelName, ChannelNameError};

/// Length of the public part of a stream key.
const PREFIX_LENGTH: usize = 7;

/// A keyed hash of a stream key.
pub type KeyDigest = [u8; 32];

/// A channel as the gate knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChannelEntry {
    /// The channel's number.
    pub id: u64,
    /// The channel's name.
    pub name: String,
}

/// A stream key as the gate knows it. The key itself is known only to whoever was given it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyEntry {
    /// The key's number.
    pub id: u64,
    /// The channel that it opens.
    pub channel_id: u64,
    /// For whom it was made.
    pub label: String,
    /// The public part by which it is found.
    pub prefix: String,
    /// The keyed hash of the whole key.
    pub digest: KeyDigest,
    /// When it stops opening the gate.
    pub expires_at: Option<OffsetDateTime>,
}

/// What a publisher presents.
#[derive(Clone, Debug)]
pub struct Attempt<'a> {
    /// Where it comes from.
    pub address: IpAddr,
    /// The path part of the address that it dialed.
    pub app: &'a str,
    /// The stream name.
    pub name: &'a str,
}

/// A publisher who may come in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Admission {
    /// The channel that the key opens.
    pub channel: ChannelEntry,
    /// The key's number.
    pub key_id: u64,
    /// For whom the key was made.
    pub key_label: String,
    /// The key's public part.
    pub key_prefix: String,
}

/// Why a publisher was not let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TurnAwayReason {
    /// No stream name was sent.
    #[error("No stream key was sent. Put the key into the encoder's key field.")]
    NoKey,
    /// The name has not the form of a key.
    #[error("This is not a stream key of this server. Copy the key anew, without spaces, into the key field.")]
    Malformed,
    /// No such key.
    #[error("The stream key is not known here. Copy it anew, or ask for a new one.")]
    UnknownKey,
    /// The key's time is over.
    #[error("The stream key has expired. Ask for a new one.")]
    ExpiredKey,
    /// Another publisher is on the channel.
    #[error("Another encoder is already on this channel. Stop it first.")]
    ChannelBusy,
    /// The peer did not speak the protocol.
    #[error("The connection was not understood as RTMP.")]
    NotUnderstood,
    /// The peer connected and did not publish in time.
    #[error("The encoder connected but did not publish in time.")]
    TooSlow,
    /// The service is stopping.
    #[error("The server is stopping.")]
    Stopping,
    /// More connections than the service takes.
    #[error("Too many connections at once.")]
    TooManyConnections,
}

impl TurnAwayReason {
    /// A stable word for programs.
    pub fn code(self) -> &'static str {
        match self {
            Self::NoKey => "no_key",
            Self::Malformed => "malformed_key",
            Self::UnknownKey => "unknown_key",
            Self::ExpiredKey => "expired_key",
            Self::ChannelBusy => "channel_busy",
            Self::NotUnderstood => "not_understood",
            Self::TooSlow => "too_slow",
            Self::Stopping => "stopping",
            Self::TooManyConnections => "too_many_connections",
        }
    }
}

/// A publisher who may not come in, with what is known about the key without giving it away.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TurnAway {
    /// Why.
    pub reason: TurnAwayReason,
    /// The public part of the key that was presented, if it has the form of one.
    pub key_prefix: Option<String>,
    /// The channel, if the key is one of its keys.
    pub channel_id: Option<u64>,
}

/// The keys that open channels, held in memory so that a lost database keeps nobody out.
#[derive(Clone, Debug, Default)]
pub struct Gate {
    channels: HashMap<u64, ChannelEntry>,
    keys: HashMap<String, Vec<KeyEntry>>,
}

impl Gate {
    /// A gate that knows `channels` and `keys`. Keys of unknown channels are left out.
    pub fn new(channels: impl IntoIterator<Item = ChannelEntry>, keys: impl IntoIterator<Item = KeyEntry>) -> Self {
        let channels = channels.into_iter().map(|channel| (channel.id, channel)).collect();
        let mut gate = Self { channels, keys: HashMap::new() };
        for key in keys {
            if gate.channels.contains_key(&key.channel_id) {
                gate.keys.entry(key.prefix.clone()).or_default().push(key);
            }
        }
        gate
    }

    /// Judges an attempt at the time `now`; `digest` is the keyed hash of a key.
    ///
    /// # Errors
    /// [`TurnAway`] with the reason.
    pub fn decide(
        &self,
        attempt: &Attempt<'_>,
        now: OffsetDateTime,
        digest: impl Fn(&str) -> KeyDigest,
    ) -> Result<Admission, TurnAway> {
        let presented = presented_key(attempt.app, attempt.name);
        let turn_away = |reason, key: Option<&KeyEntry>| TurnAway {
            reason,
            key_prefix: presented.and_then(split_key).map(|(prefix, _)| prefix.to_owned()),
            channel_id: key.map(|key| key.channel_id),
        };
        let Some(presented) = presented else { return Err(turn_away(TurnAwayReason::NoKey, None)) };
        let Some((prefix, _)) = split_key(presented) else {
            return Err(turn_away(TurnAwayReason::Malformed, None));
        };
        let digest = digest(presented);
        let candidates = self.keys.get(prefix).map(Vec::as_slice).unwrap_or_default();
        let key = candidates.iter().find(|key| equal_in_constant_time(&key.digest, &digest));
        let key = key.ok_or_else(|| turn_away(TurnAwayReason::UnknownKey, None))?;
        if key.expires_at.is_some_and(|end| end <= now) {
            return Err(turn_away(TurnAwayReason::ExpiredKey, Some(key)));
        }
        let channel = self.channels.get(&key.channel_id);
        let channel = channel.ok_or_else(|| turn_away(TurnAwayReason::UnknownKey, None))?.clone();
        let (key_label, key_prefix) = (key.label.clone(), key.prefix.clone());
        Ok(Admission { channel, key_id: key.id, key_label, key_prefix })
    }
}

/// Splits a stream key into its public and its secret part; None if it has not the form of one.
pub fn split_key(key: &str) -> Option<(&str, &str)> {
    let (prefix, secret) = key.split_once('-')?;
    let legal = |text: &str| text.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
    (prefix.len() == PREFIX_LENGTH && !secret.is_empty() && legal(prefix) && legal(secret)).then_some((prefix, secret))
}

/// The key is the stream name without a query; encoders with one address field put it at the
/// end of the path.
fn presented_key<'a>(app: &'a str, name: &'a str) -> Option<&'a str> {
    let name = name.split('?').next().unwrap_or_default().trim_matches('/').trim();
    let last_of_app = || app.split('?').next().and_then(|path| path.trim_matches('/').rsplit('/').next());
    let key = if name.is_empty() { last_of_app().filter(|part| split_key(part).is_some())? } else { name };
    Some(key)
}

fn equal_in_constant_time(one: &KeyDigest, other: &KeyDigest) -> bool {
    one.iter().zip(other).fold(0, |difference, (a, b)| difference | (a ^ b)) == 0
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    /// Stands for the keyed hash: the key's own bytes.
    fn digest(key: &str) -> KeyDigest {
        let mut digest = [0; 32];
        for (place, byte) in digest.iter_mut().zip(key.bytes()) {
            *place = byte;
        }
        digest
    }

    fn key(id: u64, key: &str, expires_at: Option<OffsetDateTime>) -> KeyEntry {
        let prefix = key.split_once('-').unwrap().0.to_owned();
        KeyEntry { id, channel_id: 1, label: "van".into(), prefix, digest: digest(key), expires_at }
    }

    fn decide(app: &str, name: &str) -> Result<u64, TurnAwayReason> {
        let gate = Gate::new(
            [ChannelEntry { id: 1, name: "finish-line".into() }],
            [
                key(10, "abcdefg-right", None),
                key(11, "abcdefg-other", None),
                key(12, "expired-key", Some(datetime!(2026-05-01 12:00 UTC))),
            ],
        );
        let attempt = Attempt { address: Ipv4Addr::LOCALHOST.into(), app, name };
        let verdict = gate.decide(&attempt, datetime!(2026-05-01 12:00 UTC), digest);
        verdict.map(|admission| admission.key_id).map_err(|turn_away| turn_away.reason)
    }

    #[rstest]
    #[case::as_given("in", "abcdefg-right", Ok(10))]
    #[case::second_key_with_the_same_prefix("in", "abcdefg-other", Ok(11))]
    #[case::with_a_query("in", "abcdefg-right?from=phone", Ok(10))]
    #[case::with_slashes("in/", "/abcdefg-right/", Ok(10))]
    #[case::with_a_space_behind("in", "abcdefg-right ", Ok(10))]
    #[case::any_path("somewhere/else", "abcdefg-right", Ok(10))]
    #[case::key_in_the_path("in/abcdefg-right", "", Ok(10))]
    #[case::no_key("in", "", Err(TurnAwayReason::NoKey))]
    #[case::not_a_key("in", "my stream", Err(TurnAwayReason::Malformed))]
    #[case::wrong_secret("in", "abcdefg-wrong", Err(TurnAwayReason::UnknownKey))]
    #[case::wrong_prefix("in", "zzzzzzz-right", Err(TurnAwayReason::UnknownKey))]
    #[case::upper_case("in", "ABCDEFG-right", Err(TurnAwayReason::Malformed))]
    #[case::expired("in", "expired-key", Err(TurnAwayReason::ExpiredKey))]
    fn judges(#[case] app: &str, #[case] name: &str, #[case] expected: Result<u64, TurnAwayReason>) {
        assert_eq!(decide(app, name), expected);
    }

    #[test]
    fn a_turned_away_publisher_shows_its_prefix_but_never_the_secret() {
        let attempt = Attempt { address: Ipv4Addr::LOCALHOST.into(), app: "in", name: "abcdefg-secret" };
        let away = Gate::default().decide(&attempt, OffsetDateTime::UNIX_EPOCH, digest).unwrap_err();
        assert_eq!(away.key_prefix.as_deref(), Some("abcdefg"));
        assert!(!format!("{away:?}").contains("secret"));
    }
}
