//! Addresses that are held off, and those of the crew.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What people say of callers from some addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Reception {
    /// They are held off: nothing but a right key, token or sign-in opens.
    Blocked,
    /// They are the crew's: never slowed and never blocked.
    Welcome,
}

/// A rule to be made, in the place of another one for the same addresses.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddAddressRule {
    /// An address, or a network as in `192.0.2.0/24`.
    pub range: String,
    /// How they are received.
    pub reception: Reception,
    /// For how many minutes; for ever if left out.
    #[serde(default)]
    pub minutes: Option<u32>,
    /// Why; at most 200 characters are kept.
    #[serde(default)]
    pub note: Option<String>,
}

/// A rule that somebody made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddressRule {
    /// Its number.
    pub id: u64,
    /// From where.
    pub range: String,
    /// How they are received.
    pub reception: Reception,
    /// Until when; for ever if there is no end.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub until: Option<OffsetDateTime>,
    /// Why.
    pub note: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub made_at: OffsetDateTime,
    /// Who made it.
    pub made_by: String,
}

/// An address that is blocked for what came from there.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BlockedAddress {
    /// The address; of IPv6 the network of 64 bits that it is in.
    pub address: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// Until when.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
    /// Wrong tries since then.
    pub tries: u64,
    /// How often it was blocked within the last day, this time among them.
    pub times: u32,
}

/// All addresses that are received otherwise than others.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Addresses {
    /// Rules that people made, the newest first.
    pub rules: Vec<AddressRule>,
    /// Blocked for what came from there, the newest first. They are gone with a restart.
    pub blocked: Vec<BlockedAddress>,
}

/// An address that is to be heard again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReleaseAddress {
    /// The address.
    pub address: String,
}
