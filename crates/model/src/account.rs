//! Signing in, and tokens.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Hidden;

/// How to sign in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// User name.
    pub name: String,
    /// Password.
    pub password: Hidden,
    /// If given, a token with this label is returned; otherwise a cookie is set.
    pub token_label: Option<String>,
    /// Days after which the token ends, up to 3650; it does not end by itself if left out.
    pub token_days: Option<u32>,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// User name.
    pub name: String,
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
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it ends; none if it does not by itself.
    #[serde(with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
}
