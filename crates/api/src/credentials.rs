use axum::http::{HeaderMap, header};

/// Name of the console's cookie.
pub(crate) const COOKIE: &str = "waverant";

/// True if the call carries a token that no browser adds by itself.
pub(crate) fn has_bearer(headers: &HeaderMap) -> bool {
    let value = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    value.is_some_and(|value| value.starts_with("Bearer "))
}

/// The bearer token of a program, or the cookie of the console.
pub(crate) fn token_of(headers: &HeaderMap) -> Option<String> {
    let bearer = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    if let Some(token) = bearer.and_then(|value| value.strip_prefix("Bearer ")) {
        return Some(token.trim().to_owned());
    }
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let mut pairs = cookies.flat_map(|line| line.split(';')).filter_map(|pair| pair.trim().split_once('='));
    pairs.find(|(name, _)| *name == COOKIE).map(|(_, value)| value.to_owned())
}
