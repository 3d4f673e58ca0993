//! The handshake with digests, which the specification does not describe: both sides hide an
//! HMAC-SHA-256 of their first block in it, and sign the other's in their second.

use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

use super::{BLOCK, Block};

/// Bytes of a digest.
const DIGEST: usize = 32;

/// What both sides hold the other for, as the protocol's constants have it. The first
/// [`PLAYER_NAME`] and [`SERVER_NAME`] bytes sign the first block, all of them the second.
const PLAYER_KEY: &[u8; 62] = b"Genuine Adobe Flash Player 001\xf0\xee\xc2\x4a\x80\x68\xbe\xe8\x2e\x00\xd0\xd1\x02\x9e\x7e\x57\x6e\xec\x5d\x2d\x29\x80\x6f\xab\x93\xb8\xe6\x36\xcf\xeb\x31\xae";
const SERVER_KEY: &[u8; 68] = b"Genuine Adobe Flash Media Server 001\xf0\xee\xc2\x4a\x80\x68\xbe\xe8\x2e\x00\xd0\xd1\x02\x9e\x7e\x57\x6e\xec\x5d\x2d\x29\x80\x6f\xab\x93\xb8\xe6\x36\xcf\xeb\x31\xae";
const PLAYER_NAME: usize = 30;
const SERVER_NAME: usize = 36;

/// Where the digest lies: behind the key block, or before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Scheme {
    /// The digest lies in the second half of the block.
    DigestSecond,
    /// The digest lies in the first half of the block.
    DigestFirst,
}

/// Who signs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Role {
    Client,
    Server,
}

impl Role {
    fn key(self) -> &'static [u8] {
        match self {
            Self::Client => PLAYER_KEY,
            Self::Server => SERVER_KEY,
        }
    }

    fn first_key(self) -> &'static [u8] {
        match self {
            Self::Client => &PLAYER_KEY[..PLAYER_NAME],
            Self::Server => &SERVER_KEY[..SERVER_NAME],
        }
    }
}

impl Scheme {
    /// Where the four bytes lie that tell the digest's place.
    fn pointer(self) -> usize {
        match self {
            Self::DigestSecond => 772,
            Self::DigestFirst => 8,
        }
    }

    fn digest_at(self, block: &Block) -> usize {
        let at = self.pointer();
        let sum: usize = block[at..at + 4].iter().map(|byte| usize::from(*byte)).sum();
        at + 4 + sum % 728
    }
}

/// Puts the digest of `role` into its first block.
pub(super) fn sign_first(role: Role, scheme: Scheme, block: &mut Block) {
    let at = scheme.digest_at(block);
    let digest = first_digest(role, at, block);
    block[at..at + DIGEST].copy_from_slice(&digest);
}

/// The digest in the first block of `role`, with the scheme in which it is right; none if it is
/// right in neither.
pub(super) fn find_first(role: Role, block: &Block) -> Option<(Scheme, [u8; DIGEST])> {
    [Scheme::DigestSecond, Scheme::DigestFirst].into_iter().find_map(|scheme| {
        let at = scheme.digest_at(block);
        let digest = first_digest(role, at, block);
        (block[at..at + DIGEST] == digest).then_some((scheme, digest))
    })
}

fn first_digest(role: Role, at: usize, block: &Block) -> [u8; DIGEST] {
    sign(role.first_key(), &[&block[..at], &block[at + DIGEST..]])
}

/// Puts the signature of `role` at the end of its second block, which answers the first block
/// of the peer with `digest`.
pub(super) fn sign_second(role: Role, digest: &[u8; DIGEST], block: &mut Block) {
    let signature = second_signature(role, digest, block);
    block[BLOCK - DIGEST..].copy_from_slice(&signature);
}

/// True if the second block of `role` answers our first block with `digest`.
pub(super) fn is_signed(role: Role, digest: &[u8; DIGEST], block: &Block) -> bool {
    block[BLOCK - DIGEST..] == second_signature(role, digest, block)
}

fn second_signature(role: Role, digest: &[u8; DIGEST], block: &Block) -> [u8; DIGEST] {
    sign(&sign(role.key(), &[digest]), &[&block[..BLOCK - DIGEST]])
}

fn sign(key: &[u8], parts: &[&[u8]]) -> [u8; DIGEST] {
    // HMAC takes keys of any length.
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else { return [0; DIGEST] };
    for part in parts {
        mac.update(part);
    }
    mac.finalize().into_bytes().into()
}
