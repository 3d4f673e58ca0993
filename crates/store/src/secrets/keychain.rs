use std::fs::{self, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use chacha20poly1305::aead::{Aead, KeyInit};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac};
use rand::RngExt;
use sha2::Sha256;
use thiserror::Error;
use zeroize::Zeroizing;

use super::made::{salt_like, signature};
use waverant_relay::Secret;

use crate::StoreError;

/// Name of the file in the state folder.
const FILE_NAME: &str = "secrets.key";

/// Name of the file that is to follow it.
const SUCCESSOR_NAME: &str = "secrets.key.next";

const KEY_LENGTH: usize = 32;
const NONCE_LENGTH: usize = 24;

/// Why the key file could not be used.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum KeyFileError {
    /// It could not be read or made.
    #[error("key file {}: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// It holds something else.
    #[error("key file {}: 64 hexadecimal digits were expected; restore it from a backup", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
    },
}

/// The keys under which secrets are recognised and sealed, derived from one file in the state
/// folder.
///
/// Long random secrets (stream keys, tokens) are kept as HMAC-SHA-256 and so can be recognised
/// but not read back. Secrets that we must show to others (destination keys) are sealed with
/// XChaCha20-Poly1305.
#[derive(Clone)]
pub struct Keychain {
    fingerprint: [u8; 32],
    digest_key: Zeroizing<[u8; KEY_LENGTH]>,
    signing_key: Zeroizing<[u8; KEY_LENGTH]>,
    cipher: XChaCha20Poly1305,
}

impl std::fmt::Debug for Keychain {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Keychain(…)")
    }
}

impl Keychain {
    /// Opens the key file in `state_folder`, or makes it, readable by its owner only.
    ///
    /// # Errors
    /// [`KeyFileError`] if the file cannot be read, made, or is damaged.
    pub fn open(state_folder: &Path) -> Result<Self, KeyFileError> {
        Self::read_or_make(&state_folder.join(FILE_NAME), None)
    }

    /// The keychain that is to follow this one, from a file beside the other, which is made if there is none: everything
    /// is sealed anew under it. What is only recognised stays as it is: nobody could make those digests anew.
    ///
    /// # Errors
    /// [`KeyFileError`] if the file cannot be read, made, or is damaged.
    pub fn successor(&self, state_folder: &Path) -> Result<Self, KeyFileError> {
        Self::read_or_make(&state_folder.join(SUCCESSOR_NAME), Some(&self.digest_key))
    }

    /// The successor that an interrupted change of the key left, if it did.
    ///
    /// # Errors
    /// [`KeyFileError`] if the file cannot be read, or is damaged.
    pub fn begun_successor(state_folder: &Path) -> Result<Option<Self>, KeyFileError> {
        let path = state_folder.join(SUCCESSOR_NAME);
        if path.exists() { Self::read_or_make(&path, None).map(Some) } else { Ok(None) }
    }

    /// Puts the successor's file in the place of the other, which is gone then.
    ///
    /// # Errors
    /// [`KeyFileError`] if it cannot be moved.
    pub fn install_successor(state_folder: &Path) -> Result<(), KeyFileError> {
        let path = state_folder.join(FILE_NAME);
        let moved = fs::rename(state_folder.join(SUCCESSOR_NAME), &path);
        let kept = moved.and_then(|()| fs::File::open(state_folder)?.sync_all());
        kept.map_err(|source| KeyFileError::Io { path, source })
    }

    /// The first line of a key file is the root; a second one is what digests are made with, if that is of another root.
    fn read_or_make(path: &Path, digest_key: Option<&[u8; KEY_LENGTH]>) -> Result<Self, KeyFileError> {
        let failed = |source| KeyFileError::Io { path: path.to_owned(), source };
        let text = match fs::read_to_string(path) {
            Ok(text) => Zeroizing::new(text),
            Err(error) if error.kind() == ErrorKind::NotFound => make_file(path, digest_key).map_err(failed)?,
            Err(error) => return Err(failed(error)),
        };
        let keys: Option<Vec<_>> = text.split_whitespace().map(decode_hex).collect();
        match keys.as_deref() {
            Some([root]) => Ok(Self::from_root(root, None)),
            Some([root, digest_key]) => Ok(Self::from_root(root, Some(*digest_key))),
            _ => Err(KeyFileError::Damaged { path: path.to_owned() }),
        }
    }

    fn from_root(root: &[u8; KEY_LENGTH], digest_key: Option<[u8; KEY_LENGTH]>) -> Self {
        let own_digest_key = keyed_hash(root, &[b"recognise"]);
        let seal_key = keyed_hash(root, &[b"seal"]);
        Self {
            fingerprint: keyed_hash(&own_digest_key, &[b"fingerprint of the key file"]),
            digest_key: Zeroizing::new(digest_key.unwrap_or(own_digest_key)),
            signing_key: Zeroizing::new(keyed_hash(root, &[b"sign"])),
            cipher: XChaCha20Poly1305::new(&Key::from(seal_key)),
        }
    }

    /// A salt for a user who is not known: always the same, and told from a real one by nothing.
    pub fn salt_for_nobody(&self, user: &str) -> String {
        salt_like(&self.digest(&format!("salt of {user}")))
    }

    /// The keyed hash under which a stream key or token is kept.
    pub fn digest(&self, secret: &str) -> [u8; 32] {
        keyed_hash(&*self.digest_key, &[secret.as_bytes()])
    }

    /// A signature of `text` that only this key file makes, of letters and digits.
    pub(crate) fn sign(&self, text: &str) -> String {
        signature(&keyed_hash(&*self.signing_key, &[text.as_bytes()]))
    }

    /// A fingerprint by which a database knows its key file.
    pub(crate) fn fingerprint(&self) -> [u8; 32] {
        self.fingerprint
    }

    /// Seals a secret so that it can be read with `token` alone besides: this key file does not open it without.
    pub(crate) fn seal_under(&self, token: &Secret, secret: &Secret) -> Result<Vec<u8>, StoreError> {
        let nonce: [u8; NONCE_LENGTH] = rand::rng().random();
        let sealed = cipher_of(token).encrypt(&XNonce::from(nonce), secret.reveal().as_bytes());
        let sealed = [&nonce[..], &sealed.map_err(|_| StoreError::Unsealable)?].concat();
        self.seal(&Secret::new(sealed.iter().map(|byte| format!("{byte:02x}")).collect::<String>()))
    }

    /// Opens what [`seal_under`](Self::seal_under) made.
    pub(crate) fn unseal_under(&self, token: &Secret, sealed: &[u8]) -> Result<Secret, StoreError> {
        let inner = self.unseal(sealed)?;
        let digits = inner.reveal().as_bytes().chunks(2);
        let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
        let inner = digits.map(byte).collect::<Option<Vec<u8>>>().ok_or(StoreError::Unsealable)?;
        let (nonce, sealed) = inner.split_first_chunk::<NONCE_LENGTH>().ok_or(StoreError::Unsealable)?;
        let opened = cipher_of(token).decrypt(&XNonce::from(*nonce), sealed).map_err(|_| StoreError::Unsealable)?;
        String::from_utf8(opened).map(Secret::new).map_err(|_| StoreError::Unsealable)
    }

    /// Seals a secret: nonce, then cipher text and tag.
    pub(crate) fn seal(&self, secret: &Secret) -> Result<Vec<u8>, StoreError> {
        let nonce: [u8; NONCE_LENGTH] = rand::rng().random();
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), secret.reveal().as_bytes());
        let sealed = sealed.map_err(|_| StoreError::Unsealable)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens what [`seal`](Self::seal) made.
    pub(crate) fn unseal(&self, sealed: &[u8]) -> Result<Secret, StoreError> {
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE_LENGTH>().ok_or(StoreError::Unsealable)?;
        let opened = self.cipher.decrypt(&XNonce::from(*nonce), sealed).map_err(|_| StoreError::Unsealable)?;
        String::from_utf8(opened).map(Secret::new).map_err(|_| StoreError::Unsealable)
    }
}

/// A token is as random as a key is.
fn cipher_of(token: &Secret) -> XChaCha20Poly1305 {
    XChaCha20Poly1305::new(&Key::from(keyed_hash(token.reveal().as_bytes(), &[b"seal for a guest"])))
}

fn keyed_hash(key: &[u8], parts: &[&[u8]]) -> [u8; 32] {
    // HMAC takes keys of any length.
    let Ok(mut mac) = <Hmac<Sha256> as KeyInit>::new_from_slice(key) else { return [0; 32] };
    for part in parts {
        mac.update(part);
    }
    mac.finalize().into_bytes().into()
}

fn make_file(path: &Path, digest_key: Option<&[u8; KEY_LENGTH]>) -> std::io::Result<Zeroizing<String>> {
    let root: [u8; KEY_LENGTH] = rand::rng().random();
    let line = |key: &[u8; KEY_LENGTH]| key.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let text = Zeroizing::new(std::iter::once(&root).chain(digest_key).map(line).collect::<Vec<_>>().join("\n"));
    // A file that is there in part would be damaged for ever.
    let fresh = path.with_extension("fresh");
    let _ = fs::remove_file(&fresh);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&fresh)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&fresh, path)?;
    Ok(text)
}

fn decode_hex(text: &str) -> Option<[u8; KEY_LENGTH]> {
    if text.len() != 2 * KEY_LENGTH || !text.is_ascii() {
        return None;
    }
    let mut out = [0; KEY_LENGTH];
    for (at, byte) in out.iter_mut().enumerate() {
        *byte = u8::from_str_radix(text.get(2 * at..2 * at + 2)?, 16).ok()?;
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_user_who_is_not_known_gets_a_salt_that_looks_like_any() {
        let keychain = Keychain::from_root(&[7; KEY_LENGTH], None);
        let (fake, real) = (keychain.salt_for_nobody("nobody1"), crate::new_salt());
        assert_eq!(fake, keychain.salt_for_nobody("nobody1"), "always the same");
        assert_ne!(fake, keychain.salt_for_nobody("nobody2"));
        let looks = |salt: &str| {
            salt.len() == 12 && salt.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit())
        };
        assert!(looks(&fake) && looks(&real), "{fake} {real}");
    }

    #[test]
    fn the_file_is_made_once_and_private() {
        let folder = tempfile::tempdir().unwrap();
        let first = Keychain::open(folder.path()).unwrap();
        let again = Keychain::open(folder.path()).unwrap();
        assert_eq!(first.digest("abc"), again.digest("abc"));
        let mode = fs::metadata(folder.path().join(FILE_NAME)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }

    #[test]
    fn sealed_secrets_open_only_with_their_key() {
        let (one, other) = (Keychain::from_root(&[1; 32], None), Keychain::from_root(&[2; 32], None));
        let sealed = one.seal(&Secret::new("quay-key")).unwrap();
        assert!(!sealed.windows(8).any(|window| window == b"quay-key"));
        assert_eq!(one.unseal(&sealed).unwrap().reveal(), "quay-key");
        assert!(matches!(other.unseal(&sealed), Err(StoreError::Unsealable)));
        assert!(matches!(one.unseal(&sealed[..20]), Err(StoreError::Unsealable)));
    }

    #[test]
    fn what_is_sealed_under_a_token_needs_both() {
        let (one, other) = (Keychain::from_root(&[1; 32], None), Keychain::from_root(&[2; 32], None));
        let (token, wrong) = (Secret::new("guest-1"), Secret::new("guest-2"));
        let sealed = one.seal_under(&token, &Secret::new("quay-key")).unwrap();
        assert_eq!(one.unseal_under(&token, &sealed).unwrap().reveal(), "quay-key");
        assert!(matches!(one.unseal_under(&wrong, &sealed), Err(StoreError::Unsealable)));
        assert!(matches!(other.unseal_under(&token, &sealed), Err(StoreError::Unsealable)));
        let plain = one.seal(&Secret::new("odd")).unwrap();
        assert!(matches!(one.unseal_under(&token, &plain), Err(StoreError::Unsealable)));
    }

    #[test]
    fn signatures_are_of_this_key_file_and_this_text() {
        let (one, other) = (Keychain::from_root(&[1; 32], None), Keychain::from_root(&[2; 32], None));
        assert_eq!(one.sign("link 7"), one.sign("link 7"));
        assert!(one.sign("link 7") != one.sign("link 8") && one.sign("link 7") != other.sign("link 7"));
        let is_plain = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit();
        assert!(one.sign("link 7").len() == 26 && one.sign("link 7").bytes().all(is_plain));
    }

    #[test]
    fn a_damaged_file_is_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(FILE_NAME), "oops").unwrap();
        assert!(matches!(Keychain::open(folder.path()), Err(KeyFileError::Damaged { .. })));
        assert_eq!(fs::read_to_string(folder.path().join(FILE_NAME)).unwrap(), "oops");
    }

    #[test]
    fn a_successor_seals_anew_and_recognises_what_was_known() {
        let folder = tempfile::tempdir().unwrap();
        let first = Keychain::open(folder.path()).unwrap();
        assert!(Keychain::begun_successor(folder.path()).unwrap().is_none());
        let second = first.successor(folder.path()).unwrap();
        let resumed = first.successor(folder.path()).unwrap();
        assert_eq!(second.fingerprint(), resumed.fingerprint(), "an interrupted change goes on with the same key");
        assert_eq!(first.digest("wvt-1"), second.digest("wvt-1"));
        assert_ne!((first.fingerprint(), first.sign("x")), (second.fingerprint(), second.sign("x")));
        let sealed = second.seal(&Secret::new("quay-key")).unwrap();
        assert!(matches!(first.unseal(&sealed), Err(StoreError::Unsealable)));
        let begun = Keychain::begun_successor(folder.path()).unwrap().unwrap();
        assert_eq!(begun.unseal(&sealed).unwrap().reveal(), "quay-key");
        Keychain::install_successor(folder.path()).unwrap();
        let third = Keychain::open(folder.path()).unwrap().successor(folder.path()).unwrap();
        assert_eq!(first.digest("wvt-1"), third.digest("wvt-1"), "and so on");
        assert!(fs::metadata(folder.path().join(SUCCESSOR_NAME)).unwrap().permissions().mode() & 0o77 == 0);
    }
}
