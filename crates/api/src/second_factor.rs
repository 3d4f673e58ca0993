//! The second factor: set up, asked for, taken away.

use std::net::SocketAddr;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::StatusCode;
use time::OffsetDateTime;
use waverant_model::{AuthenticatorCode, AuthenticatorKey, PresentPassword, RecoveryCodes, SecondFactor};
use waverant_relay::{Secret, needs_second_factor};

use crate::input::Body;
use crate::passkeys::told as told_passkey;
use crate::proof::{count_code, require_all};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// Whether you have a second factor
#[utoipa::path(get, path = "/me/second-factor", responses((status = 200, body = SecondFactor)))]
pub(super) async fn show_second_factor(
    State(state): State<ApiState>,
    caller: Caller,
) -> Result<Json<SecondFactor>, ApiError> {
    let store = state.house.store();
    let found = store.second_factor(caller.user.id).await?;
    let passkeys = store.passkeys(caller.user.id).await?.into_iter().map(told_passkey).collect();
    Ok(Json(SecondFactor {
        since: found.since,
        passkeys,
        recovery_codes_left: found.recovery_codes_left,
        is_required: needs_second_factor(state.second_factor_from, &caller.user.grants),
    }))
}

/// Make a key for your authenticator; it counts once a code of it was given
#[utoipa::path(post, path = "/me/second-factor", request_body = PresentPassword, responses((status = 201, body = AuthenticatorKey)))]
pub(super) async fn begin_second_factor(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Body(form): Body<PresentPassword>,
) -> Result<(StatusCode, Json<AuthenticatorKey>), ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    let codes = state.house.store().begin_second_factor(&caller.user).await?;
    let there =
        || ApiError::Conflict("You have an authenticator; take it away before you set up another one.".to_owned());
    let codes = codes.ok_or_else(there)?;
    let address = codes.address().ok_or(ApiError::Internal)?;
    let key = AuthenticatorKey { key: codes.key().reveal().to_owned(), address: address.reveal().to_owned() };
    Ok((StatusCode::CREATED, Json(key)))
}

/// Give the first code of a new key: from now on it is asked for, and all your other sign-ins end
#[utoipa::path(post, path = "/me/second-factor/confirm", request_body = AuthenticatorCode, responses((status = 200, body = RecoveryCodes)))]
pub(super) async fn confirm_second_factor(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AuthenticatorCode>,
) -> Result<Json<RecoveryCodes>, ApiError> {
    count_code(&state, &caller.user)?;
    let (code, at) = (Secret::new(form.code.reveal()), (caller.token_id, OffsetDateTime::now_utc()));
    let confirmed = state.house.store().confirm_second_factor(&caller.user, &code, at).await;
    let confirmed = confirmed.inspect_err(|_| state.guesses.lock().forgive_code(caller.user.id))?;
    let wrong = || ApiError::invalid("code", "it is none of the new key; see that the clock of that device is right");
    let codes = confirmed.ok_or_else(wrong)?;
    state.guesses.lock().forgive_code(caller.user.id);
    state.seen_tokens.forget_person(&caller.user.name);
    tracing::info!(by = %caller.actor, "a second factor is set up; all other sign-ins are ended");
    Ok(Json(told(&codes)))
}

/// Make other recovery codes; those there were are worthless then
#[utoipa::path(post, path = "/me/second-factor/recovery-codes", request_body = PresentPassword, responses((status = 200, body = RecoveryCodes)))]
pub(super) async fn renew_recovery_codes(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Body(form): Body<PresentPassword>,
) -> Result<Json<RecoveryCodes>, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    if !caller.user.has_second_factor {
        return Err(ApiError::Conflict("You have no second factor that they could stand for.".to_owned()));
    }
    Ok(Json(told(&state.house.store().renew_recovery_codes(caller.user.id).await?)))
}

/// Take your authenticator away
#[utoipa::path(post, path = "/me/second-factor/removal", request_body = PresentPassword, responses((status = 204)))]
pub(super) async fn remove_second_factor(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Body(form): Body<PresentPassword>,
) -> Result<StatusCode, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    state.house.store().remove_authenticator(caller.user.id).await?;
    state.seen_tokens.forget_person(&caller.user.name);
    tracing::info!(by = %caller.actor, "an authenticator is taken away");
    Ok(StatusCode::NO_CONTENT)
}

fn told(codes: &[Secret]) -> RecoveryCodes {
    RecoveryCodes { codes: codes.iter().map(|code| code.reveal().to_owned()).collect() }
}
