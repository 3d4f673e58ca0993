//! Secrets: how they are made, recognised, and kept.

mod keychain;
mod password;
mod secret;

pub use keychain::{KeyFileError, Keychain};
pub(crate) use password::{hash_password, verify_password};
pub use secret::Secret;
