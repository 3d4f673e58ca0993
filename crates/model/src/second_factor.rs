//! The second factor: what besides the password opens the house.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Hidden;

/// Whether you have a second factor.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecondFactor {
    /// Since when there is an authenticator; none if there is none.
    #[serde(with = "time::serde::rfc3339::option")]
    pub since: Option<OffsetDateTime>,
    /// Passkeys, which do the same: each at one host.
    pub passkeys: Vec<Passkey>,
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
    /// What a passkey says, in the place of that.
    #[serde(default)]
    pub passkey: Option<PasskeyProof>,
}

/// A passkey (WebAuthn Level 3), without its key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Passkey {
    /// Its number.
    pub id: u64,
    /// What you call it.
    pub label: String,
    /// The host at which it is good: browsers give it to no other.
    pub host: String,
    /// Since when it is there.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it was used last.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_used_at: Option<OffsetDateTime>,
}

/// What a browser is to ask a passkey; good once, for five minutes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasskeyChallenge {
    /// What it is called here.
    pub ceremony: String,
    /// `PublicKeyCredentialCreationOptionsJSON` or `PublicKeyCredentialRequestOptionsJSON` (WebAuthn Level 3, 5.1.8 and
    /// 5.1.9).
    #[schema(value_type = Object)]
    pub options: serde_json::Value,
}

/// What a passkey says.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasskeyProof {
    /// What it was asked.
    pub ceremony: String,
    /// `AuthenticationResponseJSON` (WebAuthn Level 3, 5.1.1).
    #[schema(value_type = Object)]
    pub credential: serde_json::Value,
}

/// A passkey that a device made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPasskey {
    /// What it was asked.
    pub ceremony: String,
    /// What you call it; 1 to 96 characters.
    pub label: String,
    /// `RegistrationResponseJSON` (WebAuthn Level 3, 5.1.1).
    #[schema(value_type = Object)]
    pub credential: serde_json::Value,
}

/// Name and password of who signs in with a passkey besides.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AskPasskey {
    /// User name.
    pub name: String,
    /// Password.
    pub password: Hidden,
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
    /// Ten of them; none if you have some already.
    pub codes: Vec<String>,
}
