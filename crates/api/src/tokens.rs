//! Tokens of programs and consoles: who has one, and how it is made and taken back.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use time::{Duration, OffsetDateTime};
use waverant_model::{AddToken, MadeToken, Token, Withdrawn};
use waverant_relay::{AddressRange, Role, Scope};
use waverant_store::NewToken;

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState, tell_people};
use waverant_house::role_of;

/// The longest label, in characters.
const MAX_LABEL: usize = 96;

/// The longest life of a token that is to end.
const MAX_DAYS: u32 = 3650;

/// Ranges of addresses of one token.
const MAX_ADDRESSES: usize = 16;

/// Channels of one token.
const MAX_CHANNELS: usize = 64;

/// Your tokens and signed-in consoles
#[utoipa::path(get, path = "/tokens", responses((status = 200, body = Vec<Token>)))]
pub(super) async fn list_tokens(State(state): State<ApiState>, caller: Caller) -> Result<Json<Vec<Token>>, ApiError> {
    let tokens = state.house.store().tokens_of(caller.user.id, OffsetDateTime::now_utc()).await?;
    let directory = state.house.directory();
    Ok(Json(tokens.into_iter().map(|token| tell_people::token(token, &directory, caller.token_id)).collect()))
}

/// Make a token for a program; this answer is the only place where it is shown
#[utoipa::path(post, path = "/tokens", request_body = AddToken, responses((status = 201, body = MadeToken)))]
pub(super) async fn add_token(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddToken>,
) -> Result<(StatusCode, Detail, Json<MadeToken>), ApiError> {
    let (now, channels) = (OffsetDateTime::now_utc(), form.channels.clone());
    let mut wanted = wanted_token(&state, form, now)?;
    // What a token asks for is within what it may itself.
    wanted.scope = caller.scope.narrowed(wanted.scope);
    let token = state.house.store().add_token(caller.user.id, &wanted, now).await?;
    tracing::info!(by = %caller.actor, label = wanted.label, "a token is made");
    let terms = serde_json::json!({
        "role": wanted.scope.most.map(Role::word),
        "channels": channels,
        "addresses": wanted.addresses.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "days": wanted.expires_at.map(|end| (end - now).whole_days()),
    });
    let detail = Detail::made(format!("token {}", wanted.label), &terms);
    let made = MadeToken { token: token.reveal().to_owned(), label: wanted.label, expires_at: wanted.expires_at };
    Ok((StatusCode::CREATED, detail, Json(made)))
}

/// What who signs in for the first time asks for.
pub(crate) fn unbounded(label: String) -> AddToken {
    AddToken { label, ..AddToken::default() }
}

/// Looks at what somebody asks for in a token.
///
/// # Errors
/// [`ApiError::Invalid`], or [`ApiError::NotFound`] for a channel.
pub(crate) fn wanted_token(state: &ApiState, form: AddToken, now: OffsetDateTime) -> Result<NewToken, ApiError> {
    let AddToken { label, days, role, channels, addresses } = form;
    let length = label.trim().chars().count();
    if !(1..=MAX_LABEL).contains(&length) {
        return Err(ApiError::invalid("label", format!("it has {length} characters; 1 to {MAX_LABEL} are allowed")));
    }
    if days.is_some_and(|days| !(1..=MAX_DAYS).contains(&days)) {
        return Err(ApiError::invalid("days", format!("1 to {MAX_DAYS} are allowed")));
    }
    if addresses.len() > MAX_ADDRESSES || channels.as_ref().is_some_and(|channels| channels.len() > MAX_CHANNELS) {
        let told = format!("at most {MAX_ADDRESSES} addresses and {MAX_CHANNELS} channels are allowed");
        return Err(ApiError::invalid("addresses", told));
    }
    let ids = |names: Vec<String>| names.iter().map(|name| state.house.channel_id(name)).collect();
    let channels = channels.map(ids).transpose()?;
    let ranges: Result<Vec<AddressRange>, _> = addresses.iter().map(|range| range.parse()).collect();
    Ok(NewToken {
        label: label.trim().to_owned(),
        scope: Scope { most: role.map(role_of), channels },
        addresses: ranges.map_err(|error| ApiError::invalid("addresses", error))?,
        expires_at: days.map(|days| now + Duration::days(days.into())),
    })
}

/// Withdraw all your tokens and signed-in consoles but the one by which you ask; what they opened is closed within five
/// seconds
#[utoipa::path(delete, path = "/tokens", responses((status = 200, body = Withdrawn)))]
pub(super) async fn remove_other_tokens(
    State(state): State<ApiState>,
    caller: Caller,
) -> Result<Json<Withdrawn>, ApiError> {
    let count = state.house.store().withdraw_other_tokens(caller.user.id, caller.token_id).await?;
    state.seen_tokens.forget_others(&caller);
    tracing::info!(by = %caller.actor, count, "all other sign-ins are ended");
    Ok(Json(Withdrawn { count }))
}

/// Withdraw a token; what it opened is closed within five seconds
#[utoipa::path(delete, path = "/tokens/{token}", params(("token" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_token(
    State(state): State<ApiState>,
    caller: Caller,
    Path(token): Path<u64>,
) -> Result<StatusCode, ApiError> {
    state.house.store().withdraw_token(caller.user.id, token).await?;
    state.seen_tokens.forget_number(token);
    Ok(StatusCode::NO_CONTENT)
}
