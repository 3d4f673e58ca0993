use std::time::Duration;

use axum::extract::Request;
use axum::http::{HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use tokio::time::timeout;

use crate::ApiError;

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

/// Files are read, clips are sent, and other houses are called.
fn may_take_long(path: &str) -> bool {
    path.contains("/takes/") || path.ends_with("/slate") || path.ends_with("/try")
}

pub(super) fn changes(method: &Method) -> bool {
    !matches!(*method, Method::GET | Method::HEAD | Method::OPTIONS)
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
