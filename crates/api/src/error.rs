use std::time::Duration;

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use tokio::time::timeout;
use utoipa::ToSchema;
use waverant_store::StoreError;

use crate::library::LibraryError;

/// A problem document.
///
/// Source: RFC 9457, 3
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Problem {
    /// A stable address of this kind of problem.
    #[serde(rename = "type")]
    kind: String,
    /// The kind in words.
    title: String,
    /// The HTTP status.
    status: u16,
    /// A stable word for programs.
    code: String,
    /// What was found and what was expected.
    detail: String,
    /// What to do.
    next_step: String,
}

/// What went wrong in an API call. Each kind fixes its own status and code.
#[derive(Debug)]
pub(crate) enum ApiError {
    /// No valid token or cookie.
    NotSignedIn,
    /// Name or password are wrong.
    WrongPassword,
    /// The one-time code is wrong or used up.
    WrongCode,
    /// A field is not as expected.
    Invalid { field: &'static str, detail: String },
    /// Something of this name is there already.
    NameTaken(String),
    /// There is no such thing.
    NotFound { kind: &'static str, name: String },
    /// The state does not allow it.
    Conflict(String),
    /// A take's file cannot be used.
    UnusableFile(String),
    /// A browser calls for a page that is not ours.
    ForeignPage,
    /// Too many wrong guesses, or too many at once; try again after so long.
    SlowDown(Duration),
    /// A body did not come in time.
    SlowBody,
    /// The database is away.
    DatabaseAway,
    /// Our own fault; the cause is in the log.
    Internal,
}

impl ApiError {
    pub(crate) fn invalid(field: &'static str, detail: impl ToString) -> Self {
        Self::Invalid { field, detail: detail.to_string() }
    }

    fn parts(&self) -> (StatusCode, &'static str, String, String) {
        match self {
            Self::NotSignedIn => (
                StatusCode::UNAUTHORIZED,
                "not_signed_in",
                "This call needs a valid token or a signed-in console.".into(),
                "Sign in, or send the header `Authorization: Bearer TOKEN`.".into(),
            ),
            Self::WrongPassword => (
                StatusCode::UNAUTHORIZED,
                "wrong_password",
                "Name and password do not belong together.".into(),
                "Try again; both are case-sensitive.".into(),
            ),
            Self::WrongCode => (
                StatusCode::FORBIDDEN,
                "wrong_code",
                "The one-time code is wrong or no longer valid.".into(),
                "Read it from the service's output or from `first-run-code` in the state folder.".into(),
            ),
            Self::Invalid { field, detail } => (
                StatusCode::UNPROCESSABLE_ENTITY,
                "invalid_field",
                format!("{field}: {detail}"),
                format!("Correct `{field}` and send it again."),
            ),
            Self::NameTaken(name) => (
                StatusCode::CONFLICT,
                "name_taken",
                format!("The name `{name}` is taken."),
                "Choose another name.".into(),
            ),
            Self::NotFound { kind, name } => (
                StatusCode::NOT_FOUND,
                "not_found",
                format!("There is no {kind} `{name}`."),
                "List what there is and check the spelling.".into(),
            ),
            Self::Conflict(detail) => {
                (StatusCode::CONFLICT, "conflict", detail.clone(), "Look at the present state first.".into())
            }
            Self::UnusableFile(detail) => (
                StatusCode::UNPROCESSABLE_ENTITY,
                "unusable_file",
                detail.clone(),
                "Check the take; a take that was cut off can be mended.".into(),
            ),
            Self::ForeignPage => (
                StatusCode::FORBIDDEN,
                "foreign_page",
                "The browser sent this call for a page that is not the console's.".into(),
                "Do it in the console; programs send the header `Authorization: Bearer TOKEN`.".into(),
            ),
            Self::SlowDown(wait) => (
                StatusCode::TOO_MANY_REQUESTS,
                "slow_down",
                "Too many tries.".into(),
                format!("Try again in {} s.", seconds(*wait)),
            ),
            Self::SlowBody => (
                StatusCode::REQUEST_TIMEOUT,
                "slow_body",
                "The body of the call did not come in time.".into(),
                "Send it again, without pauses.".into(),
            ),
            Self::DatabaseAway => (
                StatusCode::SERVICE_UNAVAILABLE,
                "database_away",
                "The database does not answer. Shows that are on air go on.".into(),
                "Try again in a moment; look at the service's log if it stays away.".into(),
            ),
            Self::Internal => (
                StatusCode::INTERNAL_SERVER_ERROR,
                "internal",
                "The service could not do this.".into(),
                "Look at the service's log.".into(),
            ),
        }
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NameTaken(name) => Self::NameTaken(name),
            StoreError::NotFound { kind, name } => Self::NotFound { kind, name },
            StoreError::Busy => Self::SlowDown(Duration::from_secs(1)),
            error if error.is_unavailable() => {
                tracing::warn!(%error, "an API call found the database away");
                Self::DatabaseAway
            }
            error => {
                tracing::error!(%error, "an API call failed");
                Self::Internal
            }
        }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let (status, code, detail, next_step) = self.parts();
        let problem = Problem {
            kind: format!("urn:waverant:problem:{code}"),
            title: status.canonical_reason().unwrap_or("Error").to_owned(),
            status: status.as_u16(),
            code: code.to_owned(),
            detail,
            next_step,
        };
        let mut response =
            (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(problem)).into_response();
        if let Self::SlowDown(wait) = self {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(seconds(wait)));
        }
        response
    }
}

/// Whole seconds, rounded up.
fn seconds(wait: Duration) -> u64 {
    wait.as_secs() + u64::from(wait.subsec_nanos() > 0)
}

/// Answers for addresses below `/api` that do not exist.
pub(super) async fn no_such_route(uri: axum::http::Uri) -> ApiError {
    ApiError::NotFound { kind: "address", name: uri.path().to_owned() }
}

/// How long a JSON body may take.
const BODY_TIMEOUT: Duration = Duration::from_secs(10);

/// JSON bodies whose errors are problem documents too.
#[derive(Debug)]
pub(crate) struct Body<T>(pub(crate) T);

impl<S: Send + Sync, T: serde::de::DeserializeOwned> axum::extract::FromRequest<S> for Body<T> {
    type Rejection = ApiError;

    async fn from_request(request: axum::extract::Request, state: &S) -> Result<Self, ApiError> {
        let body = timeout(BODY_TIMEOUT, Json::<T>::from_request(request, state)).await;
        let body = body.map_err(|_| ApiError::SlowBody)?;
        body.map(|Json(value)| Self(value)).map_err(|rejection| ApiError::invalid("body", rejection.body_text()))
    }
}

impl From<LibraryError> for ApiError {
    fn from(error: LibraryError) -> Self {
        match error {
            LibraryError::Store(error) => error.into(),
            LibraryError::NoFile(name) => Self::NotFound { kind: "file of the take", name },
            LibraryError::State(told) => Self::Conflict(told),
            LibraryError::File(told) => Self::UnusableFile(told),
        }
    }
}
