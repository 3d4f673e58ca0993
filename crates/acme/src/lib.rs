//! Has the certificate from an authority and renews it in time, over the automatic protocol of RFC 8555. The protocol is a
//! kept crate's; what is ours is what may be asked for, what lies on the disk between two steps, when it is done, and what
//! is said when it fails.

mod client;
mod fault;
mod folder;
mod keeper;
mod name;
mod order;
mod proof;
mod schedule;

pub use fault::Fault;
pub use folder::{CERTIFICATE_FILE, secret_files};
pub use keeper::{Keeper, Progress};
pub use name::{CertificateName, Directory, NoDirectory, NoName};
pub use proof::{NoProof, Proof, placeholder};

use std::path::{Path, PathBuf};

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;

/// What is wanted, and from whom.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Where the authority tells what it can do. Source: RFC 8555, 7.1.1
    pub directory: Directory,
    /// The authority of that place's own certificate (PEM); none if this machine knows it.
    pub trusted: Option<String>,
    /// What the certificate is to be for; at least one.
    pub names: Vec<CertificateName>,
    /// Where the authority may write to, as in `mailto:harbour@wexcombe.example`.
    pub contacts: Vec<String>,
    /// How it is to see that the names are ours.
    pub proof: Proof,
    /// What binds our account to one that we have there already.
    pub binding: Option<Binding>,
    /// Where account, orders and certificate are kept.
    pub folder: PathBuf,
}

impl Wanted {
    /// Where the certificate will be, with its key in the same file.
    pub fn certificate_file(&self) -> PathBuf {
        certificate_file(&self.folder)
    }
}

fn certificate_file(folder: &Path) -> PathBuf {
    folder.join(CERTIFICATE_FILE)
}

/// The bytes of a key as authorities give it, in base64 for addresses (RFC 4648, 5); none if it is something else.
pub fn binding_key(text: &str) -> Option<Vec<u8>> {
    let key = BASE64_URL_SAFE_NO_PAD.decode(text.trim().trim_end_matches('=')).ok()?;
    (!key.is_empty()).then_some(key)
}

/// An account that one has with an authority outside this protocol.
///
/// Source: RFC 8555, 7.3.4
#[derive(Clone)]
pub struct Binding {
    /// Its name there.
    pub id: String,
    /// Its key, as bytes.
    pub key: Vec<u8>,
}

impl std::fmt::Debug for Binding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Binding").field("id", &self.id).finish_non_exhaustive()
    }
}
