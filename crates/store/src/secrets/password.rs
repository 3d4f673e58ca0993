use argon2::password_hash::{PasswordHasher, phc::PasswordHash};
use argon2::{Algorithm, Argon2, Block, Params, Version};

use waverant_relay::Secret;

use crate::StoreError;

/// Hashes a password with Argon2id and a fresh salt. Costs about 20 ms and 19 MiB: call it off
/// the runtime's threads.
pub(crate) fn hash_password(password: &Secret) -> Result<String, StoreError> {
    let hash = Argon2::default().hash_password(password.reveal().as_bytes());
    hash.map(|hash| hash.to_string()).map_err(|error| StoreError::PasswordHash(error.to_string()))
}

/// More memory than this is not taken for a hash, whatever it asks for: 64 MiB.
const MAX_BLOCKS: usize = 64 * 1024;

/// True if `password` is the one that was hashed. Costs as much as hashing; the memory is taken
/// from `memory`, which grows to what is needed.
pub(crate) fn verify_password(password: &Secret, hash: &str, memory: &mut Vec<Block>) -> bool {
    try_verify(password, hash, memory).unwrap_or(false)
}

fn try_verify(password: &Secret, hash: &str, memory: &mut Vec<Block>) -> Option<bool> {
    let hash = PasswordHash::new(hash).ok()?;
    let (salt, expected) = (hash.salt?, hash.hash?);
    let algorithm = Algorithm::try_from(hash.algorithm.as_str()).ok()?;
    let version = hash.version.map_or(Ok(Version::default()), Version::try_from).ok()?;
    let argon = Argon2::new(algorithm, version, Params::try_from(&hash).ok()?);
    let blocks = argon.params().block_count();
    if blocks > MAX_BLOCKS {
        return None;
    }
    if memory.len() < blocks {
        memory.resize(blocks, Block::default());
    }
    let mut found = vec![0; expected.as_ref().len()];
    argon.hash_password_into_with_memory(password.reveal().as_bytes(), salt.as_ref(), &mut found, memory).ok()?;
    Some(found.iter().zip(expected.as_ref()).fold(0, |difference, (a, b)| difference | (a ^ b)) == 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_fits() {
        let hash = hash_password(&Secret::new("regatta day")).unwrap();
        assert!(hash.starts_with("$argon2id$"));
        let mut memory = Vec::new();
        assert!(verify_password(&Secret::new("regatta day"), &hash, &mut memory));
        assert!(!verify_password(&Secret::new("regatta Day"), &hash, &mut memory));
        assert!(verify_password(&Secret::new("regatta day"), &hash, &mut memory), "in memory that was used");
        assert!(!verify_password(&Secret::new(""), "not a hash", &mut memory));
        assert!(!verify_password(
            &Secret::new("x"),
            "$argon2id$v=19$m=4000000,t=2,p=1$c29tZSBzYWx0$AAAAAAAA",
            &mut memory
        ));
    }
}
