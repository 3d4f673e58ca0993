use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use waverant_relay::NoRoom;

/// Why a viewer gets nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Fault {
    /// There is no such channel or link, or it is not open to the caller: from here all look the same.
    NotOpen,
    /// The address is blocked, and there is no link.
    Blocked,
    /// The link has ended.
    Ended,
    /// The link is for the pages of other sites.
    WrongSite,
    /// The channel is watched by other ways.
    WayClosed,
    /// All seats are taken.
    NoSeat(NoRoom),
    /// The channel is not on air; it may be soon.
    OffAir,
    /// No still can be made of this stream.
    NoStill(String),
    /// A piece or a playlist that is not there, or not any more.
    Gone,
    /// What was asked for did not come in time.
    Late,
    /// The request is not as expected.
    Wrong(String),
}

/// When to ask again, in seconds.
const SOON: HeaderValue = HeaderValue::from_static("2");
const LATER: HeaderValue = HeaderValue::from_static("15");

/// What stands around what is said to people.
const PAGE_BEGIN: &str = "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" \
    content=\"width=device-width\"><meta name=\"color-scheme\" content=\"light dark\"><title>Not to be watched now</title>\
    <style>body{font:1.125rem system-ui,sans-serif;display:grid;min-height:90vh;place-content:center;padding:1rem;\
    text-align:center}h1{font-size:1.25rem;max-width:32rem;line-height:1.5}</style><main><h1>";
const PAGE_END: &str = "</h1></main></html>";

/// What is said, for who tells it in another form.
#[derive(Clone, Debug)]
struct Said(String);

impl Fault {
    fn parts(self) -> (StatusCode, String, Option<HeaderValue>) {
        let say = |status, text: &str, retry| (status, text.to_owned(), retry);
        match self {
            Self::NotOpen => {
                say(StatusCode::NOT_FOUND, "There is no such channel or link, or it is not open to you.", None)
            }
            Self::Blocked => say(
                StatusCode::FORBIDDEN,
                "Callers from this address are held off. A link to the channel opens it.",
                None,
            ),
            Self::Ended => say(StatusCode::GONE, "This link has ended. Ask who gave it to you for another one.", None),
            Self::WrongSite => {
                say(StatusCode::FORBIDDEN, "This link plays on the pages of certain sites only, and not here.", None)
            }
            Self::WayClosed => {
                let text = "This channel is not watched this way. Open its page, or ask who gave you the address.";
                say(StatusCode::FORBIDDEN, text, None)
            }
            Self::NoSeat(reason) => {
                let text = format!("All seats are taken: {reason}. Try again in a moment.");
                (StatusCode::SERVICE_UNAVAILABLE, text, Some(LATER))
            }
            Self::OffAir => say(StatusCode::NOT_FOUND, "The channel is not on air now.", Some(SOON)),
            Self::NoStill(reason) => (StatusCode::NOT_FOUND, format!("There is no still: {reason}."), Some(LATER)),
            Self::Gone => say(StatusCode::NOT_FOUND, "This piece is not there, or not any more.", None),
            Self::Late => say(StatusCode::SERVICE_UNAVAILABLE, "It did not come in time. Ask again.", Some(SOON)),
            Self::Wrong(text) => (StatusCode::BAD_REQUEST, text, None),
        }
    }
}

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let (status, text, retry) = self.parts();
        let mut response = (status, [(header::CACHE_CONTROL, "no-store")], text.clone()).into_response();
        response.extensions_mut().insert(Said(text));
        if let Some(retry) = retry {
            response.headers_mut().insert(header::RETRY_AFTER, retry);
        }
        response
    }
}

pub(crate) async fn nothing_here() -> Response {
    let mut response = (StatusCode::NOT_FOUND, [(header::CACHE_CONTROL, "no-store")]).into_response();
    let text = "There is nothing at this address.".to_owned();
    *response.body_mut() = Body::from(text.clone());
    response.extensions_mut().insert(Said(text));
    response
}

/// Makes a page of what is said to somebody who looks with a browser.
pub(crate) async fn tell_people(request: Request, next: Next) -> Response {
    let wants_page = takes_pages(request.headers());
    let mut response = next.run(request).await;
    let Some(Said(text)) = response.extensions_mut().remove::<Said>().filter(|_| wants_page) else { return response };
    let page = format!("{PAGE_BEGIN}{}{PAGE_END}", escaped(&text));
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    headers.insert(
        header::CONTENT_SECURITY_POLICY,
        HeaderValue::from_static("default-src 'none'; style-src 'unsafe-inline'"),
    );
    headers.remove(header::CONTENT_LENGTH);
    *response.body_mut() = Body::from(page);
    response
}

fn takes_pages(headers: &HeaderMap) -> bool {
    headers
        .get(header::ACCEPT)
        .and_then(|accept| accept.to_str().ok())
        .is_some_and(|accept| accept.contains("text/html"))
}

pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
