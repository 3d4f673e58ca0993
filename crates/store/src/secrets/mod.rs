//! Secrets: how they are made, recognised, and kept.

mod hasher;
mod keychain;
mod password;
mod secret;

pub(crate) use hasher::Hasher;
pub use keychain::{KeyFileError, Keychain};

pub use secret::Secret;
