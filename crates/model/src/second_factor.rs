//! The second factor: what besides the password opens the house.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Hidden;

/// Whether you have a second factor.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecondFactor {
    /// Since when; none if you have none.
    #[serde(with = "time::serde::rfc3339::option")]
    pub since: Option<OffsetDateTime>,
    /// Recovery codes that were not used yet.
    pub recovery_codes_left: u32,
    /// True if the rules of the house ask for one.
    pub is_required: bool,
}

/// Your password, for what a stolen sign-in must not do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PresentPassword {
    /// It.
    pub password: Hidden,
    /// A code of your second factor, or a recovery code, if you have one.
    #[serde(default)]
    pub second_factor: Option<Hidden>,
}

/// A key for an authenticator (RFC 6238: SHA-1, six digits, 30 s). It counts once a code of it was given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorKey {
    /// The key, to be typed (RFC 4648, 6).
    pub key: String,
    /// The same as an address; authenticators read it from a picture.
    pub address: String,
}

/// A code of an authenticator.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorCode {
    /// Six digits.
    pub code: Hidden,
}

/// Codes that are each good once in the place of an authenticator's. They are shown once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// Ten of them.
    pub codes: Vec<String>,
}
