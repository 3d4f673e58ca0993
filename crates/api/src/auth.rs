use std::net::SocketAddr;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use time::{Duration, OffsetDateTime};
use waverant_house::check_password;
use waverant_model::{AddToken, ChangePassword, Me, SignIn};
use waverant_net::caller_of;
use waverant_relay::{Grants, Secret, TurnAwayReason, needs_second_factor, printable};
use waverant_store::{CONSOLE, NewToken, User};

use crate::act_detail::Detail;
use crate::credentials::{ConsoleCookie, token_of};
use crate::input::Body;
use crate::proof::{count_guess, require_second_factor};
use crate::rights::Caller;
use crate::tell_people::told_grants;
use crate::tokens::wanted_token;
use crate::{ApiError, ApiState};

/// How long the console stays signed in.
const CONSOLE_LIFE: Duration = Duration::days(14);

/// What is kept of a name in a log line, in characters.
const MAX_NAME: usize = 64;

/// Sign in
#[utoipa::path(post, path = "/sign-in", request_body = SignIn, security(()), responses((status = 200, body = Me)))]
pub(super) async fn sign_in(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    cookie: ConsoleCookie,
    Body(form): Body<SignIn>,
) -> (Detail, Result<Response, ApiError>) {
    (Detail::by(&form.name), sign_in_by(&state, (peer, &cookie), form).await)
}

async fn sign_in_by(
    state: &ApiState,
    (peer, cookie): (SocketAddr, &ConsoleCookie),
    form: SignIn,
) -> Result<Response, ApiError> {
    let address = caller_of(peer.ip());
    let turn = count_guess(state, address, &form.name)?;
    let user = state.house.store().sign_in(&form.name, &Secret::new(form.password.reveal()), turn).await;
    let Some(user) = user.inspect_err(|_| state.guesses.lock().forgive(address, &form.name))? else {
        tracing::warn!(%peer, name = %printable(&form.name, MAX_NAME), "sign-in with a wrong name or password");
        state.house.note_wrong_over_http(peer, TurnAwayReason::WrongSignIn);
        return Err(ApiError::WrongPassword);
    };
    let second = require_second_factor(state, &user, (form.second_factor, form.passkey)).await;
    // The password was no guess; what is wrong about a code is counted by person.
    if second.is_err() {
        state.guesses.lock().forgive(address, &form.name);
    }
    second?;
    state.guesses.lock().right(address, &form.name);
    let SignIn { token_days: days, token_role: role, token_channels: channels, token_addresses: addresses, .. } = form;
    let terms = form.token_label.map(|label| AddToken { label, days, role, channels, addresses });
    welcome(state, cookie, user, terms).await
}

/// Answers a sign-in with a token as it is asked for, or with a cookie.
pub(super) async fn welcome(
    state: &ApiState,
    cookie: &ConsoleCookie,
    user: User,
    terms: Option<AddToken>,
) -> Result<Response, ApiError> {
    let now = OffsetDateTime::now_utc();
    if let Some(terms) = terms {
        let wanted = wanted_token(state, terms, now)?;
        let token = state.house.store().add_token(user.id, &wanted, now).await?;
        let grants = user.grants.within(&wanted.scope);
        return Ok(Json(told_me(state, user, &grants, Some(&token))).into_response());
    }
    let console = NewToken { label: CONSOLE.to_owned(), expires_at: Some(now + CONSOLE_LIFE), ..NewToken::default() };
    let token = state.house.store().add_token(user.id, &console, now).await?;
    let grants = user.grants.clone();
    let cookie = cookie.given(&token, CONSOLE_LIFE).ok_or(ApiError::Internal)?;
    Ok(([(header::SET_COOKIE, cookie)], Json(told_me(state, user, &grants, None))).into_response())
}

fn told_me(state: &ApiState, user: User, grants: &Grants, token: Option<&Secret>) -> Me {
    let User { name, has_second_factor, .. } = user;
    let (role, channels) = told_grants(grants, &state.house.directory());
    let lacks_second_factor = !has_second_factor && needs_second_factor(state.second_factor_from, grants);
    Me { name, role, channels, lacks_second_factor, token: token.map(|token| token.reveal().to_owned()) }
}

/// Sign out: the token or cookie becomes worthless
#[utoipa::path(post, path = "/sign-out", responses((status = 204)))]
pub(super) async fn sign_out(
    State(state): State<ApiState>,
    cookie: ConsoleCookie,
    parts: Parts,
) -> Result<Response, ApiError> {
    if let Some(token) = token_of(&state, &parts) {
        state.house.store().remove_token(&token).await?;
        state.seen_tokens.forget(state.house.store(), &token);
    }
    let cookie = cookie.taken_back().ok_or(ApiError::Internal)?;
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me)))]
pub(super) async fn me(State(state): State<ApiState>, caller: Caller) -> Json<Me> {
    Json(told_me(&state, caller.user, &caller.grants, None))
}

/// Change your password; all your other tokens and signed-in consoles end
#[utoipa::path(put, path = "/me/password", request_body = ChangePassword, responses((status = 204)))]
pub(super) async fn change_password(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Body(form): Body<ChangePassword>,
) -> Result<StatusCode, ApiError> {
    let (address, name) = (caller_of(peer.ip()), caller.user.name.as_str());
    let wanted = Secret::new(form.wanted.reveal());
    check_password(&wanted, name)?;
    count_guess(&state, address, name)?;
    let present = Secret::new(form.present.reveal());
    let changed = state.house.store().change_password(caller.user.id, (&present, &wanted), caller.token_id).await;
    if !changed.inspect_err(|_| state.guesses.lock().forgive(address, name))? {
        return Err(ApiError::invalid("present", "it is not the present password"));
    }
    state.guesses.lock().right(address, name);
    state.seen_tokens.forget_others(&caller);
    tracing::info!(by = %caller.actor, "a password is changed; all other sign-ins are ended");
    Ok(StatusCode::NO_CONTENT)
}
