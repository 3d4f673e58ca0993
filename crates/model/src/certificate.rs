//! The certificate of console, viewers and RTMPS.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// The certificate that the service speaks TLS with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Certificate {
    /// Where it comes from.
    pub source: CertificateSource,
    /// The one in use; none without TLS, or if it cannot be read.
    pub in_use: Option<CertificateInUse>,
    /// What is had from the authority, if one is set.
    pub renewal: Option<CertificateRenewal>,
}

/// Where a certificate comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CertificateSource {
    /// There is none: nothing is served over TLS.
    None,
    /// From files, which somebody renews.
    Files,
    /// From an authority, over the automatic protocol (RFC 8555).
    Authority,
}

/// What a certificate says of itself (RFC 5280).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateInUse {
    /// Names and addresses that it is for.
    pub names: Vec<String>,
    /// Who signed it.
    pub issuer: String,
    /// From when on it is good.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// When it ends.
    #[serde(with = "time::serde::rfc3339")]
    pub ends_at: OffsetDateTime,
    /// Serial number, in hexadecimal digits.
    pub serial: String,
    /// SHA-256 of it, in hexadecimal digits.
    pub fingerprint: String,
    /// True for one of our own that nobody trusts, until the authority gives the first.
    pub is_placeholder: bool,
}

/// How a certificate is had from an authority.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateRenewal {
    /// Where the authority tells what it can do.
    pub directory: String,
    /// What the certificate is to be for.
    pub names: Vec<String>,
    /// How the authority sees that the names are ours: `http-01` or `tls-alpn-01`.
    pub proof: String,
    /// True while one is being had.
    pub is_at_work: bool,
    /// When the last one came, since the service was started.
    #[serde(with = "time::serde::rfc3339::option")]
    pub renewed_at: Option<OffsetDateTime>,
    /// When the next try is, or the renewal.
    #[serde(with = "time::serde::rfc3339::option")]
    pub next_at: Option<OffsetDateTime>,
    /// Tries in a row that failed.
    pub failures: u32,
    /// Why the last of them failed.
    pub fault: Option<String>,
    /// When it did.
    #[serde(with = "time::serde::rfc3339::option")]
    pub failed_at: Option<OffsetDateTime>,
}
