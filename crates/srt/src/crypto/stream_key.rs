use aes::cipher::consts::U16;
use aes::cipher::{BlockCipherEncrypt, InnerIvInit, StreamCipher, StreamCipherCoreWrapper};
use aes::{Aes128, Aes192, Aes256};
use aes_gcm::aead::AeadInOut;
use aes_gcm::aead::consts::U12;
use aes_gcm::{AesGcm, KeyInit};
use ctr::CtrCore;
use ctr::flavors::Ctr32BE;

use crate::number::SeqNumber;

/// Bytes behind a payload that was encrypted with authentication.
pub(crate) const TAG_LENGTH: usize = 16;

/// A key that is ready to work.
#[derive(Clone)]
pub(super) enum StreamKey {
    Ctr128(Box<Aes128>),
    Ctr192(Box<Aes192>),
    Ctr256(Box<Aes256>),
    Gcm128(Box<AesGcm<Aes128, U12>>),
    Gcm192(Box<AesGcm<Aes192, U12>>),
    Gcm256(Box<AesGcm<Aes256, U12>>),
}

impl StreamKey {
    /// None if AES has no keys of this length.
    pub(super) fn new(key: &[u8], is_authenticated: bool) -> Option<Self> {
        Some(match (key.len(), is_authenticated) {
            (16, false) => Self::Ctr128(Box::new(Aes128::new_from_slice(key).ok()?)),
            (24, false) => Self::Ctr192(Box::new(Aes192::new_from_slice(key).ok()?)),
            (32, false) => Self::Ctr256(Box::new(Aes256::new_from_slice(key).ok()?)),
            (16, true) => Self::Gcm128(Box::new(AesGcm::new_from_slice(key).ok()?)),
            (24, true) => Self::Gcm192(Box::new(AesGcm::new_from_slice(key).ok()?)),
            (32, true) => Self::Gcm256(Box::new(AesGcm::new_from_slice(key).ok()?)),
            _ => return None,
        })
    }

    /// Encrypts `out` from `start` to its end, and adds the tag if the mode has one.
    pub(super) fn seal(&self, salt: &[u8; 16], seq: SeqNumber, header: &[u8], out: &mut Vec<u8>, start: usize) {
        let Some(tag) = self.seal_in_place(salt, seq, header, &mut out[start..]) else { return };
        out.extend_from_slice(&tag);
    }

    fn seal_in_place(
        &self,
        salt: &[u8; 16],
        seq: SeqNumber,
        header: &[u8],
        payload: &mut [u8],
    ) -> Option<[u8; TAG_LENGTH]> {
        let nonce = nonce(salt, seq);
        let tag = match self {
            Self::Gcm128(key) => key.encrypt_inout_detached(&nonce.into(), header, payload.into()),
            Self::Gcm192(key) => key.encrypt_inout_detached(&nonce.into(), header, payload.into()),
            Self::Gcm256(key) => key.encrypt_inout_detached(&nonce.into(), header, payload.into()),
            _ => {
                self.apply_counter_mode(salt, seq, payload);
                return None;
            }
        };
        // Fails for gigabytes only.
        tag.ok().map(Into::into)
    }

    /// Decrypts `payload` in its place. Returns the length of what is in clear.
    pub(super) fn open(&self, salt: &[u8; 16], seq: SeqNumber, header: &[u8], payload: &mut [u8]) -> Option<usize> {
        let nonce = nonce(salt, seq);
        let Some(length) = self.clear_length(payload.len()) else {
            self.apply_counter_mode(salt, seq, payload);
            return Some(payload.len());
        };
        let (body, tag) = payload.split_at_mut(length?);
        let tag: [u8; TAG_LENGTH] = (&*tag).try_into().ok()?;
        let opened = match self {
            Self::Gcm128(key) => key.decrypt_inout_detached(&nonce.into(), header, (&mut *body).into(), &tag.into()),
            Self::Gcm192(key) => key.decrypt_inout_detached(&nonce.into(), header, (&mut *body).into(), &tag.into()),
            Self::Gcm256(key) => key.decrypt_inout_detached(&nonce.into(), header, (&mut *body).into(), &tag.into()),
            _ => return None,
        };
        opened.ok().map(|()| body.len())
    }

    /// What is left without the tag: None in a mode without tags, Some(None) if it is too short.
    fn clear_length(&self, length: usize) -> Option<Option<usize>> {
        let is_authenticated = matches!(self, Self::Gcm128(_) | Self::Gcm192(_) | Self::Gcm256(_));
        is_authenticated.then(|| length.checked_sub(TAG_LENGTH))
    }

    fn apply_counter_mode(&self, salt: &[u8; 16], seq: SeqNumber, payload: &mut [u8]) {
        let block = counter_block(salt, seq);
        match self {
            Self::Ctr128(key) => counter_mode(&**key, &block, payload),
            Self::Ctr192(key) => counter_mode(&**key, &block, payload),
            Self::Ctr256(key) => counter_mode(&**key, &block, payload),
            _ => {}
        }
    }
}

fn counter_mode<C: BlockCipherEncrypt<BlockSize = U16>>(key: &C, block: &[u8; 16], payload: &mut [u8]) {
    let core = CtrCore::<&C, Ctr32BE>::inner_iv_init(key, block.into());
    StreamCipherCoreWrapper::from_core(core).apply_keystream(payload);
}

/// The first counter block: the upper 112 bits of the salt, the packet's number over the last
/// four bytes of them, and 16 bits that count blocks (§6.2.2).
pub(super) fn counter_block(salt: &[u8; 16], seq: SeqNumber) -> [u8; 16] {
    let mut block = *salt;
    for (byte, number) in block[10..14].iter_mut().zip(seq.get().to_be_bytes()) {
        *byte ^= number;
    }
    block[14] = 0;
    block[15] = 0;
    block
}

/// The nonce of the authenticated mode: the upper 96 bits of the salt, the packet's number over
/// the last four bytes of them.
fn nonce(salt: &[u8; 16], seq: SeqNumber) -> [u8; 12] {
    let mut nonce = [0; 12];
    nonce.copy_from_slice(&salt[..12]);
    for (byte, number) in nonce[8..].iter_mut().zip(seq.get().to_be_bytes()) {
        *byte ^= number;
    }
    nonce
}
