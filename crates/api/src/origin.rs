use axum::extract::Request;
use axum::http::{HeaderMap, Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::ApiError;
use crate::course::changes;
use crate::credentials::has_bearer;

/// Calls that change something, and WebSockets, which no browser keeps from other pages, come from our own pages, or
/// from a program that sends a token by itself. A browser adds the console's cookie to what any page of the same site asks for, with a
/// body or without.
///
/// Source: Fetch Metadata Request Headers, 2.2 (Sec-Fetch-Site); RFC 6454, 7 (Origin)
pub(super) async fn require_own_origin(request: Request, next: Next) -> Response {
    let is_guarded = changes(request.method()) || request.headers().contains_key(header::UPGRADE);
    if is_guarded && !has_bearer(request.headers()) && !is_own(request.headers(), request.uri()) {
        return ApiError::ForeignPage.into_response();
    }
    next.run(request).await
}

fn is_own(headers: &HeaderMap, uri: &Uri) -> bool {
    let text = |name: &str| headers.get(name).map(|value| value.to_str().unwrap_or("?"));
    match (text("sec-fetch-site"), text("origin")) {
        (Some(site), _) => site == "same-origin",
        (None, Some(origin)) => {
            let host = text("host").or_else(|| uri.authority().map(|authority| authority.as_str()));
            let from = origin.split_once("://").map(|(_, host)| host);
            from.is_some() && from == host
        }
        // No browser of our time leaves both out when it changes something; programs do.
        (None, None) => true,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_program(&[("host", "relay.test:7800")], true)]
    #[case::our_page(&[("sec-fetch-site", "same-origin"), ("origin", "https://relay.test")], true)]
    #[case::a_page_of_the_same_site(&[("sec-fetch-site", "same-site"), ("origin", "https://www.relay.test")], false)]
    #[case::a_page_elsewhere(&[("sec-fetch-site", "cross-site")], false)]
    #[case::typed_into_the_address_line(&[("sec-fetch-site", "none")], false)]
    #[case::an_old_browser_here(&[("origin", "http://relay.test:7800"), ("host", "relay.test:7800")], true)]
    #[case::an_old_browser_at_another_port(&[("origin", "http://relay.test:8000"), ("host", "relay.test:7800")], false)]
    #[case::hidden_origin(&[("origin", "null"), ("host", "relay.test:7800")], false)]
    fn own_pages_are_known(#[case] given: &[(&'static str, &'static str)], #[case] expected: bool) {
        let headers = given.iter().map(|(name, value)| {
            (axum::http::HeaderName::from_static(name), axum::http::HeaderValue::from_static(value))
        });
        assert_eq!(is_own(&headers.collect(), &Uri::from_static("/api/v1/channels")), expected);
    }
}
