use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use axum::Json;
use axum::extract::{ConnectInfo, FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;
use waverant_relay::printable;
use waverant_store::{Secret, User};

use super::error::Body;
use super::{ApiError, ApiState};
use waverant_net::{Place, caller_of};

/// Name of the console's cookie.
const COOKIE: &str = "waverant";

/// How long the console stays signed in.
const CONSOLE_LIFE: Duration = Duration::days(14);

/// The longest life of a token that is to end.
const MAX_TOKEN_DAYS: u32 = 3650;

/// The shortest password; NIST SP 800-63B asks for at least 8.
const MIN_PASSWORD: usize = 10;

/// The longest user name that the records hold.
const MAX_NAME: usize = 64;

/// What is wrong with a password, if anything.
pub(crate) fn check_password(password: &Secret) -> Result<(), String> {
    let length = password.reveal().chars().count();
    if length < MIN_PASSWORD {
        return Err(format!("the password has {length} characters, at least {MIN_PASSWORD} are needed"));
    }
    Ok(())
}

/// What is wrong with a user name, if anything.
pub(crate) fn check_user_name(name: &str) -> Result<(), String> {
    let length = name.chars().count();
    if length == 0 || length > MAX_NAME || name.trim() != name {
        return Err(format!("a user name has 1 to {MAX_NAME} characters and no space at its ends"));
    }
    Ok(())
}

/// A caller who is signed in.
#[derive(Debug)]
pub(crate) struct SignedIn(pub(crate) User);

impl FromRequestParts<ApiState> for SignedIn {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, ApiError> {
        let token = token_of(&parts.headers).ok_or(ApiError::NotSignedIn)?;
        let user = state.seen_tokens.user_of(&state.house.store, &token).await?;
        let user = user.map(Self).ok_or(ApiError::NotSignedIn)?;
        // From now on its connection makes room for nobody, unless there are too many such.
        if let Some(place) = parts.extensions.get::<Arc<Place>>() {
            let _ = place.let_in();
        }
        Ok(user)
    }
}

/// True if the call carries a token that no browser adds by itself.
pub(super) fn has_bearer(headers: &HeaderMap) -> bool {
    let value = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    value.is_some_and(|value| value.starts_with("Bearer "))
}

/// The bearer token of a program, or the cookie of the console.
pub(super) fn token_of(headers: &HeaderMap) -> Option<String> {
    let bearer = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    if let Some(token) = bearer.and_then(|value| value.strip_prefix("Bearer ")) {
        return Some(token.trim().to_owned());
    }
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let mut pairs = cookies.flat_map(|line| line.split(';')).filter_map(|pair| pair.trim().split_once('='));
    pairs.find(|(name, _)| *name == COOKIE).map(|(_, value)| value.to_owned())
}

/// How to sign in.
#[derive(Deserialize, ToSchema)]
pub(crate) struct SignIn {
    /// User name.
    name: String,
    /// Password.
    password: String,
    /// If given, a token with this label is returned; otherwise a cookie is set.
    token_label: Option<String>,
    /// Days after which the token ends, up to 3650; it does not end by itself if left out.
    token_days: Option<u32>,
}

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Me {
    /// User name.
    name: String,
    /// The token, shown once, if one was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    token: Option<String>,
}

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
    let user = state.house.store.sign_in(&form.name, &Secret::new(form.password)).await;
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
            .store
            .add_token(&user, label, now, token_days.map(|days| now + Duration::days(days.into())))
            .await?;
        return Ok(Json(Me { name: user.name, token: Some(token.reveal().to_owned()) }).into_response());
    }
    let token = state.house.store.add_token(&user, "console", now, Some(now + CONSOLE_LIFE)).await?;
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
        state.house.store.remove_token(&token).await?;
        state.seen_tokens.forget(&state.house.store, &token);
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me)))]
pub(super) async fn me(SignedIn(user): SignedIn) -> Json<Me> {
    Json(Me { name: user.name, token: None })
}
