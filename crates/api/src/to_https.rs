use axum::Router;
use axum::extract::{Path, State};
use axum::http::uri::Authority;
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;

use crate::ApiError;

/// The port that is not written into addresses.
const USUAL_PORT: u16 = 443;

/// What a proof is told as. Source: RFC 8555, 8.3
const PROOF: &str = "application/octet-stream";

/// Leads whoever comes in the clear to the same address over TLS, at `port`. Nothing is taken here: what a program sends
/// is not to come twice, once for all to read.
///
/// Here an authority looks, too, whether names are ours: `answer` is what it is shown for a token (RFC 8555, 8.3).
pub fn to_https(port: u16, answer: impl Fn(&str) -> Option<String> + Clone + Send + Sync + 'static) -> Router {
    let answer = move |Path(token): Path<String>| {
        let answer = answer(&token);
        async move { answer.ok_or(StatusCode::NOT_FOUND).map(|answer| ([(header::CONTENT_TYPE, PROOF)], answer)) }
    };
    Router::new().route("/.well-known/acme-challenge/{token}", get(answer)).fallback(lead).with_state(port)
}

async fn lead(State(port): State<u16>, method: Method, uri: Uri, headers: HeaderMap) -> Response {
    if !matches!(method, Method::GET | Method::HEAD) {
        return ApiError::WrongMethod { allowed: "GET, HEAD".to_owned() }.into_response();
    }
    let told = headers.get(header::HOST).and_then(|host| host.to_str().ok()?.parse::<Authority>().ok());
    let Some(authority) = told.filter(|authority| !authority.as_str().contains('@')) else {
        return ApiError::invalid("host", "a header that names the host of this site was expected").into_response();
    };
    let port = if port == USUAL_PORT { String::new() } else { format!(":{port}") };
    let path = uri.path_and_query().map_or("/", |path| path.as_str());
    let location = format!("https://{}{port}{path}", authority.host());
    (StatusCode::PERMANENT_REDIRECT, [(header::LOCATION, location)]).into_response()
}

#[cfg(test)]
mod tests {
    use axum::body::Body;
    use axum::http::Request;
    use rstest::rstest;
    use tower::ServiceExt;

    use super::*;

    #[rstest]
    #[case(443, "relay.test", "/people?x=1", "https://relay.test/people?x=1")]
    #[case(443, "relay.test:80", "/", "https://relay.test/")]
    #[case(7801, "[2001:db8::7]:80", "/", "https://[2001:db8::7]:7801/")]
    #[case(443, "relay.test", "//elsewhere.test/", "https://relay.test//elsewhere.test/")]
    #[tokio::test]
    async fn whoever_comes_is_led_there(#[case] port: u16, #[case] host: &str, #[case] path: &str, #[case] to: &str) {
        let request = Request::builder().uri(path).header(header::HOST, host).body(Body::empty()).unwrap();
        let response = to_https(port, |_| None).oneshot(request).await.unwrap();
        assert_eq!(
            (response.status(), response.headers()[header::LOCATION].to_str().unwrap()),
            (StatusCode::PERMANENT_REDIRECT, to)
        );
    }

    #[rstest]
    #[case("GET", "")]
    #[case("GET", "relay.test/elsewhere")]
    #[case("GET", "relay.test@elsewhere.test")]
    #[case("POST", "relay.test")]
    #[tokio::test]
    async fn nobody_is_led_elsewhere(#[case] method: &str, #[case] host: &str) {
        let request =
            Request::builder().method(method).uri("/").header(header::HOST, host).body(Body::empty()).unwrap();
        let response = to_https(443, |_| None).oneshot(request).await.unwrap();
        assert!(response.status().is_client_error() && !response.headers().contains_key(header::LOCATION));
    }

    #[rstest]
    #[case("/.well-known/acme-challenge/dG9rZW4", 200, "dG9rZW4.thumb")]
    #[case("/.well-known/acme-challenge/other", 404, "")]
    #[case("/.well-known/acme-challenge/..%2f..%2fpeople", 404, "")]
    #[tokio::test]
    async fn an_authority_is_shown_what_it_asks_for(#[case] path: &str, #[case] status: u16, #[case] told: &str) {
        let answer = |token: &str| (token == "dG9rZW4").then(|| format!("{token}.thumb"));
        let request = Request::builder().uri(path).header(header::HOST, "relay.test").body(Body::empty()).unwrap();
        let response = to_https(443, answer).oneshot(request).await.unwrap();
        assert_eq!(response.status().as_u16(), status);
        assert_eq!(axum::body::to_bytes(response.into_body(), 100).await.unwrap(), told);
    }
}
