//! Encryption of payloads (§6).

mod keyring;
mod passphrase;
mod stream_key;
#[cfg(test)]
mod tests;

pub(crate) use keyring::{KeyRing, Sealer};
pub(crate) use passphrase::WrappingKey;
pub use passphrase::{Derivation, DerivedKey, KeyLength, Passphrase, PassphraseError};
pub(crate) use stream_key::TAG_LENGTH;
