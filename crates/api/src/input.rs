//! What is taken from a call. Where it is not as expected, the answer is a problem document like all others.

use std::time::Duration;

use axum::Json;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use serde::de::DeserializeOwned;
use tokio::time::timeout;

use crate::ApiError;

/// How long a JSON body may take.
const BODY_TIMEOUT: Duration = Duration::from_secs(10);

/// A JSON body.
#[derive(Debug)]
pub(crate) struct Body<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let body = timeout(BODY_TIMEOUT, Json::<T>::from_request(request, state)).await;
        let body = body.map_err(|_| ApiError::SlowBody)?;
        body.map(|Json(value)| Self(value)).map_err(|rejection| ApiError::invalid("body", rejection.body_text()))
    }
}

/// What stands behind the question mark.
#[derive(Debug)]
pub(crate) struct Query<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let query = axum::extract::Query::from_request_parts(parts, state).await;
        query.map(|query| Self(query.0)).map_err(|rejection| ApiError::invalid("query", rejection.body_text()))
    }
}

/// The names and numbers in the address. There is nothing of a number that is none.
#[derive(Debug)]
pub(crate) struct Path<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Path<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let path = axum::extract::Path::from_request_parts(parts, state).await;
        path.map(|path| Self(path.0))
            .map_err(|_| ApiError::NotFound { kind: "address", name: parts.uri.path().to_owned() })
    }
}
