//! The gate: decides whether a publisher may come in, and says why not.

mod address_range;
mod announced;
mod guesses;
mod lobby;
mod name;
mod presented;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use thiserror::Error;
use time::OffsetDateTime;

pub use address_range::{AddressRange, AddressRangeError};
pub use announced::{Announced, AnnouncedError, announced};
pub use guesses::Guesses;
pub use lobby::{CallerId, Entered, Lobby, LobbyLimits, NoPlace, Standing};
pub use name::{ChannelName, ChannelNameError};
use presented::{expected_path, presented_keys};

use crate::NoRoom;

/// Length of the public part of a stream key.
const PREFIX_LENGTH: usize = 7;

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

/// What a key opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum KeyRight {
    /// Publishing on a channel.
    Publish,
    /// Watching a channel.
    View,
}

/// A stream key as the gate knows it. The key itself is known only to whoever was given it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GateKey {
    /// The key's number.
    pub id: u64,
    /// The channel that it opens.
    pub channel_id: u64,
    /// What it may be used for.
    pub right: KeyRight,
    /// 0 is the highest; a key of lower rank is a backup.
    pub rank: u8,
    /// For whom it was made.
    pub label: String,
    /// The public part by which it is found.
    pub prefix: String,
    /// The keyed hash of the whole key.
    pub digest: KeyDigest,
    /// When it stops opening the gate.
    pub expires_at: Option<OffsetDateTime>,
    /// Where it may be used from; from anywhere if there is none.
    pub allowed_from: Vec<AddressRange>,
}

/// What a publisher or player presents.
#[derive(Clone, Debug)]
pub struct Attempt<'a> {
    /// Where it comes from.
    pub address: IpAddr,
    /// What it wants to do.
    pub right: KeyRight,
    /// The path part of the address that it dialed.
    pub app: &'a str,
    /// The stream name.
    pub name: &'a str,
    /// The whole address that it dialed, as it says.
    pub tc_url: &'a str,
}

/// A publisher who may come in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Admission {
    /// The channel that the key opens.
    pub channel: GateChannel,
    /// The key's number.
    pub key_id: u64,
    /// The key's rank, 0 being the highest.
    pub key_rank: u8,
    /// For whom the key was made.
    pub key_label: String,
    /// The key's public part.
    pub key_prefix: String,
    /// What is odd about the attempt, and harmless, in words.
    pub finding: Option<String>,
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
    /// The key is for watching, and is used to publish.
    #[error("This key is for watching only. Publishing needs a stream key of the channel.")]
    ViewKey,
    /// The key is for publishing, and is used to watch.
    #[error("This key is for publishing. Watching needs a viewing key of the channel.")]
    PublishKey,
    /// The key is not to be used from this address.
    #[error("This key may not be used from this address. Ask for it to be allowed, or use one that is made for it.")]
    AddressNotAllowed,
    /// The password is not that of the user.
    #[error(
        "User name and password do not go together. The user is the first part of the key, the password the whole key."
    )]
    WrongPassword,
    /// Another publisher is on the channel.
    #[error("Another encoder is already on this channel. Stop it first, or let newcomers replace it.")]
    ChannelBusy,
    /// The peer did not speak the protocol.
    #[error("The connection was not understood.")]
    NotUnderstood,
    /// The peer connected and did not publish in time.
    #[error("The encoder connected but did not publish in time.")]
    TooSlow,
    /// The service is stopping.
    #[error("The server is stopping.")]
    Stopping,
    /// The passphrase is not the channel's.
    #[error("The passphrase is not that of the channel. Copy it anew from the channel's page.")]
    WrongPassphrase,
    /// One end has a passphrase and the other has none.
    #[error("The encoder and the channel must both have a passphrase, or neither. Compare the channel's page.")]
    PassphraseDiffers,
    /// The channel is not watched by this protocol.
    #[error("This channel is not watched this way. Its page in the console tells which ways are open.")]
    WayClosed,
    /// No more may watch.
    #[error("No seat: {0}.")]
    NoSeat(NoRoom),
    /// More connections from one address than the service takes.
    #[error("Too many connections from this address at once.")]
    TooManyFromAddress,
    /// More connections than the service takes.
    #[error("Too many connections at once.")]
    TooManyConnections,
    /// Another system of the house said no.
    #[error("The house does not let this caller in. Ask whoever runs the channel.")]
    Declined,
    /// Another system of the house did not answer.
    #[error("It was not decided in time whether this caller may come in. Try again.")]
    Undecided,
    /// All places were taken, and somebody else came before the peer was let in.
    #[error("All places were taken, and the caller made room for another before it showed a key.")]
    MadeRoom,
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
            Self::WrongPassphrase => "wrong_passphrase",
            Self::PassphraseDiffers => "passphrase_differs",
            Self::WayClosed => "way_closed",
            Self::NoSeat(_) => "no_seat",
            Self::ViewKey => "view_key",
            Self::PublishKey => "publish_key",
            Self::AddressNotAllowed => "address_not_allowed",
            Self::WrongPassword => "wrong_password",
            Self::TooManyFromAddress => "too_many_from_address",
            Self::TooManyConnections => "too_many_connections",
            Self::MadeRoom => "made_room",
            Self::Declined => "declined",
            Self::Undecided => "undecided",
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

/// Why a key does not open any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyFault {
    /// There is no such key any more.
    Withdrawn,
    /// Its time is over.
    Expired,
}

impl KeyFault {
    /// As the end of a session and its publisher are told.
    pub const fn for_publisher(self) -> &'static str {
        match self {
            Self::Withdrawn => "the stream key was withdrawn",
            Self::Expired => "the stream key has expired",
        }
    }

    /// As a player is told.
    pub const fn for_player(self) -> &'static str {
        match self {
            Self::Withdrawn => "The viewing key was withdrawn.",
            Self::Expired => "The viewing key has expired.",
        }
    }
}

/// The keys that open channels, held in memory so that a lost database keeps nobody out. A copy is cheap: keys and
/// channels are shared with it.
#[derive(Clone, Debug, Default)]
pub struct Gate {
    channels: HashMap<u64, Arc<GateChannel>>,
    keys: HashMap<u64, Arc<GateKey>>,
    /// Keys by their public part.
    by_prefix: HashMap<String, Vec<u64>>,
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
                .extend(key.allowed_from.iter().filter(|range| range.is_narrow()).map(|range| (key.id, *range)));
            self.by_prefix.entry(key.prefix.clone()).or_default().push(key.id);
            self.keys.insert(key.id, Arc::new(key));
        }
    }

    /// Forgets a key.
    pub fn remove_key(&mut self, id: u64) {
        let Some(key) = self.keys.remove(&id) else { return };
        self.expected.retain(|(of, _)| *of != id);
        if let Some(keys) = self.by_prefix.get_mut(&key.prefix) {
            keys.retain(|key| *key != id);
            if keys.is_empty() {
                self.by_prefix.remove(&key.prefix);
            }
        }
    }

    /// Why a key does not open any more at `now`; none if it does.
    pub fn key_fault(&self, id: u64, now: OffsetDateTime) -> Option<KeyFault> {
        match self.keys.get(&id) {
            None => Some(KeyFault::Withdrawn),
            Some(key) if key.expires_at.is_some_and(|end| end <= now) => Some(KeyFault::Expired),
            Some(_) => None,
        }
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
        let keys = presented_keys(attempt);
        let mut failure = None;
        for presented in &keys {
            match self.try_key(attempt, presented, now, &digest) {
                Ok(admission) => return Ok(admission),
                Err(away) => failure = Some(failure.unwrap_or(away)),
            }
        }
        let reason = if attempt.name.is_empty() { TurnAwayReason::NoKey } else { TurnAwayReason::Malformed };
        Err(failure.unwrap_or(TurnAway { reason, key_prefix: None, channel_id: None }))
    }

    fn try_key(
        &self,
        attempt: &Attempt<'_>,
        presented: &str,
        now: OffsetDateTime,
        digest: impl Fn(&str) -> KeyDigest,
    ) -> Result<Admission, TurnAway> {
        let prefix = split_key(presented).map_or("", |(prefix, _)| prefix);
        let digest = digest(presented);
        let candidates = self.by_prefix.get(prefix).map(Vec::as_slice).unwrap_or_default();
        let mut candidates = candidates.iter().filter_map(|id| self.keys.get(id));
        let key = candidates.find(|key| equal_in_constant_time(&key.digest, &digest));
        let unknown =
            || TurnAway { reason: TurnAwayReason::UnknownKey, key_prefix: Some(prefix.to_owned()), channel_id: None };
        let key = key.ok_or_else(unknown)?;
        let finding = path_finding(attempt, presented);
        Ok(Admission { finding, ..self.admit(key, (attempt.address, attempt.right), now)? })
    }

    /// Judges a publisher or player who has shown that it holds the key with the number `id`.
    ///
    /// # Errors
    /// [`TurnAway`] with the reason.
    pub fn decide_shown(
        &self,
        id: u64,
        (address, right): (IpAddr, KeyRight),
        now: OffsetDateTime,
    ) -> Result<Admission, TurnAway> {
        let unknown = TurnAway { reason: TurnAwayReason::UnknownKey, key_prefix: None, channel_id: None };
        self.admit(self.keys.get(&id).ok_or(unknown)?, (address, right), now)
    }

    fn admit(
        &self,
        key: &GateKey,
        (address, right): (IpAddr, KeyRight),
        now: OffsetDateTime,
    ) -> Result<Admission, TurnAway> {
        let turn_away =
            |reason| TurnAway { reason, key_prefix: Some(key.prefix.clone()), channel_id: Some(key.channel_id) };
        if key.expires_at.is_some_and(|end| end <= now) {
            return Err(turn_away(TurnAwayReason::ExpiredKey));
        }
        if !key.allowed_from.is_empty() && !key.allowed_from.iter().any(|range| range.contains(address)) {
            return Err(turn_away(TurnAwayReason::AddressNotAllowed));
        }
        match (right, key.right) {
            (KeyRight::Publish, KeyRight::View) => return Err(turn_away(TurnAwayReason::ViewKey)),
            (KeyRight::View, KeyRight::Publish) => return Err(turn_away(TurnAwayReason::PublishKey)),
            _ => {}
        }
        let channel = self.channels.get(&key.channel_id);
        let channel = channel.ok_or_else(|| turn_away(TurnAwayReason::UnknownKey))?.as_ref().clone();
        let (key_label, key_prefix) = (key.label.clone(), key.prefix.clone());
        Ok(Admission { channel, key_id: key.id, key_rank: key.rank, key_label, key_prefix, finding: None })
    }
}

/// The path is no secret: a wrong one is told, and keeps nobody out whose key is right.
fn path_finding(attempt: &Attempt<'_>, key: &str) -> Option<String> {
    let expected = expected_path(attempt.right);
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
        let (digest, label) = (digest(key), "van".into());
        GateKey { id, channel_id: 1, right, rank: 0, label, prefix, digest, expires_at, allowed_from }
    }

    const VIEW: u64 = 13;
    const HOME: u64 = 14;

    fn decide(app: &str, name: &str) -> Result<u64, TurnAwayReason> {
        let tc_url = format!("rtmp://relay.test/{app}");
        let attempt =
            Attempt { address: Ipv4Addr::LOCALHOST.into(), right: KeyRight::Publish, app, name, tc_url: &tc_url };
        judge(&attempt).map(|admission| admission.key_id).map_err(|turn_away| turn_away.reason)
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
        let attempt = Attempt {
            address: Ipv4Addr::LOCALHOST.into(),
            right: KeyRight::Publish,
            app: "in",
            name: "abcdefg-secret",
            tc_url: "",
        };
        let away = Gate::default().decide(&attempt, OffsetDateTime::UNIX_EPOCH, digest).unwrap_err();
        assert_eq!(away.key_prefix.as_deref(), Some("abcdefg"));
        assert!(!format!("{away:?}").contains("secret"));
    }

    /// Some encoders lose the query of the path, and send it in the address only.
    #[test]
    fn a_key_in_the_address_alone_is_found() {
        for tc_url in ["rtmp://relay.test/in?key=abcdefg-right", "rtmp://relay.test/in/abcdefg-right"] {
            let right = KeyRight::Publish;
            let attempt = Attempt { address: Ipv4Addr::LOCALHOST.into(), right, app: "in", name: "finish", tc_url };
            assert_eq!(judge(&attempt).map(|admission| admission.key_id), Ok(10));
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
        let (address, right) = (Ipv4Addr::LOCALHOST.into(), KeyRight::Publish);
        let admission = judge(&Attempt { address, right, app, name: "abcdefg-right", tc_url: "" }).unwrap();
        let told = told.map(|path| format!("the address ends in `/{path}`, and `/in` was expected"));
        assert_eq!(admission.finding.as_ref().and_then(|finding| finding.split(';').next()), told.as_deref());
    }

    #[rstest]
    #[case("192.0.2.7", Ok(HOME))]
    #[case("::ffff:192.0.2.7", Ok(HOME))]
    #[case("198.51.100.1", Err(TurnAwayReason::AddressNotAllowed))]
    fn a_key_may_be_bound_to_addresses(#[case] address: IpAddr, #[case] expected: Result<u64, TurnAwayReason>) {
        let attempt = Attempt { address, right: KeyRight::Publish, app: "in", name: "homeone-right", tc_url: "" };
        let judged = judge(&attempt).map_err(|away| (away.reason, away.key_prefix, away.channel_id));
        let expected = expected.map_err(|reason| (reason, Some("homeone".to_owned()), Some(1)));
        assert_eq!(judged.map(|admission| admission.key_id), expected);
    }

    #[test]
    fn a_shown_key_is_judged_like_a_presented_one() {
        let now = datetime!(2026-05-01 12:00 UTC);
        let channels = [GateChannel { id: 1, name: "finish-line".into() }];
        let gate = Gate::new(channels, [key(10, "abcdefg-right", None), key(12, "expired-key", Some(now))]);
        let judged = |id, right| {
            gate.decide_shown(id, (Ipv4Addr::LOCALHOST.into(), right), now).map(|admission| admission.key_id)
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
        let faults = |gate: &Gate| [10, 11, HOME].map(|id| gate.key_fault(id, now));
        assert_eq!(faults(&gate), [Some(KeyFault::Expired), Some(KeyFault::Withdrawn), None]);
        assert_eq!(before.key_fault(10, now), None, "who looks at the copy sees what it was");
        gate.remove_key(10);
        gate.remove_channel(1);
        assert_eq!(faults(&gate), [Some(KeyFault::Withdrawn); 3]);
        assert!(gate.keys.is_empty() && gate.by_prefix.is_empty() && gate.expected.is_empty());
    }

    #[test]
    fn viewing_keys_open_watching_only() {
        let watch = |name| {
            let (address, right) = (Ipv4Addr::LOCALHOST.into(), KeyRight::View);
            judge(&Attempt { address, right, app: "out", name, tc_url: "" })
        };
        assert_eq!(watch("viewers-glass").map(|admission| (admission.key_id, admission.finding)), Ok((VIEW, None)));
        assert_eq!(watch("abcdefg-right").map_err(|away| away.reason), Err(TurnAwayReason::PublishKey));
    }
}
