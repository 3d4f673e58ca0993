//! Who calls, and whether they may: each route says in one table what it asks of its caller. A route that does not
//! stand there cannot be reached.

mod leave;
mod sight;
mod table;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use time::OffsetDateTime;
use tokio::time::timeout;
use waverant_net::{Place, caller_of};
use waverant_relay::{Actor, Deed, Grants, Scope, TurnAwayReason, Where, needs_second_factor, printable};
use waverant_store::{StoreError, TokenUse, User};

use crate::credentials::{has_bearer, token_of};
use crate::noting::{Call, note};
use crate::{ApiError, ApiState};
pub(crate) use leave::Leave;
pub(crate) use sight::Sight;
use table::{Right, methods_of, right_for};

/// What is kept of what a program calls itself, in characters.
const MAX_DEVICE: usize = 160;

/// How long it may take to note that a token is used.
const NOTE_PATIENCE: Duration = Duration::from_secs(3);

/// Who calls: somebody who has what the route asks for.
#[derive(Clone, Debug)]
pub(crate) struct Caller {
    pub(crate) user: User,
    /// The token by which it calls.
    pub(crate) token_id: u64,
    /// What that token is kept within.
    pub(crate) scope: Scope,
    /// What it may do by that token.
    pub(crate) grants: Grants,
    /// As changes note it.
    pub(crate) actor: Actor,
}

impl Caller {
    /// True if it may do this there.
    fn may(&self, right: Right, place: Where) -> bool {
        match right {
            Right::Anyone | Right::SignedIn => true,
            Right::Account => self.scope.has_account(),
            Right::House(deed) | Right::Channel(deed) | Right::Session(deed) | Right::Anywhere(deed) => {
                self.grants.may(deed, place)
            }
        }
    }

    /// Why it may not. What it may not even look at is not there for it.
    fn refusal(&self, right: Right, place: Where, name: Option<&str>) -> ApiError {
        let (deed, kind) = match right {
            Right::Anyone | Right::SignedIn | Right::Account => return ApiError::TokenTooNarrow,
            Right::House(deed) | Right::Anywhere(deed) => (deed, None),
            Right::Channel(deed) => (deed, Some("channel")),
            Right::Session(deed) => (deed, Some("session")),
        };
        if let (Some(kind), Some(name), false) = (kind, name, self.grants.may(Deed::Look, place)) {
            return ApiError::NotFound { kind, name: name.to_owned() };
        }
        if self.user.grants.may(deed, place) {
            return ApiError::TokenTooNarrow;
        }
        let role = match place {
            Where::Channel(Some(channel)) => self.grants.on_channel(channel),
            _ => self.grants.house(),
        };
        ApiError::NotAllowed { role, least: deed.least() }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Caller {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        parts.extensions.get::<Self>().cloned().ok_or(ApiError::NotSignedIn)
    }
}

/// Lets a call through to its handler if its caller may make it, and notes what comes of it.
pub(crate) async fn require(State(state): State<ApiState>, request: Request, next: Next) -> Response {
    let (mut parts, body) = request.into_parts();
    let call = Call::of(&mut parts).await;
    let Some(right) = right_for(&call.method, &call.path) else {
        let allowed = methods_of(&call.path);
        if !allowed.is_empty() {
            return ApiError::WrongMethod { allowed }.into_response();
        }
        tracing::error!(path = call.path, method = %call.method, "a route has no row in the table of rights");
        return ApiError::Internal.into_response();
    };
    let caller = match right {
        _ if is_held_off(&state, &parts, (right, &call)) => Err(ApiError::Blocked),
        Right::Anyone => Ok(None),
        _ => caller(&state, &parts, call.address).await.map(Some),
    };
    let caller = match (caller, call.address.filter(|_| has_bearer(&parts.headers))) {
        (Err(ApiError::NotSignedIn), Some(peer)) => {
            state.house.note_wrong_over_http(peer, TurnAwayReason::WrongToken);
            Err(if state.house.is_blocked(peer.ip()) { ApiError::Blocked } else { ApiError::NotSignedIn })
        }
        (caller, _) => caller,
    };
    let (caller, let_through) = match caller {
        Ok(Some(caller)) => (Some(caller.clone()), let_through(&state, &mut parts, (right, &call), caller).await),
        Ok(None) => (None, Ok(())),
        Err(error) => (None, Err(error)),
    };
    let response = match let_through {
        Ok(()) => next.run(Request::from_parts(parts, body)).await,
        Err(error) => error.into_response(),
    };
    if let Some(peer) = call.address.filter(|_| right == Right::Anyone && is_wrong_link(&call, response.status())) {
        state.house.note_wrong_over_http(peer, TurnAwayReason::WrongLink);
    }
    note(&state, &call, caller.as_ref().map(|caller| &caller.actor), &response);
    response
}

/// True for callers of a blocked address that show nothing by which they could be let through, or too much of it at once.
/// A token that was good before is looked at always, and a sign-in has waits of its own.
fn is_held_off(state: &ApiState, parts: &Parts, (right, call): (Right, &Call)) -> bool {
    let Some(address) = call.address.map(|peer| peer.ip()).filter(|address| state.house.is_blocked(*address)) else {
        return false;
    };
    match token_of(state, parts) {
        Some(token) => !state.seen_tokens.was_good(state.house.store(), &token) && !state.house.hears(address),
        // What stands in a guest's or an invitation's link may be right.
        None => {
            right == Right::Anyone && call.method != Method::GET && !is_sign_in(call) && !state.house.hears(address)
        }
    }
}

fn is_sign_in(call: &Call) -> bool {
    matches!(call.path.strip_prefix(crate::PREFIX), Some("/sign-in" | "/sign-in/passkey"))
}

/// True if a link or a one-time code was shown that opens nothing, or one too many to be looked at.
fn is_wrong_link(call: &Call, status: StatusCode) -> bool {
    let is_wrong = matches!(status, StatusCode::NOT_FOUND | StatusCode::FORBIDDEN | StatusCode::TOO_MANY_REQUESTS);
    is_wrong && call.method != Method::GET && !is_sign_in(call)
}

/// Looks whether who calls may do this, and puts that where handlers find it.
async fn let_through(
    state: &ApiState,
    parts: &mut Parts,
    (right, call): (Right, &Call),
    caller: Caller,
) -> Result<(), ApiError> {
    let name = match right {
        Right::Channel(_) => call.value("channel"),
        Right::Session(_) => call.value("session"),
        _ => None,
    };
    let place = match right {
        Right::Channel(_) => Where::Channel(channel_named(state, name)),
        // Whoever may it in the house needs no look.
        Right::Session(deed) if !caller.grants.may(deed, Where::House) => {
            match name.and_then(|name| name.parse().ok()) {
                Some(id) => Where::Channel(channel_of_session(state, id).await?),
                None => Where::Channel(None),
            }
        }
        Right::Anywhere(_) => Where::Anywhere,
        _ => Where::House,
    };
    let is_own_account = matches!(right, Right::SignedIn | Right::Account);
    if !is_own_account
        && !caller.user.has_second_factor
        && needs_second_factor(state.second_factor_from, &caller.grants)
    {
        return Err(ApiError::SecondFactorMissing);
    }
    if !caller.may(right, place) {
        tracing::info!(by = %caller.actor, path = parts.uri.path(), "refused: the role does not allow it");
        return Err(caller.refusal(right, place, name));
    }
    note_use(state, &caller, call.address, &parts.headers);
    let token = token_of(state, parts).unwrap_or_default();
    parts.extensions.insert(Leave::new(token, right, place));
    parts.extensions.insert(caller);
    Ok(())
}

fn channel_named(state: &ApiState, name: Option<&str>) -> Option<u64> {
    state.house.directory().channel_named(name?).map(|rules| rules.id)
}

/// The channel of a session; a show that runs is known without the database.
pub(crate) async fn channel_of_session(state: &ApiState, id: u64) -> Result<Option<u64>, StoreError> {
    if let Some(show) = state.house.shows().iter().find(|show| show.id() == id) {
        return Ok(Some(show.channel_id()));
    }
    Ok(state.house.store().channels_of_sessions(&[id]).await?.remove(&id))
}

/// Keeps from where and by what a token is used, so that its owner sees it. Nobody waits for it.
fn note_use(state: &ApiState, caller: &Caller, address: Option<SocketAddr>, headers: &HeaderMap) {
    if !state.seen_tokens.is_use_due(caller.token_id) {
        return;
    }
    let agent = headers.get(header::USER_AGENT).map(HeaderValue::as_bytes).unwrap_or_default();
    let used = TokenUse {
        device: printable(&String::from_utf8_lossy(agent), MAX_DEVICE).into_owned(),
        address: address.map(|peer| caller_of(peer.ip()).to_string()).unwrap_or_default(),
        at: OffsetDateTime::now_utc(),
    };
    let (store, token_id) = (state.house.store().clone(), caller.token_id);
    state.house.tasks().spawn(async move {
        if let Err(error) = timeout(NOTE_PATIENCE, store.note_token_use(token_id, &used)).await.unwrap_or(Ok(())) {
            tracing::debug!(%error, "it is not noted that a token was used");
        }
    });
}

async fn caller(state: &ApiState, parts: &Parts, address: Option<SocketAddr>) -> Result<Caller, ApiError> {
    let (headers, place) = (&parts.headers, parts.extensions.get::<Arc<Place>>());
    let token = token_of(state, parts).ok_or(ApiError::NotSignedIn)?;
    let holder = state.seen_tokens.holder_of(state.house.store(), &token).await?.ok_or(ApiError::NotSignedIn)?;
    let is_here = |address: SocketAddr| holder.addresses.iter().any(|range| range.contains(address.ip()));
    if !holder.addresses.is_empty() && !address.is_some_and(is_here) {
        tracing::warn!(person = holder.user.name, token = holder.label, ?address, "a token is used from elsewhere");
        return Err(ApiError::TokenElsewhere { person: holder.user.name });
    }
    // From now on its connection makes room for nobody, unless there are too many such.
    if let Some(place) = place {
        let _ = place.let_in();
    }
    let (user, label, scope) = (holder.user, holder.label, holder.scope);
    let actor = if has_bearer(headers) {
        Actor::Token { person_id: user.id, person: user.name.clone(), label }
    } else {
        Actor::Person { id: user.id, name: user.name.clone() }
    };
    Ok(Caller { grants: user.grants.within(&scope), user, token_id: holder.token_id, scope, actor })
}
