use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};

/// Why a viewer gets nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Fault {
    /// There is no such channel, or it is not open to the caller: from here both look the same.
    NotOpen,
    /// The channel is not on air; it may be soon.
    OffAir,
    /// A piece or a playlist that is not there, or not any more.
    Gone,
    /// What was asked for did not come in time.
    Late,
    /// The request is not as expected.
    Wrong(String),
}

/// When to ask again, in seconds.
const RETRY: HeaderValue = HeaderValue::from_static("2");

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let asks_again = matches!(self, Self::OffAir | Self::Late);
        let (status, text) = match self {
            Self::NotOpen => (StatusCode::NOT_FOUND, "There is no such channel, or it is not open to you.".to_owned()),
            Self::OffAir => (StatusCode::NOT_FOUND, "The channel is not on air now.".to_owned()),
            Self::Gone => (StatusCode::NOT_FOUND, "This piece is not there, or not any more.".to_owned()),
            Self::Late => (StatusCode::SERVICE_UNAVAILABLE, "It did not come in time. Ask again.".to_owned()),
            Self::Wrong(text) => (StatusCode::BAD_REQUEST, text),
        };
        let mut response = (status, [(header::CACHE_CONTROL, "no-store")], text).into_response();
        if asks_again {
            response.headers_mut().insert(header::RETRY_AFTER, RETRY);
        }
        response
    }
}

pub(crate) async fn nothing_here() -> Response {
    (StatusCode::NOT_FOUND, [(header::CACHE_CONTROL, "no-store")], "There is nothing at this address.").into_response()
}
