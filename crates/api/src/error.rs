use std::time::Duration;

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use tokio::time::timeout;
use waverant_house::HouseError;
use waverant_library::LibraryError;
use waverant_model::Problem;
use waverant_store::StoreError;

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

    /// Status, and a stable word.
    fn kind(&self) -> (StatusCode, &'static str) {
        match self {
            Self::NotSignedIn => (StatusCode::UNAUTHORIZED, "not_signed_in"),
            Self::WrongPassword => (StatusCode::UNAUTHORIZED, "wrong_password"),
            Self::WrongCode => (StatusCode::FORBIDDEN, "wrong_code"),
            Self::Invalid { .. } => (StatusCode::UNPROCESSABLE_ENTITY, "invalid_field"),
            Self::NameTaken(_) => (StatusCode::CONFLICT, "name_taken"),
            Self::NotFound { .. } => (StatusCode::NOT_FOUND, "not_found"),
            Self::Conflict(_) => (StatusCode::CONFLICT, "conflict"),
            Self::UnusableFile(_) => (StatusCode::UNPROCESSABLE_ENTITY, "unusable_file"),
            Self::ForeignPage => (StatusCode::FORBIDDEN, "foreign_page"),
            Self::SlowDown(_) => (StatusCode::TOO_MANY_REQUESTS, "slow_down"),
            Self::SlowBody => (StatusCode::REQUEST_TIMEOUT, "slow_body"),
            Self::DatabaseAway => (StatusCode::SERVICE_UNAVAILABLE, "database_away"),
            Self::Internal => (StatusCode::INTERNAL_SERVER_ERROR, "internal"),
        }
    }

    /// What was found.
    fn detail(&self) -> String {
        let fixed = match self {
            Self::Invalid { field, detail } => return format!("{field}: {detail}"),
            Self::NameTaken(name) => return format!("The name `{name}` is taken."),
            Self::NotFound { kind, name } => return format!("There is no {kind} `{name}`."),
            Self::Conflict(detail) | Self::UnusableFile(detail) => return detail.clone(),
            Self::NotSignedIn => "This call needs a valid token or a signed-in console.",
            Self::WrongPassword => "Name and password do not belong together.",
            Self::WrongCode => "The one-time code is wrong or no longer valid.",
            Self::ForeignPage => "The browser sent this call for a page that is not the console's.",
            Self::SlowDown(_) => "Too many tries.",
            Self::SlowBody => "The body of the call did not come in time.",
            Self::DatabaseAway => "The database does not answer. Shows that are on air go on.",
            Self::Internal => "The service could not do this.",
        };
        fixed.to_owned()
    }

    /// What to do.
    fn next_step(&self) -> String {
        let fixed = match self {
            Self::Invalid { field, .. } => return format!("Correct `{field}` and send it again."),
            Self::SlowDown(wait) => return format!("Try again in {} s.", seconds(*wait)),
            Self::NotSignedIn => "Sign in, or send the header `Authorization: Bearer TOKEN`.",
            Self::WrongPassword => "Try again; both are case-sensitive.",
            Self::WrongCode => "Read it from the service's output or from `first-run-code` in the state folder.",
            Self::NameTaken(_) => "Choose another name.",
            Self::NotFound { .. } => "List what there is and check the spelling.",
            Self::Conflict(_) => "Look at the present state first.",
            Self::UnusableFile(_) => "Check the take; a take that was cut off can be mended.",
            Self::ForeignPage => "Do it in the console; programs send the header `Authorization: Bearer TOKEN`.",
            Self::SlowBody => "Send it again, without pauses.",
            Self::DatabaseAway => "Try again in a moment; look at the service's log if it stays away.",
            Self::Internal => "Look at the service's log.",
        };
        fixed.to_owned()
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NameTaken(name) => Self::NameTaken(name),
            StoreError::NotFound { kind, name } => Self::NotFound { kind, name },
            StoreError::TooMany { .. } => Self::Conflict(error.to_string()),
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
        let (status, code) = self.kind();
        let problem = Problem {
            kind: format!("urn:waverant:problem:{code}"),
            title: status.canonical_reason().unwrap_or("Error").to_owned(),
            status: status.as_u16(),
            code: code.to_owned(),
            detail: self.detail(),
            next_step: self.next_step(),
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
            LibraryError::Depot(error) => Self::Conflict(error.to_string()),
            error => {
                tracing::error!(%error, "an API call failed");
                Self::Internal
            }
        }
    }
}

impl From<HouseError> for ApiError {
    fn from(error: HouseError) -> Self {
        match error {
            HouseError::Invalid { field, detail } => Self::Invalid { field, detail },
            HouseError::Conflict(told) => Self::Conflict(told),
            HouseError::NotFound { kind, name } => Self::NotFound { kind, name },
            HouseError::Store(error) => error.into(),
            HouseError::Library(error) => error.into(),
            HouseError::Depot(error) => Self::Conflict(error.to_string()),
            error => {
                tracing::error!(%error, "an API call failed");
                Self::Internal
            }
        }
    }
}
