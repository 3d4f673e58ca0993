//! Signing in, and tokens.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{ChannelRole, Hidden, PasskeyProof, Role};

/// How to sign in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// User name.
    pub name: String,
    /// Password.
    pub password: Hidden,
    /// A code of the second factor, or a recovery code: for who has one.
    #[serde(default)]
    pub second_factor: Option<Hidden>,
    /// What a passkey says, in the place of that.
    #[serde(default)]
    pub passkey: Option<PasskeyProof>,
    /// If given, a token with this label is returned; otherwise a cookie is set.
    pub token_label: Option<String>,
    /// Days after which the token ends, up to 3650; it does not end by itself if left out.
    pub token_days: Option<u32>,
    /// The most that the token may; what you may, if left out.
    pub token_role: Option<Role>,
    /// The channels on which alone the token may something; everywhere, if left out.
    pub token_channels: Option<Vec<String>>,
    /// From where alone the token opens something: addresses and networks, at most 16; from everywhere, if empty.
    #[serde(default)]
    pub token_addresses: Vec<String>,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// User name.
    pub name: String,
    /// What they may do in the house, by the token or console by which they ask; none if they are on single channels
    /// only.
    pub role: Option<Role>,
    /// What they may do on single channels besides.
    pub channels: Vec<ChannelRole>,
    /// True if a second factor is asked for by the rules of the house, and still to be set up: nothing else is open
    /// before.
    pub lacks_second_factor: bool,
    /// The token, shown once, if one was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Whether the first administrator is still to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FirstRunState {
    /// True while there is no user.
    pub is_needed: bool,
}

/// The first administrator.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Administrator {
    /// The one-time code from the service's output.
    pub code: Hidden,
    /// User name.
    pub name: String,
    /// Password, at least ten characters.
    pub password: Hidden,
    /// If given, a token with this label is returned; otherwise a cookie is set.
    pub token_label: Option<String>,
}

/// A token, without what it is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Its number.
    pub id: u64,
    /// Who or what has it.
    pub label: String,
    /// The most that it may; none if all that its person may.
    pub role: Option<Role>,
    /// The channels on which alone it may something; none if everywhere.
    pub channels: Option<Vec<String>>,
    /// From where alone it opens something; from everywhere, if empty.
    pub addresses: Vec<String>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it ends; none if it does not by itself.
    #[serde(with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
    /// What used it last, as it calls itself.
    pub device: String,
    /// From where it was used last.
    pub address: String,
    /// When it was used last, to a minute; none if it never was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_used_at: Option<OffsetDateTime>,
    /// True for the one by which this answer was asked for.
    pub is_this: bool,
}

/// A token to be made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AddToken {
    /// Who or what is to have it: 1 to 96 characters.
    pub label: String,
    /// Days after which it ends, up to 3650; it does not end by itself if left out.
    pub days: Option<u32>,
    /// The most that it may; what the token or console by which you ask may, if left out.
    pub role: Option<Role>,
    /// The channels on which alone it may something; everywhere, if left out.
    pub channels: Option<Vec<String>>,
    /// From where alone it opens something: addresses and networks, at most 16; from everywhere, if empty.
    #[serde(default)]
    pub addresses: Vec<String>,
}

/// A token that was made. It is shown once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token, for `Authorization: Bearer`.
    pub token: String,
    /// Who or what has it.
    pub label: String,
    /// When it ends; none if it does not by itself.
    #[serde(with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
}

/// A new password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangePassword {
    /// The password as it is.
    pub present: Hidden,
    /// The one that is wanted: at least ten characters, and none of those that are guessed first.
    pub wanted: Hidden,
}

/// How many tokens open nothing any more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Withdrawn {
    /// How many.
    pub count: u64,
}
