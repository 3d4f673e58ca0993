use time::OffsetDateTime;

use super::{AddressRange, KeyDigest, OpenHours, TurnAwayReason};

/// What a key opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum KeyRight {
    /// Publishing on a channel.
    Publish,
    /// Watching a channel.
    View,
}

/// What opened the gate to somebody.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Opener {
    /// The stream key of this number.
    Key(u64),
    /// A key that another system of the house knows: a number that is made of it.
    Outside(u64),
    /// The house itself, which feeds the session from here.
    House,
}

/// How somebody reaches the doors.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Protocol {
    /// RTMP in the clear.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

impl Protocol {
    /// All there are, with their names.
    pub const ALL: [(Self, &'static str); 3] = [(Self::Rtmp, "rtmp"), (Self::Rtmps, "rtmps"), (Self::Srt, "srt")];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(protocol, _)| *protocol == self).map_or("", |(_, name)| name)
    }

    /// The protocol of this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(_, known)| *known == name).map(|(protocol, _)| protocol)
    }
}

/// What becomes of a show whose key is over: its end has come, or its hours end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum WhenOver {
    /// It is ended.
    #[default]
    ShowEnds,
    /// It goes on, and its publisher may come back into it.
    ShowGoesOn,
}

/// When, from where and how a key opens.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct KeyRules {
    /// When it begins to open the gate.
    pub starts_at: Option<OffsetDateTime>,
    /// When it stops.
    pub expires_at: Option<OffsetDateTime>,
    /// The hours of a week at which it opens; always if there are none.
    pub hours: Option<OpenHours>,
    /// Where it may be used from; from anywhere if there is none.
    pub allowed_from: Vec<AddressRange>,
    /// The protocols over which it opens; over all if there is none.
    pub protocols: Vec<Protocol>,
    /// How many may use it at once. One of publishing that has no limit is taken over by whoever comes with it last.
    pub most_connections: Option<u32>,
    /// What becomes of a show that it opened, when its time is over.
    pub when_over: WhenOver,
}

/// A stream key as the gate knows it. The key itself is known only to whoever was given it.
#[derive(Clone, Debug, PartialEq)]
pub struct GateKey {
    /// The key's number.
    pub id: u64,
    /// The number of the first key that this one stands for, after one renewal or more; else its own. An encoder that
    /// changes from the one to the other is the same.
    pub family: u64,
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
    /// True if somebody chose it: it may look like anything, and the public part is none of its own.
    pub is_own: bool,
    /// The keyed hash of the whole key.
    pub digest: KeyDigest,
    /// When and how it opens.
    pub rules: KeyRules,
    /// What becomes of a show that it opened, if it was retired.
    pub retired: Option<WhenOver>,
}

/// By which key somebody came in, and until when it was to open as things stood then.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeyHold {
    /// The key's number.
    pub key_id: u64,
    /// None if it had no end.
    pub until: Option<OffsetDateTime>,
}

/// Whether a key opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyStanding {
    /// It does.
    Open,
    /// Its time has not come.
    Early,
    /// It is none of its hours.
    OutOfHours,
    /// Its time is over.
    Expired,
    /// It was retired.
    Retired,
}

impl GateKey {
    /// Whether it opens at `now`, and when that changes by itself.
    pub fn standing(&self, now: OffsetDateTime) -> (KeyStanding, Option<OffsetDateTime>) {
        if self.retired.is_some() {
            return (KeyStanding::Retired, None);
        }
        match self.rules.closed(now) {
            None => (KeyStanding::Open, self.rules.closes_after(now)),
            Some(TurnAwayReason::EarlyKey(start)) => (KeyStanding::Early, Some(start)),
            Some(TurnAwayReason::OutOfHours(next)) => {
                let is_in_time = |next: &OffsetDateTime| self.rules.expires_at.is_none_or(|end| *next < end);
                (KeyStanding::OutOfHours, next.filter(is_in_time))
            }
            Some(_) => (KeyStanding::Expired, None),
        }
    }
}

impl KeyRules {
    /// Why the key does not open at `now`.
    pub(super) fn closed(&self, now: OffsetDateTime) -> Option<TurnAwayReason> {
        if self.expires_at.is_some_and(|end| end <= now) {
            return Some(TurnAwayReason::ExpiredKey);
        }
        if let Some(start) = self.starts_at.filter(|start| *start > now) {
            return Some(TurnAwayReason::EarlyKey(start));
        }
        let hours = self.hours.as_ref().filter(|hours| !hours.is_open(now))?;
        Some(TurnAwayReason::OutOfHours(hours.opens_after(now)))
    }

    /// When a key that opens at `now` will no longer do so.
    pub(super) fn closes_after(&self, now: OffsetDateTime) -> Option<OffsetDateTime> {
        let hours_end = self.hours.as_ref().and_then(|hours| hours.closes_after(now));
        self.expires_at.into_iter().chain(hours_end).min()
    }
}
