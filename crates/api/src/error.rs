use std::time::Duration;

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use waverant_house::HouseError;
use waverant_library::LibraryError;
use waverant_model::Problem;
use waverant_relay::Role;
use waverant_store::StoreError;

use crate::PROBLEM;
use crate::act_detail::Detail;

/// What went wrong in an API call. Each kind fixes its own status and code.
#[derive(Debug)]
pub(crate) enum ApiError {
    /// No valid token or cookie.
    NotSignedIn,
    /// Name or password are wrong.
    WrongPassword,
    /// The password is right, and a code of the second factor is asked for besides.
    SecondFactorNeeded,
    /// That code is wrong, or was taken before.
    WrongSecondFactor,
    /// The rules of the house ask for a second factor that is not set up yet.
    SecondFactorMissing,
    /// The one-time code is wrong or used up.
    WrongCode,
    /// The caller's role does not allow it, or it has none there.
    NotAllowed { role: Option<Role>, least: Role },
    /// The caller's role allows it, the token does not.
    TokenTooNarrow,
    /// The token opens nothing from where it is used.
    TokenElsewhere { person: String },
    /// A field is not as expected.
    Invalid { field: &'static str, detail: String },
    /// Something of this name is there already.
    NameTaken(String),
    /// There is nothing at this address that this method could be used on.
    WrongMethod { allowed: String },
    /// There is no such thing.
    NotFound { kind: &'static str, name: String },
    /// The state does not allow it.
    Conflict(String),
    /// A take's file cannot be used.
    UnusableFile(String),
    /// The address of the caller is blocked, and it shows nothing that opens all the same.
    Blocked,
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
            Self::SecondFactorNeeded => (StatusCode::UNAUTHORIZED, "second_factor_needed"),
            Self::WrongSecondFactor => (StatusCode::UNAUTHORIZED, "wrong_second_factor"),
            Self::SecondFactorMissing => (StatusCode::FORBIDDEN, "second_factor_missing"),
            Self::WrongCode => (StatusCode::FORBIDDEN, "wrong_code"),
            Self::NotAllowed { .. } => (StatusCode::FORBIDDEN, "not_allowed"),
            Self::TokenTooNarrow => (StatusCode::FORBIDDEN, "token_too_narrow"),
            Self::TokenElsewhere { .. } => (StatusCode::FORBIDDEN, "token_elsewhere"),
            Self::Invalid { .. } => (StatusCode::UNPROCESSABLE_ENTITY, "invalid_field"),
            Self::NameTaken(_) => (StatusCode::CONFLICT, "name_taken"),
            Self::WrongMethod { .. } => (StatusCode::METHOD_NOT_ALLOWED, "wrong_method"),
            Self::NotFound { .. } => (StatusCode::NOT_FOUND, "not_found"),
            Self::Conflict(_) => (StatusCode::CONFLICT, "conflict"),
            Self::UnusableFile(_) => (StatusCode::UNPROCESSABLE_ENTITY, "unusable_file"),
            Self::Blocked => (StatusCode::FORBIDDEN, "address_blocked"),
            Self::ForeignPage => (StatusCode::FORBIDDEN, "foreign_page"),
            Self::SlowDown(_) => (StatusCode::TOO_MANY_REQUESTS, "slow_down"),
            Self::SlowBody => (StatusCode::REQUEST_TIMEOUT, "slow_body"),
            Self::DatabaseAway => (StatusCode::SERVICE_UNAVAILABLE, "database_away"),
            Self::Internal => (StatusCode::INTERNAL_SERVER_ERROR, "internal"),
        }
    }

    /// What was found.
    pub(crate) fn detail(&self) -> String {
        let fixed = match self {
            Self::Invalid { field, detail } => return format!("{field}: {detail}"),
            Self::NameTaken(name) => return format!("The name `{name}` is taken."),
            Self::WrongMethod { allowed } => return format!("This address takes {allowed}."),
            Self::NotFound { kind, name } => return format!("There is no {kind} `{name}`."),
            Self::Conflict(detail) | Self::UnusableFile(detail) => return detail.clone(),
            Self::NotAllowed { role: Some(role), least } => {
                return format!("This takes the role {least}; yours is {role}.");
            }
            Self::NotAllowed { role: None, least } => {
                return format!("This takes the role {least} in the house; you have none there.");
            }
            Self::TokenTooNarrow => "You may do this; the token by which you ask may not.",
            Self::TokenElsewhere { .. } => "This token opens nothing from the address from which it is used.",
            Self::NotSignedIn => "This call needs a valid token or a signed-in console.",
            Self::WrongPassword => "Name and password do not belong together.",
            Self::SecondFactorNeeded => "A second factor is needed besides.",
            Self::WrongSecondFactor => "This code or passkey is wrong, or was used before.",
            Self::SecondFactorMissing => "The rules of this house ask for a second factor, and you have none.",
            Self::WrongCode => "The one-time code is wrong or no longer valid.",
            Self::Blocked => "Callers from this address are held off for a time.",
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
            Self::SecondFactorNeeded => {
                "Send it as `second_factor`: six digits of the authenticator, or a recovery code; or `passkey`."
            }
            Self::WrongSecondFactor => "Wait for the next code; see that the clocks of both devices are right.",
            Self::SecondFactorMissing => {
                "Set one up: on the page of your account, or with `waverant second-factor set-up`."
            }
            Self::NotAllowed { .. } => "Ask an administrator of the house to do it, or for another role.",
            Self::TokenTooNarrow => "Sign in for more: `waverant sign-in --role ROLE`, or in the console.",
            Self::TokenElsewhere { .. } => "Use it from where it was made for, or make another one.",
            Self::WrongCode => {
                "Ask who invited you for another link; the first one of all is in the service's output and in \
                 `first-run-code` in the state folder."
            }
            Self::NameTaken(_) => "Choose another name.",
            Self::WrongMethod { .. } => "Look into the document at /api/v1/openapi.json.",
            Self::NotFound { .. } => "List what there is and check the spelling.",
            Self::Conflict(_) => "Look at the present state first.",
            Self::UnusableFile(_) => "Check the take; a take that was cut off can be mended.",
            Self::Blocked => {
                "Sign in, or call with a token that is good; whoever runs the house can release the address."
            }
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
            StoreError::TooMany { .. } | StoreError::LastAdministrator => Self::Conflict(error.to_string()),
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
        let mut response = (status, [(header::CONTENT_TYPE, PROBLEM)], Json(problem)).into_response();
        response.extensions_mut().insert(ProblemCode(code));
        if let Self::TokenElsewhere { person } = &self {
            response.extensions_mut().insert(Detail::by(person));
        }
        // Source: RFC 9110, 15.5.6
        if let Self::WrongMethod { allowed } = &self
            && let Ok(allowed) = HeaderValue::from_str(allowed)
        {
            response.headers_mut().insert(header::ALLOW, allowed);
        }
        if let Self::SlowDown(wait) = self {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(seconds(wait)));
        }
        response
    }
}

/// The code of a problem, for what looks at the answer on its way out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ProblemCode(pub(crate) &'static str);

/// Whole seconds, rounded up.
fn seconds(wait: Duration) -> u64 {
    wait.as_secs() + u64::from(wait.subsec_nanos() > 0)
}

/// Answers for addresses below `/api` that do not exist.
pub(super) async fn no_such_route(uri: axum::http::Uri) -> ApiError {
    ApiError::NotFound { kind: "address", name: uri.path().to_owned() }
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
