use std::time::Duration;

use axum::extract::Request;
use axum::http::{HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use tokio::time::timeout;

use crate::ApiError;
use crate::credentials::is_secure;

/// How long browsers come over TLS alone, once they did: a year.
const TLS_ONLY: HeaderValue = HeaderValue::from_static("max-age=31536000");

/// Most calls read and write a few records. One that is not answered after so long waits for a database
/// that does not even refuse.
const PATIENCE: Duration = Duration::from_secs(25);

/// A call that changes something is done to its end, also when the caller hangs up in the middle or is told
/// that it took too long: what is written must be followed by shows and by the directory.
pub(super) async fn finish_changes(request: Request, next: Next) -> Response {
    if !changes(request.method()) {
        return next.run(request).await;
    }
    tokio::spawn(next.run(request)).await.unwrap_or_else(|_| ApiError::Internal.into_response())
}

/// Nobody waits for ever for the head of an answer.
pub(super) async fn answer_in_time(request: Request, next: Next) -> Response {
    if may_take_long(request.uri().path()) {
        return next.run(request).await;
    }
    timeout(PATIENCE, next.run(request)).await.unwrap_or_else(|_| ApiError::DatabaseAway.into_response())
}

/// Files are read, clips are sent, other houses are called, and a bundle asks for all there is.
fn may_take_long(path: &str) -> bool {
    path.contains("/takes/")
        || path.ends_with("/slate")
        || path.ends_with("/try")
        || path.ends_with("/support-bundle")
        || path.ends_with("/setup/apply")
        || path.ends_with("/outside/tries")
}

pub(super) fn changes(method: &Method) -> bool {
    !matches!(*method, Method::GET | Method::HEAD | Method::OPTIONS)
}

/// Who was here over TLS does not come in the clear again, and so gives nobody on the line an answer of his own.
///
/// Source: RFC 6797, 7.2: not said in the clear
pub(super) async fn stay_on_tls(request: Request, next: Next) -> Response {
    let is_secure = is_secure(request.extensions());
    let mut response = next.run(request).await;
    if is_secure {
        response.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, TLS_ONLY);
    }
    response
}

/// What is answered to calls is kept nowhere, unless the call itself says otherwise.
pub(super) async fn keep_nothing(request: Request, next: Next) -> Response {
    let is_api = request.uri().path().starts_with("/api/");
    let mut response = next.run(request).await;
    if is_api {
        response.headers_mut().entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    }
    response
}
