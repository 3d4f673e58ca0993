//! Passkeys over the API: made, asked, taken away. They stand beside the authenticator as a second factor.

use std::net::SocketAddr;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::StatusCode;
use time::OffsetDateTime;
use waverant_model::{AskPasskey, NewPasskey, PasskeyChallenge, PresentPassword, RecoveryCodes};
use waverant_net::caller_of;
use waverant_relay::Secret;

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::passkeys::{Site, ask, ask_to_make, made};
use crate::proof::{count_guess, require_all};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// The longest name of a passkey, in characters.
const MAX_LABEL: usize = 96;

/// Have a browser make a passkey for this site; it counts once what the browser says is sent
#[utoipa::path(post, path = "/me/second-factor/passkeys", request_body = PresentPassword, responses((status = 200, body = PasskeyChallenge)))]
pub(super) async fn begin_passkey(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    site: Site,
    caller: Caller,
    Body(form): Body<PresentPassword>,
) -> Result<Json<PasskeyChallenge>, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    ask_to_make(&state, &caller.user, site).await.map(Json)
}

/// Keep a passkey that a browser made. If it is your first second factor, all your other sign-ins end
#[utoipa::path(post, path = "/me/second-factor/passkeys/confirm", request_body = NewPasskey, responses((status = 201, body = RecoveryCodes)))]
pub(super) async fn confirm_passkey(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<NewPasskey>,
) -> Result<(StatusCode, Json<RecoveryCodes>), ApiError> {
    let label = form.label.trim();
    if label.is_empty() || label.chars().count() > MAX_LABEL || label.chars().any(char::is_control) {
        return Err(ApiError::invalid("label", format!("1 to {MAX_LABEL} characters were expected")));
    }
    let passkey = made(&state, &caller.user, label, (&form.ceremony, form.credential))?;
    let at = (caller.token_id, OffsetDateTime::now_utc());
    let codes = state.house.store().add_passkey(&caller.user, &passkey, at).await?;
    state.seen_tokens.forget_person(&caller.user.name);
    tracing::info!(by = %caller.actor, label, host = passkey.host, "a passkey is set up");
    let codes = codes.iter().map(|code| code.reveal().to_owned()).collect();
    Ok((StatusCode::CREATED, Json(RecoveryCodes { codes })))
}

/// Take a passkey of yours away
#[utoipa::path(post, path = "/me/second-factor/passkeys/{passkey}/removal", params(("passkey" = u64, Path)), request_body = PresentPassword, responses((status = 204)))]
pub(super) async fn remove_passkey(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Path(id): Path<u64>,
    Body(form): Body<PresentPassword>,
) -> Result<StatusCode, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    if !state.house.store().remove_passkey(caller.user.id, id).await? {
        return Err(ApiError::NotFound { kind: "passkey", name: id.to_string() });
    }
    state.seen_tokens.forget_person(&caller.user.name);
    tracing::info!(by = %caller.actor, id, "a passkey is taken away");
    Ok(StatusCode::NO_CONTENT)
}

/// What a passkey of yours is to be asked, for what a stolen sign-in must not do
#[utoipa::path(post, path = "/me/second-factor/challenge", responses((status = 200, body = PasskeyChallenge)))]
pub(super) async fn ask_own_passkey(
    State(state): State<ApiState>,
    site: Site,
    caller: Caller,
) -> Result<Json<PasskeyChallenge>, ApiError> {
    ask(&state, &caller.user, site).await.map(Json)
}

/// What a passkey is to be asked of who signs in with a right password
#[utoipa::path(post, path = "/sign-in/passkey", request_body = AskPasskey, security(()), responses((status = 200, body = PasskeyChallenge)))]
pub(super) async fn ask_passkey(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    site: Site,
    Body(form): Body<AskPasskey>,
) -> (Detail, Result<Json<PasskeyChallenge>, ApiError>) {
    let asked = async {
        let address = caller_of(peer.ip());
        let turn = count_guess(&state, address, &form.name)?;
        let user = state.house.store().sign_in(&form.name, &Secret::new(form.password.reveal()), turn).await;
        let user = user.inspect_err(|_| state.guesses.lock().forgive(address, &form.name))?;
        let user = user.ok_or(ApiError::WrongPassword)?;
        state.guesses.lock().forgive(address, &form.name);
        ask(&state, &user, site).await.map(Json)
    };
    (Detail::by(&form.name), asked.await)
}
