use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash};

use crate::{Secret, StoreError};

/// Hashes a password with Argon2id and a fresh salt. Costs about 20 ms and 19 MiB: call it off
/// the runtime's threads.
pub(crate) fn hash_password(password: &Secret) -> Result<String, StoreError> {
    let hash = Argon2::default().hash_password(password.reveal().as_bytes());
    hash.map(|hash| hash.to_string()).map_err(|error| StoreError::PasswordHash(error.to_string()))
}

/// True if `password` is the one that was hashed. Costs as much as hashing.
pub(crate) fn verify_password(password: &Secret, hash: &str) -> bool {
    let Ok(hash) = PasswordHash::new(hash) else { return false };
    Argon2::default().verify_password(password.reveal().as_bytes(), &hash).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_fits() {
        let hash = hash_password(&Secret::new("regatta day")).unwrap();
        assert!(hash.starts_with("$argon2id$"));
        assert!(verify_password(&Secret::new("regatta day"), &hash));
        assert!(!verify_password(&Secret::new("regatta Day"), &hash));
        assert!(!verify_password(&Secret::new(""), "not a hash"));
    }
}
