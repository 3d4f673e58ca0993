//! People of the crew, and what they may do.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Hidden;

/// What somebody may do. Each may do what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Sees shows, recordings, findings and reports, and changes nothing.
    Observer,
    /// Runs shows.
    Operator,
    /// Sets the house up.
    Engineer,
    /// Lets people in.
    Administrator,
}

/// What somebody may do on one channel.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ChannelRole {
    /// The channel's name.
    pub channel: String,
    /// What they may do there; nobody is administrator of a channel.
    pub role: Role,
}

/// Somebody of the crew.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// The name to sign in with.
    pub name: String,
    /// What they may do in the house, and so on every channel; none if they are on single channels only.
    pub role: Option<Role>,
    /// What they may do on single channels besides.
    pub channels: Vec<ChannelRole>,
    /// When they were let in.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// False until they chose a password.
    pub has_password: bool,
    /// True if a password alone does not open the house to them.
    pub has_second_factor: bool,
    /// When their invitation ends, if there is one.
    #[serde(with = "time::serde::rfc3339::option")]
    pub invited_until: Option<OffsetDateTime>,
    /// When they were here last, to a minute.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_seen_at: Option<OffsetDateTime>,
    /// True for who asks.
    pub is_you: bool,
}

/// Somebody to be let in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddPerson {
    /// The name to sign in with.
    pub name: String,
    /// What they may do in the house; left out for somebody who is to be on single channels only.
    pub role: Option<Role>,
    /// What they may do on single channels besides.
    #[serde(default)]
    pub channels: Vec<ChannelRole>,
    /// Hours until the invitation ends: 1 to 720, default 72.
    pub hours: Option<u32>,
}

/// The roles that a person is to have from now on, instead of those before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangePerson {
    /// What they may do in the house; left out for somebody who is to be on single channels only.
    pub role: Option<Role>,
    /// What they may do on single channels besides.
    #[serde(default)]
    pub channels: Vec<ChannelRole>,
}

/// How long an invitation is good.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct InvitePerson {
    /// Hours until it ends: 1 to 720, default 72.
    #[serde(default)]
    pub hours: Option<u32>,
    /// For who lost the second factor, too: it is gone once the invitation is accepted.
    #[serde(default)]
    pub drops_second_factor: bool,
}

/// A one-time code by which a person chooses a password. It is shown once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// For whom.
    pub name: String,
    /// The code. The console takes it at `/invitation#CODE`.
    pub code: String,
    /// When it ends.
    #[serde(with = "time::serde::rfc3339")]
    pub ends_at: OffsetDateTime,
}

/// A code that somebody was given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationCode {
    /// The code.
    pub code: Hidden,
}

/// Whom a code invites.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invited {
    /// The name to sign in with.
    pub name: String,
    /// True if a code of the second factor is asked for, too.
    pub needs_second_factor: bool,
}

/// The password that an invited person chose.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AcceptInvitation {
    /// The code.
    pub code: Hidden,
    /// At least ten characters, and none of those that are guessed first.
    pub password: Hidden,
    /// A code of the second factor, or a recovery code: for who has one that the invitation does not drop.
    #[serde(default)]
    pub second_factor: Option<Hidden>,
    /// If given, a token with this label is returned; otherwise a cookie is set.
    pub token_label: Option<String>,
}
