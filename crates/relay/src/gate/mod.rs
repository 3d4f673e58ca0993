//! The gate: decides whether a publisher may come in, and says why not.

mod address_range;
mod address_rule;
mod announced;
mod away_book;
mod blocks;
mod guesses;
mod hours;
mod key;
mod lobby;
mod name;
mod own_key;
mod presented;
mod turned_away;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use time::OffsetDateTime;

pub use address_range::{AddressRange, AddressRangeError};
pub use address_rule::{AddressRule, Reception};
pub use announced::{Announced, AnnouncedError, announced};
pub use away_book::{AwayAttempt, AwayBook, AwayGroup};
pub use blocks::{AddressBlock, Blocks};
pub use guesses::Guesses;
pub use hours::{HoursError, OpenHours};
pub use key::{GateKey, KeyHold, KeyRight, KeyRules, KeyStanding, Opener, Protocol, WhenOver};
pub use lobby::{CallerId, Entered, Lobby, LobbyLimits, NoPlace, Standing};
pub use name::{ChannelName, ChannelNameError};
pub use own_key::{OwnKeyError, own_key_fault};
use presented::{expected_path, presented_keys};
pub use turned_away::{KeyFault, Said, TurnAway, TurnAwayReason};

/// Length of the public part of a stream key.
const PREFIX_LENGTH: usize = 7;

/// Length of the secret part of one that was made here.
const SECRET_LENGTH: usize = 26;

/// A keyed hash of a stream key.
pub type KeyDigest = [u8; 32];

/// A channel as the gate knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GateChannel {
    /// The channel's number.
    pub id: u64,
    /// The channel's name.
    pub name: String,
}

/// Who wants to come in, and how.
#[derive(Clone, Copy, Debug)]
pub struct Comer {
    /// Where it comes from.
    pub address: IpAddr,
    /// What it wants to do.
    pub right: KeyRight,
    /// By what it came.
    pub protocol: Protocol,
}

/// What a publisher or player presents.
#[derive(Clone, Debug)]
pub struct Attempt<'a> {
    /// Who it is.
    pub comer: Comer,
    /// The path part of the address that it dialed.
    pub app: &'a str,
    /// The stream name.
    pub name: &'a str,
    /// The whole address that it dialed, as it says.
    pub tc_url: &'a str,
    /// Further fields of its protocol in which a key may stand.
    pub others: &'a [&'a str],
    /// True if so many wrong keys came from there of late that one which somebody chose is not looked for.
    pub is_guessing: bool,
}

/// A publisher who may come in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Admission {
    /// The channel that the key opens.
    pub channel: GateChannel,
    /// The key's number, and until when it opens; none for one that another system knows.
    pub hold: Option<KeyHold>,
    /// What opened: keys that stand for each other are one.
    pub opener: Opener,
    /// How many may use it at once.
    pub most_connections: Option<u32>,
    /// By what it came.
    pub protocol: Protocol,
    /// The key's rank, 0 being the highest.
    pub key_rank: u8,
    /// For whom the key was made.
    pub key_label: String,
    /// The key's public part.
    pub key_prefix: String,
    /// What it called its stream, without the key.
    pub stream_name: String,
    /// What is odd about the attempt, and harmless, in words.
    pub finding: Option<String>,
}

/// The keys that open channels, held in memory so that a lost database keeps nobody out. A copy is cheap: keys and
/// channels are shared with it.
#[derive(Clone, Debug, Default)]
pub struct Gate {
    channels: HashMap<u64, Arc<GateChannel>>,
    keys: HashMap<u64, Arc<GateKey>>,
    /// Keys by their public part.
    by_prefix: HashMap<String, Vec<u64>>,
    /// Keys that somebody chose, by the hash of the whole.
    own: HashMap<KeyDigest, u64>,
    /// Ranges that keys are made for, with the key.
    expected: Vec<(u64, AddressRange)>,
}

impl Gate {
    /// A gate that knows `channels` and `keys`. Keys of unknown channels are left out.
    pub fn new(channels: impl IntoIterator<Item = GateChannel>, keys: impl IntoIterator<Item = GateKey>) -> Self {
        let mut gate = Self::default();
        channels.into_iter().for_each(|channel| gate.set_channel(channel));
        keys.into_iter().for_each(|key| gate.set_key(key));
        gate
    }

    /// Learns of a channel, or of its change.
    pub fn set_channel(&mut self, channel: GateChannel) {
        self.channels.insert(channel.id, Arc::new(channel));
    }

    /// Forgets a channel with its keys.
    pub fn remove_channel(&mut self, id: u64) {
        self.channels.remove(&id);
        let keys: Vec<u64> = self.keys.values().filter(|key| key.channel_id == id).map(|key| key.id).collect();
        keys.into_iter().for_each(|key| self.remove_key(key));
    }

    /// Learns of a key, or of its change. One of a channel that is not known is left out.
    pub fn set_key(&mut self, key: GateKey) {
        self.remove_key(key.id);
        if self.channels.contains_key(&key.channel_id) {
            self.expected
                .extend(key.rules.allowed_from.iter().filter(|range| range.is_narrow()).map(|range| (key.id, *range)));
            if key.is_own {
                self.own.insert(key.digest, key.id);
            } else {
                self.by_prefix.entry(key.prefix.clone()).or_default().push(key.id);
            }
            self.keys.insert(key.id, Arc::new(key));
        }
    }

    /// Forgets a key.
    pub fn remove_key(&mut self, id: u64) {
        let Some(key) = self.keys.remove(&id) else { return };
        self.expected.retain(|(of, _)| *of != id);
        if self.own.get(&key.digest) == Some(&id) {
            self.own.remove(&key.digest);
        }
        if let Some(keys) = self.by_prefix.get_mut(&key.prefix) {
            keys.retain(|key| *key != id);
            if keys.is_empty() {
                self.by_prefix.remove(&key.prefix);
            }
        }
    }

    /// Why somebody who came in by a key may not stay at `now`, if so. What was changed of the key meanwhile ends
    /// nobody: only what it said when it let somebody in does, where it still says so, and its being retired.
    pub fn key_fault(&self, hold: &KeyHold, now: OffsetDateTime) -> Option<KeyFault> {
        let Some(key) = self.keys.get(&hold.key_id) else { return Some(KeyFault::Withdrawn) };
        if let Some(shows) = key.retired {
            return (shows == WhenOver::ShowEnds).then_some(KeyFault::Retired);
        }
        if key.rules.when_over == WhenOver::ShowGoesOn || hold.until.is_none_or(|until| until > now) {
            return None;
        }
        match key.rules.closed(now)? {
            TurnAwayReason::ExpiredKey => Some(KeyFault::Expired),
            _ => Some(KeyFault::OutOfHours),
        }
    }

    /// True if this is the hash of a key that somebody chose: nothing that is public may be called so.
    pub fn has_own_key(&self, digest: &KeyDigest) -> bool {
        self.own.contains_key(digest)
    }

    /// True for what everybody can read: the name of a channel.
    pub fn is_public(&self, text: &str) -> bool {
        self.channels.values().any(|channel| channel.name.eq_ignore_ascii_case(text))
    }

    /// The key of this number.
    pub fn key(&self, id: u64) -> Option<&Arc<GateKey>> {
        self.keys.get(&id)
    }

    /// True if a key is made for this address, or for a network that is small enough to be meant.
    pub fn expects(&self, address: IpAddr) -> bool {
        self.expected.iter().any(|(_, range)| range.contains(address))
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
        let has_own = !self.own.is_empty();
        let keys = presented_keys(attempt, has_own && !attempt.is_guessing);
        let mut failure = None;
        for presented in &keys {
            match self.try_key(attempt, presented, now, &digest) {
                Ok(admission) => return Ok(admission),
                // What is known of a key says more than that another text is none.
                Err(away) if away.key_id.is_some() => failure = Some(away),
                Err(away) => failure = Some(failure.unwrap_or(away)),
            }
        }
        // Whether one of them would have opened is not to be learned.
        if has_own && attempt.is_guessing && failure.as_ref().is_none_or(|away| away.key_id.is_none()) {
            return Err(TurnAway::of_stranger(TurnAwayReason::TooManyTries));
        }
        let reason = if attempt.name.is_empty() { TurnAwayReason::NoKey } else { TurnAwayReason::Malformed };
        Err(failure.unwrap_or_else(|| TurnAway::of_stranger(reason)))
    }

    fn try_key(
        &self,
        attempt: &Attempt<'_>,
        presented: &str,
        now: OffsetDateTime,
        digest: impl Fn(&str) -> KeyDigest,
    ) -> Result<Admission, TurnAway> {
        let prefix = split_key(presented).map(|(prefix, _)| prefix);
        let digest = digest(presented);
        let candidates = prefix.and_then(|prefix| self.by_prefix.get(prefix)).map(Vec::as_slice).unwrap_or_default();
        // What everybody can read is no key, whoever chose it.
        let own = self.own.get(&digest).filter(|_| !attempt.is_guessing && !self.is_public(presented));
        let mut candidates = candidates.iter().chain(own).filter_map(|id| self.keys.get(id));
        let key = candidates.find(|key| equal_in_constant_time(&key.digest, &digest));
        // Where keys are chosen, what only looks like the public part of one may be half of one.
        let is_public = |prefix: &&str| self.own.is_empty() || presented.len() == prefix.len() + 1 + SECRET_LENGTH;
        let unknown = || match prefix.filter(is_public) {
            Some(prefix) => {
                TurnAway { key_prefix: Some(prefix.to_owned()), ..TurnAway::of_stranger(TurnAwayReason::UnknownKey) }
            }
            None if prefix.is_some() => TurnAway::of_stranger(TurnAwayReason::UnknownKey),
            None => TurnAway::of_stranger(TurnAwayReason::Malformed),
        };
        let key = key.ok_or_else(unknown)?;
        let finding = path_finding(attempt, presented);
        let stream_name = attempt.name.replace(presented, "…");
        Ok(Admission { finding, stream_name, ..self.admit(key, attempt.comer, now)? })
    }

    /// Judges a publisher or player who has shown that it holds the key with the number `id`.
    ///
    /// # Errors
    /// [`TurnAway`] with the reason.
    pub fn decide_shown(&self, id: u64, comer: Comer, now: OffsetDateTime) -> Result<Admission, TurnAway> {
        let unknown = TurnAway::of_stranger(TurnAwayReason::UnknownKey);
        self.admit(self.keys.get(&id).ok_or(unknown)?, comer, now)
    }

    /// Judges a publisher who was turned away and was in the show that is on: where the key says that a show goes on,
    /// its time keeps nobody out who comes back into it.
    ///
    /// # Errors
    /// [`TurnAway`] with the reason.
    pub fn decide_back(&self, away: TurnAway, comer: Comer, now: OffsetDateTime) -> Result<Admission, TurnAway> {
        let is_of_time = matches!(away.reason, TurnAwayReason::ExpiredKey | TurnAwayReason::OutOfHours(_));
        let goes_on = |key: &&Arc<GateKey>| is_of_time && key.rules.when_over == WhenOver::ShowGoesOn;
        match away.key_id.and_then(|id| self.keys.get(&id)).filter(goes_on) {
            Some(key) => self.admit_by_the_rest(key, comer, now),
            None => Err(away),
        }
    }

    fn admit(&self, key: &GateKey, comer: Comer, now: OffsetDateTime) -> Result<Admission, TurnAway> {
        if key.retired.is_some() {
            return Err(turn_away(key, TurnAwayReason::RetiredKey));
        }
        match key.rules.closed(now) {
            Some(reason) => Err(turn_away(key, reason)),
            None => self.admit_by_the_rest(key, comer, now),
        }
    }

    /// All but the key's time.
    fn admit_by_the_rest(&self, key: &GateKey, comer: Comer, now: OffsetDateTime) -> Result<Admission, TurnAway> {
        let turn_away = |reason| turn_away(key, reason);
        let rules = &key.rules;
        if !rules.allowed_from.is_empty() && !rules.allowed_from.iter().any(|range| range.contains(comer.address)) {
            return Err(turn_away(TurnAwayReason::AddressNotAllowed));
        }
        match (comer.right, key.right) {
            (KeyRight::Publish, KeyRight::View) => return Err(turn_away(TurnAwayReason::ViewKey)),
            (KeyRight::View, KeyRight::Publish) => return Err(turn_away(TurnAwayReason::PublishKey)),
            _ => {}
        }
        if !rules.protocols.is_empty() && !rules.protocols.contains(&comer.protocol) {
            return Err(turn_away(TurnAwayReason::ProtocolNotAllowed));
        }
        let channel = self.channels.get(&key.channel_id);
        Ok(Admission {
            channel: channel.ok_or_else(|| turn_away(TurnAwayReason::UnknownKey))?.as_ref().clone(),
            hold: Some(KeyHold { key_id: key.id, until: rules.closes_after(now) }),
            opener: Opener::Key(key.family),
            most_connections: rules.most_connections,
            protocol: comer.protocol,
            key_rank: key.rank,
            key_label: key.label.clone(),
            key_prefix: key.prefix.clone(),
            stream_name: String::new(),
            finding: None,
        })
    }
}

fn turn_away(key: &GateKey, reason: TurnAwayReason) -> TurnAway {
    let (key_prefix, channel_id) = (Some(key.prefix.clone()), Some(key.channel_id));
    TurnAway { key_prefix, channel_id, key_id: Some(key.id), ..TurnAway::of_stranger(reason) }
}

/// The path is no secret: a wrong one is told, and keeps nobody out whose key is right.
fn path_finding(attempt: &Attempt<'_>, key: &str) -> Option<String> {
    let expected = expected_path(attempt.comer.right);
    let path = attempt.app.split('?').next().unwrap_or_default().trim_matches('/');
    let path = path.strip_suffix(key).unwrap_or(path).trim_end_matches('/');
    (path != expected).then(|| {
        let path = path.replace(key, "…");
        format!("the address ends in `/{path}`, and `/{expected}` was expected; the key is right, so it was let in")
    })
}

/// Splits a stream key into its public and its secret part; None if it has not the form of one.
pub fn split_key(key: &str) -> Option<(&str, &str)> {
    let (prefix, secret) = key.split_once('-')?;
    let legal = |text: &str| text.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
    (prefix.len() == PREFIX_LENGTH && !secret.is_empty() && legal(prefix) && legal(secret)).then_some((prefix, secret))
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

    fn key(id: u64, key: &str, expires_at: Option<OffsetDateTime>) -> GateKey {
        let prefix = key.split_once('-').unwrap().0.to_owned();
        let right = if id == VIEW { KeyRight::View } else { KeyRight::Publish };
        let allowed_from = if id == HOME { vec!["192.0.2.0/24".parse().unwrap()] } else { Vec::new() };
        let rules = KeyRules { expires_at, allowed_from, ..KeyRules::default() };
        let (digest, label) = (digest(key), "van".into());
        GateKey {
            id,
            family: id,
            channel_id: 1,
            right,
            rank: 0,
            label,
            prefix,
            is_own: false,
            digest,
            rules,
            retired: None,
        }
    }

    const VIEW: u64 = 13;
    const HOME: u64 = 14;

    fn attempt() -> Attempt<'static> {
        let comer = Comer { address: Ipv4Addr::LOCALHOST.into(), right: KeyRight::Publish, protocol: Protocol::Rtmp };
        Attempt { comer, app: "in", name: "", tc_url: "", others: &[], is_guessing: false }
    }

    fn decide(app: &str, name: &str) -> Result<u64, TurnAwayReason> {
        let tc_url = format!("rtmp://relay.test/{app}");
        let attempt = Attempt { app, name, tc_url: &tc_url, ..attempt() };
        judge(&attempt).map(|admission| admission.hold.unwrap().key_id).map_err(|turn_away| turn_away.reason)
    }

    fn judge(attempt: &Attempt<'_>) -> Result<Admission, TurnAway> {
        let gate = Gate::new(
            [GateChannel { id: 1, name: "finish-line".into() }],
            [
                key(10, "abcdefg-right", None),
                key(11, "abcdefg-other", None),
                key(12, "expired-key", Some(datetime!(2026-05-01 12:00 UTC))),
                key(VIEW, "viewers-glass", None),
                key(HOME, "homeone-right", None),
            ],
        );
        gate.decide(attempt, datetime!(2026-05-01 12:00 UTC), digest)
    }

    #[rstest]
    #[case::as_given("in", "abcdefg-right", Ok(10))]
    #[case::second_key_with_the_same_prefix("in", "abcdefg-other", Ok(11))]
    #[case::with_a_query("in", "abcdefg-right?from=phone", Ok(10))]
    #[case::with_slashes("in/", "/abcdefg-right/", Ok(10))]
    #[case::with_a_space_behind("in", "abcdefg-right ", Ok(10))]
    #[case::any_path("somewhere/else", "abcdefg-right", Ok(10))]
    #[case::key_in_the_path("in/abcdefg-right", "", Ok(10))]
    #[case::key_in_the_query_of_the_name("in", "finish?key=abcdefg-right", Ok(10))]
    #[case::key_in_a_query_with_more("in", "finish?a=b&key=abcdefg-right&c=d%20e", Ok(10))]
    #[case::key_in_another_field_of_the_query("in", "finish?token=abcdefg-right", Ok(10))]
    #[case::bare_query("in", "finish?abcdefg-right", Ok(10))]
    #[case::key_in_the_query_of_the_path("in?key=abcdefg-right", "finish", Ok(10))]
    #[case::key_in_the_path_and_a_name("in/abcdefg-right", "finish", Ok(10))]
    #[case::path_pieces_in_the_name("", "in/abcdefg-right", Ok(10))]
    #[case::a_name_that_looks_like_a_key("in", "morning-run?key=abcdefg-right", Ok(10))]
    #[case::for_watching("in", "viewers-glass", Err(TurnAwayReason::ViewKey))]
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
        let attempt = Attempt { name: "abcdefg-secret", ..attempt() };
        let away = Gate::default().decide(&attempt, OffsetDateTime::UNIX_EPOCH, digest).unwrap_err();
        assert_eq!(away.key_prefix.as_deref(), Some("abcdefg"));
        assert!(!format!("{away:?}").contains("secret"));
    }

    /// Some encoders lose the query of the path, and send it in the address only.
    #[test]
    fn a_key_in_the_address_alone_is_found() {
        for tc_url in ["rtmp://relay.test/in?key=abcdefg-right", "rtmp://relay.test/in/abcdefg-right"] {
            let attempt = Attempt { name: "finish", tc_url, ..attempt() };
            assert_eq!(judge(&attempt).map(|admission| admission.hold.unwrap().key_id), Ok(10));
        }
    }

    #[rstest]
    #[case::right("in", None)]
    #[case::right_with_slashes("/in/", None)]
    #[case::right_with_the_key("in/abcdefg-right", None)]
    #[case::wrong("live", Some("live"))]
    #[case::none("", Some(""))]
    #[case::with_the_key_inside("live/abcdefg-right/x", Some("live/…/x"))]
    fn a_wrong_path_is_told(#[case] app: &str, #[case] told: Option<&str>) {
        let admission = judge(&Attempt { app, name: "abcdefg-right", ..attempt() }).unwrap();
        let told = told.map(|path| format!("the address ends in `/{path}`, and `/in` was expected"));
        assert_eq!(admission.finding.as_ref().and_then(|finding| finding.split(';').next()), told.as_deref());
    }

    #[rstest]
    #[case("192.0.2.7", Ok(HOME))]
    #[case("::ffff:192.0.2.7", Ok(HOME))]
    #[case("198.51.100.1", Err(TurnAwayReason::AddressNotAllowed))]
    fn a_key_may_be_bound_to_addresses(#[case] address: IpAddr, #[case] expected: Result<u64, TurnAwayReason>) {
        let comer = Comer { address, ..attempt().comer };
        let attempt = Attempt { comer, name: "homeone-right", ..attempt() };
        let judged = judge(&attempt).map_err(|away| (away.reason, away.key_prefix, away.channel_id));
        let expected = expected.map_err(|reason| (reason, Some("homeone".to_owned()), Some(1)));
        assert_eq!(judged.map(|admission| admission.hold.unwrap().key_id), expected);
    }

    #[test]
    fn a_shown_key_is_judged_like_a_presented_one() {
        let now = datetime!(2026-05-01 12:00 UTC);
        let channels = [GateChannel { id: 1, name: "finish-line".into() }];
        let gate = Gate::new(channels, [key(10, "abcdefg-right", None), key(12, "expired-key", Some(now))]);
        let judged = |id, right| {
            gate.decide_shown(id, Comer { right, ..attempt().comer }, now)
                .map(|admission| admission.hold.unwrap().key_id)
        };
        assert_eq!(judged(10, KeyRight::Publish), Ok(10));
        let reason = |id, right| judged(id, right).unwrap_err().reason;
        assert_eq!(reason(10, KeyRight::View), TurnAwayReason::PublishKey);
        assert_eq!(reason(12, KeyRight::Publish), TurnAwayReason::ExpiredKey);
        assert_eq!(reason(99, KeyRight::Publish), TurnAwayReason::UnknownKey);
    }

    #[test]
    fn keys_and_channels_come_change_and_go() {
        let now = datetime!(2026-05-01 12:00 UTC);
        let mut gate = Gate::new([GateChannel { id: 1, name: "finish-line".into() }], [key(10, "abcdefg-right", None)]);
        let before = gate.clone();
        gate.set_key(key(10, "abcdefg-right", Some(now)));
        gate.set_key(key(HOME, "homeone-right", None));
        gate.set_key(GateKey { channel_id: 9, ..key(11, "abcdefg-other", None) });
        let hold = |key_id| KeyHold { key_id, until: Some(now) };
        let faults = |gate: &Gate| [10, 11, HOME].map(|id| gate.key_fault(&hold(id), now));
        assert_eq!(faults(&gate), [Some(KeyFault::Expired), Some(KeyFault::Withdrawn), None]);
        assert_eq!(before.key_fault(&hold(10), now), None, "who looks at the copy sees what it was");
        gate.remove_key(10);
        gate.remove_channel(1);
        assert_eq!(faults(&gate), [Some(KeyFault::Withdrawn); 3]);
        assert!(gate.keys.is_empty() && gate.by_prefix.is_empty() && gate.expected.is_empty());
    }

    #[test]
    fn viewing_keys_open_watching_only() {
        let watch = |name| {
            let comer = Comer { right: KeyRight::View, ..attempt().comer };
            judge(&Attempt { comer, app: "out", name, ..attempt() })
        };
        assert_eq!(
            watch("viewers-glass").map(|admission| (admission.hold.unwrap().key_id, admission.finding)),
            Ok((VIEW, None))
        );
        assert_eq!(watch("abcdefg-right").map_err(|away| away.reason), Err(TurnAwayReason::PublishKey));
    }
    #[test]
    fn half_of_a_chosen_key_is_told_to_nobody() {
        let now = datetime!(2026-05-01 12:00 UTC);
        let told = |gate: &Gate, name| {
            let away = gate.decide(&Attempt { name, ..attempt() }, now, digest).unwrap_err();
            (away.reason, away.key_prefix)
        };
        let mut gate = Gate::new([GateChannel { id: 1, name: "finish-line".into() }], []);
        let mistyped = "harbour-2018";
        assert_eq!(told(&gate, mistyped), (TurnAwayReason::UnknownKey, Some("harbour".to_owned())));
        gate.set_key(GateKey { is_own: true, prefix: "qrstuvw".into(), ..key(10, "harbour-2019", None) });
        assert_eq!(told(&gate, mistyped), (TurnAwayReason::UnknownKey, None));
        let made = "hjkmnpq-23456789abcdefghjkmnpqrstu";
        assert_eq!(told(&gate, made), (TurnAwayReason::UnknownKey, Some("hjkmnpq".to_owned())));
    }

    fn ruled(rules: KeyRules) -> Gate {
        let key = GateKey { rules, ..key(10, "abcdefg-right", None) };
        Gate::new([GateChannel { id: 1, name: "finish-line".into() }], [key])
    }

    fn at(gate: &Gate, comer: Comer, now: OffsetDateTime) -> Result<Admission, TurnAwayReason> {
        let attempt = Attempt { comer, name: "abcdefg-right", ..attempt() };
        gate.decide(&attempt, now, digest).map_err(|away| away.reason)
    }

    #[test]
    fn a_key_opens_at_its_times_and_hours() {
        let begin = datetime!(2026-05-01 08:00 UTC);
        let hours = OpenHours::new("UTC", &["fri 10:00-12:00"]).unwrap();
        let end = Some(datetime!(2026-05-08 11:00 UTC));
        let gate =
            ruled(KeyRules { starts_at: Some(begin), expires_at: end, hours: Some(hours), ..KeyRules::default() });
        let until = |now| at(&gate, attempt().comer, now).map(|admission| admission.hold.unwrap().until);
        assert_eq!(until(datetime!(2026-05-01 07:59 UTC)), Err(TurnAwayReason::EarlyKey(begin)));
        let next = Some(datetime!(2026-05-01 10:00 UTC));
        assert_eq!(until(begin), Err(TurnAwayReason::OutOfHours(next)));
        assert_eq!(until(datetime!(2026-05-01 10:00 UTC)), Ok(Some(datetime!(2026-05-01 12:00 UTC))));
        assert_eq!(until(datetime!(2026-05-08 10:00 UTC)), Ok(end), "whichever comes first");
        assert_eq!(until(datetime!(2026-05-08 11:00 UTC)), Err(TurnAwayReason::ExpiredKey));
        let standing = |now| gate.key(10).unwrap().standing(now);
        assert_eq!(standing(datetime!(2026-04-30 11:00 UTC)), (KeyStanding::Early, Some(begin)));
        assert_eq!(standing(begin), (KeyStanding::OutOfHours, next));
        assert_eq!(standing(datetime!(2026-05-08 10:00 UTC)), (KeyStanding::Open, end));
        assert_eq!(standing(datetime!(2026-05-08 12:00 UTC)), (KeyStanding::Expired, None));
    }

    #[test]
    fn a_key_may_be_for_some_protocols() {
        let gate = ruled(KeyRules { protocols: vec![Protocol::Rtmps, Protocol::Srt], ..KeyRules::default() });
        let judged = Protocol::ALL.map(|(protocol, _)| {
            at(&gate, Comer { protocol, ..attempt().comer }, datetime!(2026-05-01 12:00 UTC)).map(drop)
        });
        assert_eq!(judged, [Err(TurnAwayReason::ProtocolNotAllowed), Ok(()), Ok(())]);
    }

    /// What holds for who is in is what was said when it came in, unless more is given since.
    #[test]
    fn a_change_of_its_key_ends_no_show() {
        let (noon, later) = (datetime!(2026-05-01 12:00 UTC), datetime!(2026-05-01 14:00 UTC));
        let until = |end| KeyRules { expires_at: Some(end), ..KeyRules::default() };
        let gate = ruled(until(later));
        let hold = at(&gate, attempt().comer, noon).unwrap().hold.unwrap();
        let shortened = ruled(until(noon));
        assert_eq!(shortened.key_fault(&hold, datetime!(2026-05-01 13:59 UTC)), None);
        assert_eq!(shortened.key_fault(&hold, later), Some(KeyFault::Expired), "the end that was told comes");
        assert_eq!(ruled(until(datetime!(2026-05-01 20:00 UTC))).key_fault(&hold, later), None, "more time is given");
        let endless = KeyHold { until: None, ..hold };
        assert_eq!(gate.key_fault(&endless, later), None, "an end that was set since");
        let hours = Some(OpenHours::new("UTC", &["fri 08:00-14:00"]).unwrap());
        assert_eq!(
            ruled(KeyRules { hours, ..KeyRules::default() }).key_fault(&hold, later),
            Some(KeyFault::OutOfHours)
        );
        let goes_on = KeyRules { when_over: WhenOver::ShowGoesOn, ..until(later) };
        assert_eq!(ruled(goes_on).key_fault(&hold, later), None);
    }

    #[test]
    fn who_is_in_a_show_that_goes_on_may_come_back_into_it() {
        let end = datetime!(2026-05-01 12:00 UTC);
        let home = vec!["192.0.2.0/24".parse().unwrap()];
        let back = |rules, address: &str| {
            let gate = ruled(KeyRules { expires_at: Some(end), allowed_from: home.clone(), ..rules });
            let comer = Comer { address: address.parse().unwrap(), ..attempt().comer };
            let away = gate.decide_shown(10, comer, end).unwrap_err();
            gate.decide_back(away, comer, end)
                .map(|admission| admission.hold.unwrap().key_id)
                .map_err(|away| away.reason)
        };
        let goes_on = || KeyRules { when_over: WhenOver::ShowGoesOn, ..KeyRules::default() };
        assert_eq!(back(goes_on(), "192.0.2.7"), Ok(10));
        assert_eq!(back(goes_on(), "198.51.100.1"), Err(TurnAwayReason::AddressNotAllowed));
        assert_eq!(back(KeyRules::default(), "192.0.2.7"), Err(TurnAwayReason::ExpiredKey));
    }

    #[test]
    fn a_retired_key_keeps_out_and_ends_or_not() {
        let now = datetime!(2026-05-01 12:00 UTC);
        for (shows, fault) in [(WhenOver::ShowEnds, Some(KeyFault::Retired)), (WhenOver::ShowGoesOn, None)] {
            let rules = KeyRules { when_over: WhenOver::ShowGoesOn, ..KeyRules::default() };
            let mut gate = ruled(rules.clone());
            gate.set_key(GateKey { retired: Some(shows), rules, ..key(10, "abcdefg-right", None) });
            let away = gate.decide_shown(10, attempt().comer, now).unwrap_err();
            assert_eq!((away.reason, away.key_id), (TurnAwayReason::RetiredKey, Some(10)));
            assert_eq!(gate.decide_back(away.clone(), attempt().comer, now), Err(away), "at once means at once");
            assert_eq!(gate.key_fault(&KeyHold { key_id: 10, until: None }, now), fault);
        }
    }

    /// An encoder in the field keeps what it has, wherever it sends it.
    #[rstest]
    #[case("in", "Boathouse_2019", &[], true)]
    #[case("live", "Boathouse_2019", &[], true)]
    #[case("in", "cam?key=Boathouse_2019", &[], true)]
    #[case("live/Boathouse_2019", "", &[], true)]
    #[case("in", "cam", &["", "Boathouse_2019"], true)]
    #[case("in", "boathouse_2019", &[], false)]
    #[case("in", "Boathouse_2019x", &[], false)]
    fn a_chosen_key_opens(#[case] app: &str, #[case] name: &str, #[case] others: &[&str], #[case] opens: bool) {
        let now = datetime!(2026-05-01 12:00 UTC);
        let attempt = Attempt { app, name, others, ..attempt() };
        let mut gate = Gate::new([GateChannel { id: 1, name: "finish-line".into() }], []);
        let judge = |gate: &Gate| gate.decide(&attempt, now, digest).map(|admission| admission.hold.unwrap().key_id);
        assert!(judge(&gate).is_err());
        let own = GateKey {
            is_own: true,
            prefix: "qrstuvw".into(),
            digest: digest("Boathouse_2019"),
            ..key(10, "a-b", None)
        };
        gate.set_key(own);
        assert_eq!(
            judge(&gate).map_err(|away| (away.reason, away.key_prefix)),
            opens.then_some(10).ok_or((TurnAwayReason::Malformed, None))
        );
        assert!(gate.has_own_key(&digest("Boathouse_2019")));
        let guess = Attempt { is_guessing: true, ..attempt.clone() };
        let told = gate.decide(&guess, now, digest).map_err(|away| (away.reason, away.key_id));
        assert_eq!(told.map(drop), Err((TurnAwayReason::TooManyTries, None)), "right or wrong, it is told the same");
        gate.set_key(key(11, "abcdefg-other", None));
        let made = Attempt { name: "abcdefg-other", ..guess };
        assert_eq!(gate.decide(&made, now, digest).map(|admission| admission.hold.unwrap().key_id), Ok(11));
        gate.set_channel(GateChannel { id: 2, name: "boathouse_2019".into() });
        assert!(judge(&gate).is_err(), "what everybody can read is no key");
        gate.remove_key(10);
        assert!(judge(&gate).is_err() && gate.own.is_empty());
    }
}
