use std::convert::Infallible;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::uri::Scheme;
use axum::http::{Extensions, HeaderMap, HeaderValue, header};
use time::Duration;
use waverant_relay::Secret;

use crate::ApiState;
use crate::server::ConsolePath;

/// True if the call came over TLS, to us or to a proxy whose word counts.
pub(crate) fn is_secure(extensions: &Extensions) -> bool {
    extensions.get::<Scheme>() == Some(&Scheme::HTTPS)
}

/// True if the call carries a token that no browser adds by itself.
pub(crate) fn has_bearer(headers: &HeaderMap) -> bool {
    bearer_of(headers).is_some()
}

/// The bearer token of a program.
///
/// Source: RFC 6750, 2.1
pub(crate) fn bearer_of(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    value.and_then(|value| value.strip_prefix("Bearer ")).map(str::trim)
}

/// What opens the API to a call: the bearer token of a program, or the console's cookie.
pub(crate) fn token_of(state: &ApiState, parts: &Parts) -> Option<String> {
    let bearer = bearer_of(&parts.headers).map(str::to_owned);
    bearer.or_else(|| ConsoleCookie::of(state, parts).token_in(&parts.headers))
}

/// The cookie of a console, as it is called and bounded where the call came from.
#[derive(Clone, Debug)]
pub(crate) struct ConsoleCookie {
    is_secure: bool,
    path: ConsolePath,
}

impl ConsoleCookie {
    fn of(state: &ApiState, parts: &Parts) -> Self {
        Self { is_secure: is_secure(&parts.extensions), path: state.console_path.clone() }
    }

    /// Over TLS browsers take a cookie of such a name from this very host alone, and only over TLS: no neighbour and
    /// nobody on the line can put another one in its place.
    ///
    /// Source: RFC 6265bis (draft), 4.1.3
    fn name(&self) -> &'static str {
        match (self.is_secure, self.path.is_root()) {
            (false, _) => "waverant",
            (true, true) => "__Host-waverant",
            (true, false) => "__Secure-waverant",
        }
    }

    fn token_in(&self, headers: &HeaderMap) -> Option<String> {
        let lines = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
        let mut pairs = lines.flat_map(|line| line.split(';')).filter_map(|pair| pair.trim().split_once('='));
        pairs.find(|(name, _)| *name == self.name()).map(|(_, value)| value.to_owned())
    }

    /// Gives it to a browser, for a while.
    pub(crate) fn given(&self, token: &Secret, life: Duration) -> Option<HeaderValue> {
        self.set(token.reveal(), life)
    }

    /// Takes it back.
    pub(crate) fn taken_back(&self) -> Option<HeaderValue> {
        self.set("", Duration::ZERO)
    }

    fn set(&self, value: &str, life: Duration) -> Option<HeaderValue> {
        let (name, life) = (self.name(), life.whole_seconds());
        let path = if self.path.is_root() { "/".to_owned() } else { self.path.to_string() };
        let secure = if self.is_secure { "; Secure" } else { "" };
        let text = format!("{name}={value}; Path={path}; HttpOnly; SameSite=Strict; Max-Age={life}{secure}");
        HeaderValue::from_str(&text).ok()
    }
}

impl FromRequestParts<ApiState> for ConsoleCookie {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Infallible> {
        Ok(Self::of(state, parts))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::in_the_clear(false, "", "waverant=wvt-1; Path=/; HttpOnly; SameSite=Strict; Max-Age=60")]
    #[case::over_tls(true, "", "__Host-waverant=wvt-1; Path=/; HttpOnly; SameSite=Strict; Max-Age=60; Secure")]
    #[case::under_a_path(
        true,
        "/relay",
        "__Secure-waverant=wvt-1; Path=/relay; HttpOnly; SameSite=Strict; Max-Age=60; Secure"
    )]
    fn the_cookie_is_bound_as_far_as_it_can_be(#[case] is_secure: bool, #[case] path: &str, #[case] expected: &str) {
        let path = if path.is_empty() { ConsolePath::default() } else { path.parse().unwrap() };
        let cookie = ConsoleCookie { is_secure, path };
        assert_eq!(cookie.given(&Secret::new("wvt-1"), Duration::minutes(1)).unwrap(), expected);
        let sent = expected.split(';').next().unwrap();
        let mut headers = HeaderMap::new();
        headers.append(header::COOKIE, HeaderValue::from_static("theme=dark; lane=3"));
        headers.append(header::COOKIE, HeaderValue::from_str(&format!("x=1; {sent}")).unwrap());
        assert_eq!(cookie.token_in(&headers).as_deref(), Some("wvt-1"));
        let other = ConsoleCookie { is_secure: !is_secure, path: cookie.path.clone() };
        assert_eq!(other.token_in(&headers), None, "what was put there in the clear opens nothing over TLS");
    }
}
