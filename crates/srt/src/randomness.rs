use std::fmt;

use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

/// Random bytes drawn from one seed: HMAC-SHA-256 over a counter.
#[derive(Clone)]
pub struct Randomness {
    seed: [u8; 32],
    counter: u64,
}

impl Randomness {
    /// The seed must come from the operating system, and be used once.
    pub fn new(seed: [u8; 32]) -> Self {
        Self { seed, counter: 0 }
    }

    /// A seed for another use.
    pub fn seed(&mut self) -> [u8; 32] {
        self.counter += 1;
        keyed_hash(&self.seed, &[&self.counter.to_be_bytes()])
    }

    pub(crate) fn word(&mut self) -> u32 {
        u32::from_be_bytes(self.array())
    }

    pub(crate) fn array<const LENGTH: usize>(&mut self) -> [u8; LENGTH] {
        let mut array = [0; LENGTH];
        for piece in array.chunks_mut(32) {
            piece.copy_from_slice(&self.seed()[..piece.len()]);
        }
        array
    }

    pub(crate) fn bytes(&mut self, length: usize) -> Vec<u8> {
        let mut bytes = self.array::<32>().to_vec();
        bytes.truncate(length);
        bytes
    }
}

impl fmt::Debug for Randomness {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Randomness(…)")
    }
}

/// HMAC-SHA-256 over `parts`, one behind the other.
pub(crate) fn keyed_hash(key: &[u8; 32], parts: &[&[u8]]) -> [u8; 32] {
    // A short key is filled up with zeros to the block of the hash (RFC 2104).
    let mut block = [0; 64];
    block[..32].copy_from_slice(key);
    let mut mac = Hmac::<Sha256>::new(&block.into());
    for part in parts {
        mac.update(part);
    }
    mac.finalize().into_bytes().into()
}
