use std::fmt;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use rand::RngExt;
use sha2::Sha256;
use thiserror::Error;
use waverant_relay::Secret;
use zeroize::Zeroizing;

/// What a secret begins with. Source: Standard Webhooks, "Signature scheme"
const BEGIN: &str = "whsec_";

/// Bytes of a secret that is made here, and of those that are brought along.
const MADE: usize = 32;
const BROUGHT: std::ops::RangeInclusive<usize> = 24..=64;

/// What calls are signed with. Source: Standard Webhooks, "Signature scheme"
#[derive(Clone)]
pub struct SigningSecret(Zeroizing<Vec<u8>>);

impl fmt::Debug for SigningSecret {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("SigningSecret(…)")
    }
}

/// The text is no such secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("a secret is `whsec_` and behind it 24 to 64 bytes in base64; leave it out to have one made")]
pub struct SigningSecretError;

impl SigningSecret {
    /// A new secret, as it is written down.
    pub fn make() -> Secret {
        let bytes: [u8; MADE] = rand::rng().random();
        Secret::new(format!("{BEGIN}{}", STANDARD.encode(bytes)))
    }

    /// Reads a secret that was written down.
    ///
    /// # Errors
    /// [`SigningSecretError`] if it is none; what was found is not told.
    pub fn read(text: &Secret) -> Result<Self, SigningSecretError> {
        let encoded = text.reveal().trim().strip_prefix(BEGIN).ok_or(SigningSecretError)?;
        let bytes = Zeroizing::new(STANDARD.decode(encoded).map_err(|_| SigningSecretError)?);
        if BROUGHT.contains(&bytes.len()) { Ok(Self(bytes)) } else { Err(SigningSecretError) }
    }

    /// The signature of a call, as its header has it.
    pub fn sign(&self, id: &str, timestamp: i64, body: &[u8]) -> String {
        let head = format!("{id}.{timestamp}.");
        format!("v1,{}", STANDARD.encode(self.hash(&[head.as_bytes(), body])))
    }

    /// The keyed hash of a text, in hexadecimal.
    pub fn digest(&self, text: &str) -> String {
        self.hash(&[text.as_bytes()]).iter().map(|byte| format!("{byte:02x}")).collect()
    }

    fn hash(&self, parts: &[&[u8]]) -> [u8; 32] {
        // HMAC takes keys of any length.
        let Ok(mut mac) = <Hmac<Sha256> as KeyInit>::new_from_slice(&self.0) else { return [0; 32] };
        parts.iter().for_each(|part| mac.update(part));
        mac.finalize().into_bytes().into()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn the_signature_is_that_of_the_specification() {
        // The example of the specification's text.
        let secret = SigningSecret::read(&Secret::new("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")).unwrap();
        let (id, timestamp, body) = ("msg_p5jXN8AQM9LWM0D4loKWxJek", 1_614_265_330, br#"{"test": 2432232314}"#);
        assert_eq!(secret.sign(id, timestamp, body), "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
    }

    #[test]
    fn what_is_made_can_be_read() {
        let [one, other] = [SigningSecret::make(), SigningSecret::make()];
        assert_ne!(one, other);
        assert!(SigningSecret::read(&one).is_ok());
    }

    #[rstest]
    #[case::nothing("")]
    #[case::no_begin("MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")]
    #[case::no_base64("whsec_***")]
    #[case::short("whsec_MfKQ9r8G")]
    fn others_are_refused(#[case] text: &str) {
        assert!(SigningSecret::read(&Secret::new(text)).is_err());
    }
}
