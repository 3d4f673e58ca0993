use waverant_relay::Secret;

use crate::HouseError;

/// The shortest password; NIST SP 800-63B asks for at least 8.
const MIN_PASSWORD: usize = 10;

/// The longest user name that the records hold.
const MAX_NAME: usize = 64;

/// Looks at a password that somebody wants.
///
/// # Errors
/// [`HouseError::Invalid`] if it is too short.
pub fn check_password(password: &Secret) -> Result<(), HouseError> {
    let length = password.reveal().chars().count();
    if length < MIN_PASSWORD {
        let told = format!("the password has {length} characters, at least {MIN_PASSWORD} are needed");
        return Err(HouseError::invalid("password", told));
    }
    Ok(())
}

/// Looks at a user name that somebody wants.
///
/// # Errors
/// [`HouseError::Invalid`] if it is none.
pub fn check_user_name(name: &str) -> Result<(), HouseError> {
    let length = name.chars().count();
    if length == 0 || length > MAX_NAME || name.trim() != name {
        let told = format!("a user name has 1 to {MAX_NAME} characters and no space at its ends");
        return Err(HouseError::invalid("name", told));
    }
    Ok(())
}
