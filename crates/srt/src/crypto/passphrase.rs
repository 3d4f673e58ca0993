use std::fmt;

use aes::{Aes128, Aes192, Aes256};
use aes_kw::{AesKw, KeyInit};
use bytes::Bytes;
use sha1::Sha1;
use thiserror::Error;

use crate::wire::{KeyMaterial, KeyMaterialError};

/// Rounds of PBKDF2 (§6.1.4).
const ROUNDS: u32 = 2048;

const MIN_LENGTH: usize = 10;
const MAX_LENGTH: usize = 79;

/// The length of the keys that encrypt payloads.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum KeyLength {
    /// 128 bits.
    #[default]
    Aes128,
    /// 192 bits.
    Aes192,
    /// 256 bits.
    Aes256,
}

impl KeyLength {
    /// Its bytes.
    pub const fn bytes(self) -> usize {
        match self {
            Self::Aes128 => 16,
            Self::Aes192 => 24,
            Self::Aes256 => 32,
        }
    }

    pub(crate) const fn from_bytes(bytes: usize) -> Option<Self> {
        match bytes {
            16 => Some(Self::Aes128),
            24 => Some(Self::Aes192),
            32 => Some(Self::Aes256),
            _ => None,
        }
    }
}

/// A secret of both ends, 10 to 79 bytes long (§6.1.4).
#[derive(Clone, PartialEq, Eq)]
pub struct Passphrase(String);

/// Why a text is no passphrase.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("a passphrase has {MIN_LENGTH} to {MAX_LENGTH} bytes, this one has {0}")]
pub struct PassphraseError(pub usize);

impl Passphrase {
    /// # Errors
    /// [`PassphraseError`] if it is too short or too long.
    pub fn new(text: &str) -> Result<Self, PassphraseError> {
        if (MIN_LENGTH..=MAX_LENGTH).contains(&text.len()) {
            Ok(Self(text.to_owned()))
        } else {
            Err(PassphraseError(text.len()))
        }
    }

    /// The text itself, for whoever has a right to it.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// The key that wraps keys: PBKDF2 with HMAC-SHA-1 over the last 8 bytes of the salt. It costs
    /// milliseconds, and is kept.
    pub(super) fn wrapping_key(&self, salt: [u8; 16], length: usize) -> WrappingKey {
        let mut key = vec![0; length];
        pbkdf2::pbkdf2_hmac::<Sha1>(self.0.as_bytes(), &salt[8..], ROUNDS, &mut key);
        WrappingKey { salt, key }
    }
}

/// Work that a passphrase and a peer's salt ask for before a key can be unwrapped: some two
/// milliseconds of it. Do it away from the task that drives connections.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Derivation {
    passphrase: Passphrase,
    salt: [u8; 16],
    length: usize,
}

/// What a [`Derivation`] gave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DerivedKey(WrappingKey);

impl Derivation {
    pub(crate) fn new(passphrase: &Passphrase, message: &KeyMaterial) -> Self {
        Self { passphrase: passphrase.clone(), salt: message.salt, length: message.key_length }
    }

    /// Does the work.
    pub fn run(&self) -> DerivedKey {
        DerivedKey(self.passphrase.wrapping_key(self.salt, self.length))
    }
}

impl DerivedKey {
    pub(crate) fn into_wrapping(self) -> WrappingKey {
        self.0
    }
}

/// What wraps keys on their way.
#[derive(Clone, PartialEq, Eq)]
pub(crate) struct WrappingKey {
    salt: [u8; 16],
    key: Vec<u8>,
}

impl WrappingKey {
    pub(super) fn salt(&self) -> [u8; 16] {
        self.salt
    }

    /// True if it is the one that `message` was wrapped with, given the passphrase is.
    pub(crate) fn is_for(&self, message: &KeyMaterial) -> bool {
        (self.salt, self.key.len()) == (message.salt, message.key_length)
    }

    /// Wraps one key or two as RFC 3394 says.
    pub(super) fn wrap(&self, keys: &[u8]) -> Bytes {
        let wrapping_key = &self.key;
        let mut wrapped = vec![0; keys.len() + 8];
        let done = match wrapping_key.len() {
            16 => AesKw::<Aes128>::new_from_slice(wrapping_key).map(|kw| kw.wrap_key(keys, &mut wrapped).is_ok()),
            24 => AesKw::<Aes192>::new_from_slice(wrapping_key).map(|kw| kw.wrap_key(keys, &mut wrapped).is_ok()),
            _ => AesKw::<Aes256>::new_from_slice(wrapping_key).map(|kw| kw.wrap_key(keys, &mut wrapped).is_ok()),
        };
        debug_assert_eq!(done, Ok(true), "keys have whole blocks");
        wrapped.into()
    }

    /// The keys in a message.
    ///
    /// # Errors
    /// [`KeyMaterialError::Secret`] if they were wrapped with another passphrase.
    pub(super) fn unwrap(&self, message: &KeyMaterial) -> Result<Vec<u8>, KeyMaterialError> {
        let wrapping_key = &self.key;
        let mut keys = vec![0; message.wrapped.len() - 8];
        let wrapped = &message.wrapped;
        let opened = match message.key_length {
            16 => AesKw::<Aes128>::new_from_slice(wrapping_key).map(|kw| kw.unwrap_key(wrapped, &mut keys).is_ok()),
            24 => AesKw::<Aes192>::new_from_slice(wrapping_key).map(|kw| kw.unwrap_key(wrapped, &mut keys).is_ok()),
            _ => AesKw::<Aes256>::new_from_slice(wrapping_key).map(|kw| kw.unwrap_key(wrapped, &mut keys).is_ok()),
        };
        if opened == Ok(true) { Ok(keys) } else { Err(KeyMaterialError::Secret) }
    }
}

impl fmt::Debug for WrappingKey {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("WrappingKey(…)")
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Passphrase(…)")
    }
}
