use std::fmt;
use std::str::FromStr;

use instant_acme::{ChallengeType, KeyAuthorization};
use rcgen::{CertificateParams, CustomExtension, DistinguishedName, KeyPair};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use thiserror::Error;
use time::{Duration, OffsetDateTime};

use crate::{CertificateName, Fault};

/// How an authority sees that a name is ours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Proof {
    /// It asks for a file at port 80. Source: RFC 8555, 8.3
    #[default]
    Http,
    /// It looks at the certificate of a handshake at port 443. Source: RFC 8737
    Tls,
}

/// What is no such way.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("`{0}` is neither \"http-01\" nor \"tls-alpn-01\"")]
pub struct NoProof(String);

impl Proof {
    /// Its name in the standard.
    pub fn word(self) -> &'static str {
        match self {
            Self::Http => "http-01",
            Self::Tls => "tls-alpn-01",
        }
    }

    pub(crate) fn challenge(self) -> ChallengeType {
        match self {
            Self::Http => ChallengeType::Http01,
            Self::Tls => ChallengeType::TlsAlpn01,
        }
    }

    /// What has to be so that the authority sees it.
    pub(crate) fn needs(self) -> &'static str {
        match self {
            Self::Http => {
                "the name must lead to this machine, and its port 80 to `listen.redirect`, for callers from everywhere"
            }
            Self::Tls => {
                "the name must lead to this machine, and its port 443 to `listen.https` or `listen.viewing_https` without \
                 a proxy that ends TLS, for callers from everywhere"
            }
        }
    }
}

impl FromStr for Proof {
    type Err = NoProof;

    fn from_str(text: &str) -> Result<Self, NoProof> {
        let known = [Self::Http, Self::Tls].into_iter().find(|proof| proof.word() == text);
        known.ok_or_else(|| NoProof(text.chars().take(40).collect()))
    }
}

impl fmt::Display for Proof {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// The certificate that proves a name in a handshake. Source: RFC 8737, 3
pub(crate) fn handshake_proof(
    name: &CertificateName,
    authorization: &KeyAuthorization,
) -> Result<(CertificateDer<'static>, PrivateKeyDer<'static>), Fault> {
    let made = || {
        let mut params = CertificateParams::new(vec![name.to_string()])?;
        params.custom_extensions = vec![CustomExtension::new_acme_identifier(authorization.digest().as_ref())];
        let key = KeyPair::generate()?;
        let certificate = params.self_signed(&key)?.der().clone();
        Ok((certificate, PrivatePkcs8KeyDer::from(key.serialize_der()).into()))
    };
    made().map_err(|error: rcgen::Error| Fault::ours(&error))
}

/// How long a placeholder says it is good. Nobody looks: none is trusted.
const PLACEHOLDER_LIFE: Duration = Duration::days(30);

/// A certificate that nobody trusts, with its key (PEM): with it TLS is spoken until there is one that is.
pub fn placeholder(names: &[CertificateName]) -> Option<String> {
    let mut params = CertificateParams::new(names.iter().map(ToString::to_string).collect::<Vec<_>>()).ok()?;
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(rcgen::DnType::CommonName, "no certificate yet");
    let now = OffsetDateTime::now_utc();
    (params.not_before, params.not_after) = (now - Duration::days(1), now + PLACEHOLDER_LIFE);
    let key = KeyPair::generate().ok()?;
    let certificate = params.self_signed(&key).ok()?;
    Some(certificate.pem() + &key.serialize_pem())
}
