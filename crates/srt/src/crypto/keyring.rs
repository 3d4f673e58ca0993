use std::fmt;

use bytes::Bytes;

use super::stream_key::StreamKey;
use super::{KeyLength, Passphrase, WrappingKey};
use crate::number::SeqNumber;
use crate::randomness::Randomness;
use crate::wire::{KeyFlag, KeyMaterial, KeyMaterialError};

/// The keys that one direction is decrypted with: an even one and an odd one.
#[derive(Clone, Default)]
pub(crate) struct KeyRing {
    even: Option<(StreamKey, [u8; 16])>,
    odd: Option<(StreamKey, [u8; 16])>,
}

impl KeyRing {
    /// Takes the keys of a message. `known` is used if it fits, and replaced if it does not.
    ///
    /// # Errors
    /// [`KeyMaterialError`] if it cannot be unwrapped; the keys stay as they are.
    pub(crate) fn take(
        &mut self,
        passphrase: &Passphrase,
        known: &mut Option<WrappingKey>,
        message: &KeyMaterial,
    ) -> Result<(), KeyMaterialError> {
        let wrapping = match known.take().filter(|known| known.is_for(message)) {
            Some(known) => known,
            None => passphrase.wrapping_key(message.salt, message.key_length),
        };
        let raw = known.insert(wrapping).unwrap(message)?;
        let (first, second) = raw.split_at(message.key_length);
        let place = |key: &[u8]| StreamKey::new(key, message.is_authenticated).map(|key| (key, message.salt));
        match message.keys {
            KeyFlag::Odd => self.odd = place(first),
            KeyFlag::Both => (self.even, self.odd) = (place(first), place(second)),
            _ => self.even = place(first),
        }
        Ok(())
    }

    /// Decrypts `payload` in its place; returns the length of what is in clear, or None if the
    /// key is not there or the payload was changed on its way.
    pub(crate) fn open(&self, flag: KeyFlag, seq: SeqNumber, header: &[u8], payload: &mut [u8]) -> Option<usize> {
        let (key, salt) = match flag {
            KeyFlag::Clear | KeyFlag::Both => return None,
            KeyFlag::Even => self.even.as_ref(),
            KeyFlag::Odd => self.odd.as_ref(),
        }?;
        key.open(salt, seq, header, payload)
    }
}

impl fmt::Debug for KeyRing {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { even, odd } = self;
        out.debug_struct("KeyRing").field("even", &even.is_some()).field("odd", &odd.is_some()).finish()
    }
}

/// The keys that one direction is encrypted with, made new from time to time (§6.1.6).
#[derive(Clone)]
pub(crate) struct Sealer {
    wrapping: WrappingKey,
    length: KeyLength,
    is_authenticated: bool,
    flag: KeyFlag,
    key: StreamKey,
    raw: Vec<u8>,
    /// The next key, with its raw bytes, once it is announced.
    next: Option<(StreamKey, Vec<u8>)>,
}

impl Sealer {
    /// Makes a first key.
    pub(crate) fn new(
        passphrase: &Passphrase,
        length: KeyLength,
        is_authenticated: bool,
        random: &mut Randomness,
    ) -> Option<Self> {
        let (salt, raw) = (random.array(), random.bytes(length.bytes()));
        let key = StreamKey::new(&raw, is_authenticated)?;
        let wrapping = passphrase.wrapping_key(salt, length.bytes());
        Some(Self { wrapping, length, is_authenticated, flag: KeyFlag::Even, key, raw, next: None })
    }

    /// Takes up the key that the other end made: both directions begin with it.
    ///
    /// # Errors
    /// [`KeyMaterialError`] if it cannot be unwrapped.
    pub(crate) fn adopt(wrapping: WrappingKey, message: &KeyMaterial) -> Result<Self, KeyMaterialError> {
        let mut raw = wrapping.unwrap(message)?;
        raw.truncate(message.key_length);
        let length =
            KeyLength::from_bytes(message.key_length).ok_or(KeyMaterialError::KeyLength(message.key_length))?;
        let is_authenticated = message.is_authenticated;
        let key = StreamKey::new(&raw, is_authenticated).ok_or(KeyMaterialError::KeyLength(message.key_length))?;
        let flag = if message.keys == KeyFlag::Odd { KeyFlag::Odd } else { KeyFlag::Even };
        Ok(Self { wrapping, length, is_authenticated, flag, key, raw, next: None })
    }

    pub(crate) fn is_authenticated(&self) -> bool {
        self.is_authenticated
    }

    /// What its keys are wrapped with.
    pub(crate) fn wrapping(&self) -> &WrappingKey {
        &self.wrapping
    }

    /// The key that is in use.
    pub(crate) fn flag(&self) -> KeyFlag {
        self.flag
    }

    /// The message that tells the other end the key in use.
    pub(crate) fn message(&self) -> KeyMaterial {
        self.wrapped(self.flag, &self.raw)
    }

    /// Makes the next key. The message tells it together with the one in use.
    pub(crate) fn prepare_next(&mut self, random: &mut Randomness) -> Option<Bytes> {
        let raw = random.bytes(self.length.bytes());
        let key = StreamKey::new(&raw, self.is_authenticated)?;
        let in_order = if self.flag == KeyFlag::Even { [&self.raw[..], &raw[..]] } else { [&raw[..], &self.raw[..]] };
        let message = self.wrapped(KeyFlag::Both, &in_order.concat());
        self.next = Some((key, raw));
        Some(message.to_bytes())
    }

    /// Goes over to the next key, if one was prepared.
    pub(crate) fn switch(&mut self) {
        if let Some((key, raw)) = self.next.take() {
            (self.key, self.raw) = (key, raw);
            self.flag = if self.flag == KeyFlag::Even { KeyFlag::Odd } else { KeyFlag::Even };
        }
    }

    /// Encrypts `out` from `start` on.
    pub(crate) fn seal(&self, seq: SeqNumber, header: &[u8], out: &mut Vec<u8>, start: usize) {
        self.key.seal(&self.wrapping.salt(), seq, header, out, start);
    }

    fn wrapped(&self, keys: KeyFlag, raw: &[u8]) -> KeyMaterial {
        let wrapped = self.wrapping.wrap(raw);
        let (is_authenticated, salt, key_length) = (self.is_authenticated, self.wrapping.salt(), self.length.bytes());
        KeyMaterial { keys, is_authenticated, salt, key_length, wrapped }
    }
}

impl fmt::Debug for Sealer {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("Sealer").field("length", &self.length).field("flag", &self.flag).finish_non_exhaustive()
    }
}
