use waverant_relay::{Secret, password_fault};

use crate::HouseError;

/// The longest user name that the records hold.
const MAX_NAME: usize = 64;

/// Looks at a password that somebody wants.
///
/// # Errors
/// [`HouseError::Invalid`] if it is too short, or one of those that are guessed first.
pub fn check_password(password: &Secret, name: &str) -> Result<(), HouseError> {
    password_fault(password.reveal(), name).map_or(Ok(()), |told| Err(HouseError::invalid("password", told)))
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
