//! Stream keys.

mod fields;
mod forms;
mod guest;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

pub use fields::{EncoderFields, NewKey, SrtFields};
pub use forms::{AddKey, AddKeys, ChangeKey, Moment, RenewKey, RetireKey};
pub use guest::{GuestPage, GuestRefusal, GuestSeen, GuestState, GuestToken};

/// What a key opens a channel for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum KeyRight {
    /// Publishing.
    #[default]
    Publish,
    /// Watching over RTMP and SRT.
    View,
}

/// How somebody reaches the doors.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Protocol {
    /// RTMP in the clear.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

/// What becomes of a show.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ShowThen {
    /// It is ended.
    #[default]
    Ends,
    /// It goes on.
    GoesOn,
}

/// Hours of a week, as people read them off the clock on their wall.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpenHours {
    /// The time zone, by its IANA name, as in `Europe/Lisbon`.
    pub zone: String,
    /// Up to 14 windows, as in `mon-fri 08:00-18:00` or `sat,sun 22:00-02:00`; one that ends before it begins goes on
    /// into the next day, and a day ends at `24:00`.
    pub windows: Vec<String>,
}

/// When, from where and how a key opens.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct KeyRules {
    /// When it begins to open the gate; at once if nobody says.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub starts_at: Option<OffsetDateTime>,
    /// When it stops opening the gate; never if nobody says.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
    /// The hours of a week at which it opens; all if nobody says.
    #[serde(default)]
    pub hours: Option<OpenHours>,
    /// Addresses and networks that it may be used from, as in `192.0.2.7` or `192.0.2.0/24`, up to 8;
    /// none for anywhere.
    #[serde(default)]
    pub allowed_from: Vec<String>,
    /// The protocols over which it opens; none for all.
    #[serde(default)]
    pub protocols: Vec<Protocol>,
    /// How many may use it at once. Of publishing keys 1 turns a second encoder away while the first sends; without a
    /// number whoever comes last takes over. Of viewing keys it is the number of players.
    #[serde(default)]
    pub most_connections: Option<u32>,
    /// What becomes of a show, or a player, that it let in, when its end comes or its hours are over. A publisher of a
    /// show that goes on may come back into it.
    #[serde(default)]
    pub show_when_over: ShowThen,
}

/// Whether a key opens now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum KeyState {
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

/// That a key was retired.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Retired {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// What became of its show.
    pub show: ShowThen,
}

/// That somebody was let in by a key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LastUse {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// From where.
    pub address: String,
    /// What the encoder or player calls itself.
    pub encoder: String,
    /// By what it came, as in `srt`.
    pub protocol: String,
}

/// A stream key without the key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StreamKey {
    /// The key's number.
    pub id: u64,
    /// What it opens the channel for.
    pub right: KeyRight,
    /// 0 is the highest; an encoder with a key of lower rank is a backup.
    pub rank: u8,
    /// For whom it was made.
    pub label: String,
    /// Its public part; of one that somebody chose, a name for it that is no part of it.
    pub prefix: String,
    /// Whether somebody chose it.
    pub is_own: bool,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When and how it opens.
    #[serde(flatten)]
    pub rules: KeyRules,
    /// Whether it has a passphrase for SRT of its own.
    pub has_passphrase: bool,
    /// Whether it opens now.
    pub state: KeyState,
    /// When that changes by itself, if so.
    #[serde(with = "time::serde::rfc3339::option")]
    pub turns_at: Option<OffsetDateTime>,
    /// The first of the keys that it was made to take the place of, one after the other, if it was.
    pub stands_for: Option<u64>,
    /// Whether it was retired.
    pub retired: Option<Retired>,
    /// When it was used last.
    pub last_use: Option<LastUse>,
    /// Until when a guest's link shows it, if there is one.
    #[serde(with = "time::serde::rfc3339::option")]
    pub guest_link_until: Option<OffsetDateTime>,
}
