use bytes::Bytes;
use thiserror::Error;

use super::{KeyFlag, half_at, word_at};

/// Version 1, packet type 2 (§3.2.2).
const VERSION_AND_TYPE: u8 = 0x12;
const SIGN: u16 = 0x2029;
const FIXED_LENGTH: usize = 16;

/// The payload is an MPEG-TS over SRT, or anything else in live mode.
const STREAM_ENCAPSULATION: u8 = 2;

pub(crate) const CIPHER_CTR: u8 = 2;
/// Not in the public draft: what peers with an authenticated mode use.
pub(crate) const CIPHER_GCM: u8 = 4;
const AUTHENTICATION_NONE: u8 = 0;
const AUTHENTICATION_GCM: u8 = 1;

/// Why a key material message cannot be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum KeyMaterialError {
    /// Not a key material message of this version.
    #[error("no key material message: it begins with {0:#010x}")]
    Signature(u32),
    /// It ends too early.
    #[error("key material message of {0} bytes is cut off")]
    Cut(usize),
    /// A cipher that is not offered.
    #[error("cipher {cipher} with authentication {authentication} is not offered; AES-CTR is 2, AES-GCM is 4 with 1")]
    Cipher {
        /// Its number.
        cipher: u8,
        /// The number of its authentication.
        authentication: u8,
    },
    /// A key length that AES has not.
    #[error("a key of {0} bytes; AES has 16, 24 or 32")]
    KeyLength(usize),
    /// A salt length that is not used.
    #[error("a salt of {0} bytes; 16 are expected")]
    SaltLength(usize),
    /// It says that it holds no key.
    #[error("it holds no key")]
    NoKey,
    /// The wrap does not open.
    #[error("the keys cannot be unwrapped: another passphrase")]
    Secret,
}

/// A key material message (§3.2.2): keys for payloads, wrapped with a key made of the passphrase.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct KeyMaterial {
    pub(crate) keys: KeyFlag,
    pub(crate) is_authenticated: bool,
    pub(crate) salt: [u8; 16],
    pub(crate) key_length: usize,
    /// Eight bytes of integrity check, then one key or two.
    pub(crate) wrapped: Bytes,
}

impl KeyMaterial {
    pub(crate) fn parse(raw: &[u8]) -> Result<Self, KeyMaterialError> {
        let cut = KeyMaterialError::Cut(raw.len());
        let first = word_at(raw, 0).ok_or(cut)?;
        if raw[0] != VERSION_AND_TYPE || half_at(raw, 1) != Some(SIGN) {
            return Err(KeyMaterialError::Signature(first));
        }
        let fixed: &[u8; FIXED_LENGTH] = raw.first_chunk().ok_or(cut)?;
        let keys = KeyFlag::from_bits(fixed[3].into());
        let key_count = match keys {
            KeyFlag::Clear => return Err(KeyMaterialError::NoKey),
            KeyFlag::Even | KeyFlag::Odd => 1,
            KeyFlag::Both => 2,
        };
        let is_authenticated = match (fixed[8], fixed[9]) {
            (CIPHER_CTR, AUTHENTICATION_NONE) => false,
            (CIPHER_GCM, AUTHENTICATION_GCM) => true,
            (cipher, authentication) => return Err(KeyMaterialError::Cipher { cipher, authentication }),
        };
        let (salt_length, key_length) = (usize::from(fixed[14]) * 4, usize::from(fixed[15]) * 4);
        if salt_length != 16 {
            return Err(KeyMaterialError::SaltLength(salt_length));
        }
        if ![16, 24, 32].contains(&key_length) {
            return Err(KeyMaterialError::KeyLength(key_length));
        }
        let (salt, rest) = raw[FIXED_LENGTH..].split_first_chunk::<16>().ok_or(cut)?;
        let wrapped = rest.get(..8 + key_length * key_count).ok_or(cut)?;
        Ok(Self { keys, is_authenticated, salt: *salt, key_length, wrapped: Bytes::copy_from_slice(wrapped) })
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        out.push(VERSION_AND_TYPE);
        out.extend_from_slice(&SIGN.to_be_bytes());
        let keys = u8::try_from(self.keys.bits()).unwrap_or_default();
        let (cipher, authentication) =
            if self.is_authenticated { (CIPHER_GCM, AUTHENTICATION_GCM) } else { (CIPHER_CTR, AUTHENTICATION_NONE) };
        let key_words = u8::try_from(self.key_length / 4).unwrap_or_default();
        out.extend_from_slice(&[keys, 0, 0, 0, 0, cipher, authentication, STREAM_ENCAPSULATION, 0, 0, 0, 4, key_words]);
        out.extend_from_slice(&self.salt);
        out.extend_from_slice(&self.wrapped);
    }

    pub(crate) fn to_bytes(&self) -> Bytes {
        let mut out = Vec::with_capacity(FIXED_LENGTH + 16 + self.wrapped.len());
        self.write(&mut out);
        out.into()
    }
}

/// What an end answers that cannot use a key material message: one word.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeyMaterialState {
    NoSecret,
    BadSecret,
}

impl KeyMaterialState {
    pub(crate) fn word(self) -> u32 {
        match self {
            Self::NoSecret => 3,
            Self::BadSecret => 4,
        }
    }

    pub(crate) fn parse(raw: &[u8]) -> Option<Self> {
        match (raw.len(), word_at(raw, 0)?) {
            (4, 3) => Some(Self::NoSecret),
            (4, 4) => Some(Self::BadSecret),
            _ => None,
        }
    }
}
