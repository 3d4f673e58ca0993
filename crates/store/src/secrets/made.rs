use rand::RngExt;
use waverant_relay::{Secret, TIME_CODE_KEY};

/// Characters of generated secrets: no letters that look like digits, nothing to escape.
const ALPHABET: &[u8; 32] = b"23456789abcdefghjkmnpqrstuvwxyz7";

/// Length of the public part of a stream key.
const PREFIX_LENGTH: usize = 7;

/// Length of the secret part: 26 characters of 5 bits.
const SECRET_LENGTH: usize = 26;

/// Characters of a salt.
const SALT_LENGTH: usize = 12;

/// A new stream key with a public part by which it is found.
pub(crate) fn new_stream_key() -> Secret {
    Secret::new(format!("{}-{}", random_text(PREFIX_LENGTH), random_text(SECRET_LENGTH)))
}

/// A name for a key that somebody chose, with the form of a key's public part.
pub(crate) fn new_key_name() -> String {
    random_text(PREFIX_LENGTH)
}

/// A passphrase for SRT.
pub fn new_passphrase() -> Secret {
    Secret::new(random_text(SECRET_LENGTH))
}

/// What stands in a guest's link.
pub(crate) fn new_guest_token() -> Secret {
    Secret::new(random_text(SECRET_LENGTH))
}

/// The number of a call to another system, by which one that comes twice is known.
pub fn new_call_id(kind: &str) -> String {
    format!("{kind}_{}", random_text(SECRET_LENGTH))
}

/// A new bearer token.
pub(crate) fn new_token() -> Secret {
    Secret::new(format!("wvt-{}", random_text(SECRET_LENGTH + PREFIX_LENGTH)))
}

/// A text of 12 characters that is mixed with a password before it is digested. It is no secret itself.
pub fn new_salt() -> String {
    random_text(SALT_LENGTH)
}

/// A code that is typed once, in three groups of four characters.
pub fn new_one_time_code() -> Secret {
    Secret::new(format!("{}-{}-{}", random_text(4), random_text(4), random_text(4)))
}

/// A key for an authenticator.
pub(crate) fn new_time_code_key() -> [u8; TIME_CODE_KEY] {
    rand::rng().random()
}

/// A password for the private database server.
pub(crate) fn new_database_password() -> Secret {
    Secret::new(random_text(32))
}

/// A text that looks like a salt, made of `digest`: for a user who has none.
pub(super) fn salt_like(digest: &[u8; 32]) -> String {
    letters(digest, SALT_LENGTH)
}

/// A signature as it stands in an address: 130 bits of it.
pub(super) fn signature(digest: &[u8; 32]) -> String {
    letters(digest, SECRET_LENGTH)
}

fn letters(digest: &[u8; 32], length: usize) -> String {
    digest.iter().take(length).map(|byte| char::from(ALPHABET[usize::from(*byte) % ALPHABET.len()])).collect()
}

fn random_text(length: usize) -> String {
    let mut random = rand::rng();
    (0..length).map(|_| char::from(ALPHABET[random.random_range(0..ALPHABET.len())])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_have_the_form_that_the_gate_expects() {
        let key = new_stream_key();
        assert_eq!((key.prefix().len(), key.reveal().len()), (7, 34));
        assert_ne!(key, new_stream_key());
    }
}
