//! Secrets: how they are made, recognised, and kept.

mod hasher;
mod keychain;
mod made;
mod password;

pub(crate) use hasher::Hasher;
pub use hasher::Turn;
pub use keychain::{KeyFileError, Keychain};
pub use made::{new_call_id, new_one_time_code, new_passphrase, new_salt};
pub(crate) use made::{
    new_database_password, new_guest_token, new_key_name, new_stream_key, new_time_code_key, new_token,
};
