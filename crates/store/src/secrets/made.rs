use std::fmt;

use rand::RngExt;

/// Characters of generated secrets: no letters that look like digits, nothing to escape.
const ALPHABET: &[u8; 32] = b"23456789abcdefghjkmnpqrstuvwxyz7";

/// Length of the public part of a stream key.
const PREFIX_LENGTH: usize = 7;

/// Length of the secret part: 26 characters of 5 bits.
const SECRET_LENGTH: usize = 26;

/// A text that must not be seen: stream keys, tokens, passphrases, passwords. `Debug` and
/// `Display` print a mask.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

/// Characters of a salt.
const SALT_LENGTH: usize = 12;

impl Secret {
    /// Takes a text into keeping.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// The text itself, for whoever has a right to it.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// A new stream key with a public part by which it is found.
    pub fn new_stream_key() -> Self {
        Self(format!("{}-{}", random_text(PREFIX_LENGTH), random_text(SECRET_LENGTH)))
    }

    /// A new bearer token.
    pub fn new_token() -> Self {
        Self(format!("wvt-{}", random_text(SECRET_LENGTH + PREFIX_LENGTH)))
    }

    /// A text that is mixed with a password before it is digested. It is no secret itself.
    pub fn new_salt() -> String {
        random_text(SALT_LENGTH)
    }

    /// A code that is typed once, in three groups.
    pub fn new_one_time_code() -> Self {
        Self(format!("{}-{}-{}", random_text(4), random_text(4), random_text(4)))
    }

    /// A password for the private database server.
    pub(crate) fn new_database_password() -> Self {
        Self(random_text(32))
    }

    /// The part before the first hyphen.
    pub fn prefix(&self) -> &str {
        self.0.split('-').next().unwrap_or_default()
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Secret(…)")
    }
}

impl fmt::Display for Secret {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("…")
    }
}

/// A text that looks like a salt, made of `digest`: for a user who has none.
pub(super) fn salt_like(digest: &[u8; 32]) -> String {
    digest.iter().take(SALT_LENGTH).map(|byte| char::from(ALPHABET[usize::from(*byte) % ALPHABET.len()])).collect()
}

fn random_text(length: usize) -> String {
    let mut random = rand::rng();
    (0..length).map(|_| char::from(ALPHABET[random.random_range(0..ALPHABET.len())])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_never_printed() {
        let key = Secret::new_stream_key();
        assert!(!format!("{key} {key:?}").contains(key.reveal()));
    }

    #[test]
    fn keys_have_the_form_that_the_gate_expects() {
        let key = Secret::new_stream_key();
        assert_eq!((key.prefix().len(), key.reveal().len()), (7, 34));
        assert_ne!(key, Secret::new_stream_key());
    }
}
