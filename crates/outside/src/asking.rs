//! What the house and its helper out there say to each other: a signed question over HTTP, and what was found.

use serde::{Deserialize, Serialize};
use thiserror::Error;
use waverant_calls::SigningSecret;
use waverant_model::{Transport, TryOutcome};

/// Doors that are tried at most with one question.
pub(crate) const MOST_DOORS: usize = 16;

/// How far the clocks of both may be apart, in seconds.
const CLOCKS_APART: i64 = 300;

/// The path of the question.
pub(crate) const PATH: &str = "/try";

/// Headers of a signed call. Source: Standard Webhooks, "Webhook headers"
pub(crate) const HEADERS: [&str; 3] = ["webhook-id", "webhook-timestamp", "webhook-signature"];

/// Which doors are to be tried. Always at the address that the question comes from.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Question {
    pub(crate) doors: Vec<AskedDoor>,
}

#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct AskedDoor {
    pub(crate) transport: Transport,
    pub(crate) port: u16,
}

/// What was found.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Found {
    /// Where the question came from, and the doors were tried.
    pub(crate) seen_as: String,
    /// In the order of the question.
    pub(crate) tries: Vec<FoundDoor>,
}

#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub(crate) struct FoundDoor {
    pub(crate) outcome: TryOutcome,
    pub(crate) after_ms: u64,
}

/// A question that is not answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub(crate) enum NotSigned {
    #[error("it is not signed")]
    Missing,
    #[error("it was signed at another time; the clocks of both machines may be {CLOCKS_APART} s apart")]
    Time,
    #[error("it is signed with another secret")]
    Secret,
}

/// Looks at the signature of a question.
pub(crate) fn check(
    secret: &SigningSecret,
    [id, timestamp, signature]: [Option<&str>; 3],
    now: i64,
    body: &[u8],
) -> Result<(), NotSigned> {
    let (id, timestamp, signature) =
        id.zip(timestamp).zip(signature).map(|((id, at), by)| (id, at, by)).ok_or(NotSigned::Missing)?;
    let timestamp: i64 = timestamp.parse().map_err(|_| NotSigned::Missing)?;
    let expected = secret.sign(id, timestamp, body);
    // Digests are compared, so that the time tells nothing of what was expected.
    if secret.digest(&expected) != secret.digest(signature) {
        return Err(NotSigned::Secret);
    }
    if now.abs_diff(timestamp) > CLOCKS_APART.unsigned_abs() { Err(NotSigned::Time) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_signed_lately_with_the_same_secret_is_answered() {
        let read = |text| SigningSecret::read(&text).unwrap();
        let (own, other) = (read(SigningSecret::make()), read(SigningSecret::make()));
        let signed = own.sign("a", 1000, b"{}");
        let asked =
            |secret: &SigningSecret, at: &str, now| check(secret, [Some("a"), Some(at), Some(&signed)], now, b"{}");
        assert_eq!(asked(&own, "1000", 1290), Ok(()));
        assert_eq!(asked(&own, "1000", 1301), Err(NotSigned::Time));
        assert_eq!(asked(&own, "1001", 1001), Err(NotSigned::Secret));
        assert_eq!(asked(&other, "1000", 1000), Err(NotSigned::Secret));
        assert_eq!(check(&own, [Some("a"), Some("1000"), Some(&signed)], 1000, b"{ }"), Err(NotSigned::Secret));
        assert_eq!(check(&own, [Some("a"), Some("soon"), Some(&signed)], 1000, b"{}"), Err(NotSigned::Missing));
        assert_eq!(check(&own, [None, Some("1000"), Some(&signed)], 1000, b"{}"), Err(NotSigned::Missing));
    }
}
