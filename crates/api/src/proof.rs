//! What proves who somebody is: password and second factor, looked at without letting anybody guess them.

use std::net::{IpAddr, SocketAddr};
use std::time::Instant;

use time::OffsetDateTime;
use waverant_model::{Hidden, PasskeyProof, PresentPassword};
use waverant_net::caller_of;
use waverant_relay::Secret;
use waverant_store::{Turn, User};

use crate::passkeys::is_proven;
use crate::{ApiError, ApiState};

/// What a stolen sign-in does not know: password, and second factor if there is one.
pub(crate) async fn require_all(
    state: &ApiState,
    peer: SocketAddr,
    user: &User,
    form: PresentPassword,
) -> Result<(), ApiError> {
    require_password(state, peer, user, &form.password).await?;
    require_second_factor(state, user, (form.second_factor, form.passkey)).await
}

/// Asks for the second factor of who has one. Wrong ones are counted by person, wherever they come from.
pub(crate) async fn require_second_factor(
    state: &ApiState,
    user: &User,
    (code, passkey): (Option<Hidden>, Option<PasskeyProof>),
) -> Result<(), ApiError> {
    if !user.has_second_factor {
        return Ok(());
    }
    let code = code.filter(|code| !code.reveal().trim().is_empty());
    if code.is_none() && passkey.is_none() {
        return Err(ApiError::SecondFactorNeeded);
    }
    count_code(state, user)?;
    let passed = match (passkey, code) {
        (Some(passkey), _) => is_proven(state, user, passkey).await,
        (None, code) => {
            let code = Secret::new(code.unwrap_or_default().reveal());
            let store = state.house.store();
            store.pass_second_factor(user, &code, OffsetDateTime::now_utc()).await.map_err(ApiError::from)
        }
    };
    let is_right = passed.inspect_err(|_| state.guesses.lock().forgive_code(user.id))?;
    if !is_right {
        tracing::warn!(person = user.name, "a wrong code of a second factor, after the right password");
        return Err(ApiError::WrongSecondFactor);
    }
    state.guesses.lock().forgive_code(user.id);
    Ok(())
}

pub(crate) fn count_code(state: &ApiState, user: &User) -> Result<(), ApiError> {
    match state.guesses.lock().try_code(Instant::now(), user.id) {
        Some(wait) => Err(ApiError::SlowDown(wait)),
        None => Ok(()),
    }
}

/// Asks for the password of who is signed in: who holds a token is not to do everything by it, and not to find the
/// password by trying.
async fn require_password(state: &ApiState, peer: SocketAddr, user: &User, password: &Hidden) -> Result<(), ApiError> {
    let (address, name) = (caller_of(peer.ip()), user.name.as_str());
    count_guess(state, address, name)?;
    let is_right = state.house.store().is_password_of(user.id, &Secret::new(password.reveal())).await;
    if !is_right.inspect_err(|_| state.guesses.lock().forgive(address, name))? {
        return Err(ApiError::invalid("password", "it is not the present password"));
    }
    state.guesses.lock().right(address, name);
    Ok(())
}

/// Counts a password as wrong before it is looked at, so that many at once are no way around it; or says how long to
/// wait. Who guessed wrong before comes after all others.
pub(crate) fn count_guess(state: &ApiState, address: IpAddr, name: &str) -> Result<Turn, ApiError> {
    let (mut guesses, now) = (state.guesses.lock(), Instant::now());
    match guesses.must_wait(now, address, name) {
        Some(wait) => Err(ApiError::SlowDown(wait)),
        None => {
            let turn = if guesses.has_guessed(now, address, name) { Turn::Last } else { Turn::First };
            guesses.wrong(now, address, name);
            Ok(turn)
        }
    }
}
