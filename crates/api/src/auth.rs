use std::net::SocketAddr;
use std::time::Instant;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use time::{Duration, OffsetDateTime};
use waverant_model::{Me, SignIn};
use waverant_net::caller_of;
use waverant_relay::{Secret, printable};
use waverant_store::User;

use crate::credentials::{COOKIE, token_of};
use crate::error::Body;
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// How long the console stays signed in.
const CONSOLE_LIFE: Duration = Duration::days(14);

/// The longest life of a token that is to end.
const MAX_TOKEN_DAYS: u32 = 3650;

/// What is kept of a name in a log line, in characters.
const MAX_NAME: usize = 64;

/// Sign in
#[utoipa::path(post, path = "/sign-in", request_body = SignIn, security(()), responses((status = 200, body = Me)))]
pub(super) async fn sign_in(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    Body(form): Body<SignIn>,
) -> Result<Response, ApiError> {
    let address = caller_of(peer.ip());
    {
        let (mut guesses, now) = (state.guesses.lock(), Instant::now());
        if let Some(wait) = guesses.must_wait(now, address, &form.name) {
            return Err(ApiError::SlowDown(wait));
        }
        // Counted before it is looked at: many at once are no way around it.
        guesses.wrong(now, address, &form.name);
    }
    let user = state.house.store().sign_in(&form.name, &Secret::new(form.password.reveal())).await;
    let Some(user) = user.inspect_err(|_| state.guesses.lock().forgive(address, &form.name))? else {
        tracing::warn!(%peer, name = %printable(&form.name, MAX_NAME), "sign-in with a wrong name or password");
        return Err(ApiError::WrongPassword);
    };
    state.guesses.lock().right(address, &form.name);
    let days = form.token_days;
    if days.is_some_and(|days| !(1..=MAX_TOKEN_DAYS).contains(&days)) {
        return Err(ApiError::invalid("token_days", format!("1 to {MAX_TOKEN_DAYS} are allowed")));
    }
    welcome(&state, user, form.token_label.as_deref(), days).await
}

/// Answers a sign-in with a token or a cookie.
pub(super) async fn welcome(
    state: &ApiState,
    user: User,
    token_label: Option<&str>,
    token_days: Option<u32>,
) -> Result<Response, ApiError> {
    let now = OffsetDateTime::now_utc();
    if let Some(label) = token_label {
        let token = state
            .house
            .store()
            .add_token(&user, label, now, token_days.map(|days| now + Duration::days(days.into())))
            .await?;
        return Ok(Json(Me { name: user.name, token: Some(token.reveal().to_owned()) }).into_response());
    }
    let token = state.house.store().add_token(&user, "console", now, Some(now + CONSOLE_LIFE)).await?;
    let cookie = format!(
        "{COOKIE}={}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}",
        token.reveal(),
        CONSOLE_LIFE.whole_seconds()
    );
    let cookie = HeaderValue::from_str(&cookie).map_err(|_| ApiError::Internal)?;
    Ok(([(header::SET_COOKIE, cookie)], Json(Me { name: user.name, token: None })).into_response())
}

/// Sign out: the token or cookie becomes worthless
#[utoipa::path(post, path = "/sign-out", responses((status = 204)))]
pub(super) async fn sign_out(State(state): State<ApiState>, headers: HeaderMap) -> Result<Response, ApiError> {
    if let Some(token) = token_of(&headers) {
        state.house.store().remove_token(&token).await?;
        state.seen_tokens.forget(state.house.store(), &token);
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me)))]
pub(super) async fn me(caller: Caller) -> Json<Me> {
    Json(Me { name: caller.user.name, token: None })
}
