//! What each route asks of its caller. A route that does not stand here cannot be reached.

use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

use axum::extract::{FromRequestParts, MatchedPath, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use waverant_net::Place;
use waverant_relay::Actor;
use waverant_store::User;

use crate::credentials::{has_bearer, token_of};
use crate::{ApiError, ApiState, PREFIX};

/// What a caller needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Right {
    /// Nothing.
    Anyone,
    /// A valid token or cookie.
    SignedIn,
}

use Right::{Anyone, SignedIn};

/// Method, path below `/api/v1`, and what it takes to call it.
const RIGHTS: &[(&str, &str, Right)] = &[
    ("GET", "/openapi.json", Anyone),
    ("GET", "/health", Anyone),
    ("GET", "/first-run", Anyone),
    ("POST", "/first-run", Anyone),
    ("POST", "/sign-in", Anyone),
    ("POST", "/sign-out", SignedIn),
    ("GET", "/me", SignedIn),
    ("GET", "/tokens", SignedIn),
    ("DELETE", "/tokens/{token}", SignedIn),
    ("GET", "/channels", SignedIn),
    ("POST", "/channels", SignedIn),
    ("GET", "/channels/{channel}", SignedIn),
    ("PATCH", "/channels/{channel}", SignedIn),
    ("DELETE", "/channels/{channel}", SignedIn),
    ("GET", "/channels/{channel}/keys", SignedIn),
    ("POST", "/channels/{channel}/keys", SignedIn),
    ("DELETE", "/channels/{channel}/keys/{key}", SignedIn),
    ("PUT", "/channels/{channel}/destinations/{destination}", SignedIn),
    ("DELETE", "/channels/{channel}/destinations/{destination}", SignedIn),
    ("POST", "/channels/{channel}/end-session", SignedIn),
    ("PUT", "/channels/{channel}/slate", SignedIn),
    ("GET", "/channels/{channel}/slate", SignedIn),
    ("DELETE", "/channels/{channel}/slate", SignedIn),
    ("POST", "/channels/{channel}/recording/start", SignedIn),
    ("POST", "/channels/{channel}/recording/stop", SignedIn),
    ("POST", "/channels/{channel}/recording/marks", SignedIn),
    ("GET", "/channels/{channel}/pictures", SignedIn),
    ("GET", "/channels/{channel}/still", SignedIn),
    ("GET", "/channels/{channel}/links", SignedIn),
    ("POST", "/channels/{channel}/links", SignedIn),
    ("DELETE", "/channels/{channel}/links/{link}", SignedIn),
    ("GET", "/channels/{channel}/viewers", SignedIn),
    ("PUT", "/channels/{channel}/poster", SignedIn),
    ("DELETE", "/channels/{channel}/poster", SignedIn),
    ("POST", "/channels/{channel}/rehearsals", SignedIn),
    ("GET", "/destinations", SignedIn),
    ("POST", "/destinations", SignedIn),
    ("PATCH", "/destinations/{destination}", SignedIn),
    ("DELETE", "/destinations/{destination}", SignedIn),
    ("POST", "/destinations/{destination}/try", SignedIn),
    ("GET", "/sessions", SignedIn),
    ("GET", "/sessions/{session}", SignedIn),
    ("GET", "/sessions/{session}/report", SignedIn),
    ("GET", "/takes", SignedIn),
    ("GET", "/takes/{session}/{number}", SignedIn),
    ("PATCH", "/takes/{session}/{number}", SignedIn),
    ("DELETE", "/takes/{session}/{number}", SignedIn),
    ("POST", "/takes/{session}/{number}/undo-removal", SignedIn),
    ("GET", "/takes/{session}/{number}/file", SignedIn),
    ("GET", "/takes/{session}/{number}/mp4", SignedIn),
    ("GET", "/takes/{session}/{number}/sound/{place}", SignedIn),
    ("GET", "/takes/{session}/{number}/strip", SignedIn),
    ("GET", "/takes/{session}/{number}/still", SignedIn),
    ("POST", "/takes/{session}/{number}/check", SignedIn),
    ("POST", "/takes/{session}/{number}/mend", SignedIn),
    ("POST", "/takes/{session}/{number}/cut", SignedIn),
    ("POST", "/takes/{session}/{number}/copy", SignedIn),
    ("POST", "/takes/{session}/{number}/restore", SignedIn),
    ("GET", "/takes/{session}/{number}/link", SignedIn),
    ("GET", "/jobs", SignedIn),
    ("GET", "/jobs/{job}", SignedIn),
    ("GET", "/depots", SignedIn),
    ("POST", "/depots", SignedIn),
    ("PATCH", "/depots/{depot}", SignedIn),
    ("DELETE", "/depots/{depot}", SignedIn),
    ("POST", "/depots/{depot}/try", SignedIn),
    ("GET", "/turned-away", SignedIn),
    ("POST", "/capacity", SignedIn),
    ("GET", "/log", SignedIn),
    ("PUT", "/log/level", SignedIn),
    ("GET", "/findings/meanings", SignedIn),
    ("POST", "/findings/ask", SignedIn),
    ("PUT", "/channels/{channel}/muted-findings/{code}", SignedIn),
    ("DELETE", "/channels/{channel}/muted-findings/{code}", SignedIn),
    ("GET", "/live", SignedIn),
    ("GET", "/live/events", SignedIn),
];

static BY_ROUTE: LazyLock<HashMap<(&str, &str), Right>> =
    LazyLock::new(|| RIGHTS.iter().map(|(method, path, right)| ((*method, *path), *right)).collect());

/// What a call of `method` to the route `path` needs; none if it does not stand in the table.
fn right_for(method: &Method, path: &str) -> Option<Right> {
    // What can be got can be looked at.
    let method = if method == Method::HEAD { Method::GET } else { method.clone() };
    BY_ROUTE.get(&(method.as_str(), path.strip_prefix(PREFIX)?)).copied()
}

/// Who calls: somebody who has what the route asks for.
#[derive(Clone, Debug)]
pub(crate) struct Caller {
    pub(crate) user: User,
    /// As changes note it.
    pub(crate) actor: Actor,
}

impl<S: Send + Sync> FromRequestParts<S> for Caller {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        parts.extensions.get::<Self>().cloned().ok_or(ApiError::NotSignedIn)
    }
}

/// Lets a call through to its handler if its caller may make it.
pub(crate) async fn require(State(state): State<ApiState>, mut request: Request, next: Next) -> Response {
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned()).unwrap_or_default();
    match right_for(request.method(), &path) {
        Some(Anyone) => next.run(request).await,
        Some(SignedIn) => match caller(&state, request.headers(), request.extensions().get()).await {
            Ok(caller) => {
                request.extensions_mut().insert(caller);
                next.run(request).await
            }
            Err(error) => error.into_response(),
        },
        None => {
            tracing::error!(path, method = %request.method(), "a route has no row in the table of rights");
            ApiError::Internal.into_response()
        }
    }
}

async fn caller(state: &ApiState, headers: &HeaderMap, place: Option<&Arc<Place>>) -> Result<Caller, ApiError> {
    let token = token_of(headers).ok_or(ApiError::NotSignedIn)?;
    let holder = state.seen_tokens.holder_of(state.house.store(), &token).await?.ok_or(ApiError::NotSignedIn)?;
    // From now on its connection makes room for nobody, unless there are too many such.
    if let Some(place) = place {
        let _ = place.let_in();
    }
    let (user, label) = (holder.user, holder.label);
    let actor = if has_bearer(headers) {
        Actor::Token { person_id: user.id, person: user.name.clone(), label }
    } else {
        Actor::Person { id: user.id, name: user.name.clone() }
    };
    Ok(Caller { user, actor })
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use serde_json::Value;

    use super::*;

    /// Every operation stands in the table, as open as the document says, and the table has nothing else.
    #[test]
    fn every_route_has_its_row() {
        let document: Value = serde_json::from_str(&crate::openapi_document()).unwrap();
        let mut seen = HashSet::new();
        for (path, operations) in document["paths"].as_object().unwrap() {
            for (method, operation) in operations.as_object().unwrap() {
                let method: Method = method.to_uppercase().parse().unwrap();
                let is_open =
                    operation["security"].as_array().is_some_and(|ways| ways.contains(&serde_json::json!({})));
                let expected = if is_open { Anyone } else { SignedIn };
                assert_eq!(right_for(&method, path), Some(expected), "{method} {path}");
                seen.insert((method.to_string(), path.strip_prefix(PREFIX).unwrap().to_owned()));
            }
        }
        let unknown: Vec<_> = RIGHTS
            .iter()
            .filter(|(method, path, _)| !seen.contains(&((*method).to_owned(), (*path).to_owned())))
            .map(|(_, path, _)| *path)
            .collect();
        assert_eq!(unknown, ["/openapi.json"], "rows without a route");
    }

    #[test]
    fn what_is_not_in_the_table_cannot_be_reached() {
        assert_eq!(right_for(&Method::GET, "/api/v1/secrets"), None);
        assert_eq!(right_for(&Method::DELETE, "/api/v1/channels"), None);
        assert_eq!(right_for(&Method::HEAD, "/api/v1/channels"), Some(SignedIn));
    }
}
