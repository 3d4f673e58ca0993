use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use axum::http::Uri;
use axum::http::uri::PathAndQuery;
use thiserror::Error;

/// The path under which a proxy has the console, as in `/relay`; empty if it has a host of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ConsolePath(Arc<str>);

/// Why a path cannot be one.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error(
    "expected a path as in /relay: letters, digits, `-`, `_` and `.` between slashes, and none at the end; found `{0}`"
)]
pub struct NoConsolePath(String);

impl FromStr for ConsolePath {
    type Err = NoConsolePath;

    fn from_str(text: &str) -> Result<Self, NoConsolePath> {
        let is_name = |name: &str| {
            let is_plain = name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte));
            is_plain && !matches!(name, "" | "." | "..")
        };
        match text.strip_prefix('/') {
            Some(names) if names.len() <= 128 && names.split('/').all(is_name) => Ok(Self(text.into())),
            _ => Err(NoConsolePath(text.to_owned())),
        }
    }
}

impl fmt::Display for ConsolePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl ConsolePath {
    /// True if the console has a host of its own.
    pub(crate) fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The address without this path, if it begins with it. Some proxies take it off, and some do not.
    pub(super) fn taken_off(&self, uri: &Uri) -> Option<Uri> {
        let rest = uri.path_and_query()?.as_str().strip_prefix(&*self.0).filter(|_| !self.is_root())?;
        let rest = match rest.as_bytes().first() {
            Some(b'/') => rest.to_owned(),
            None | Some(b'?') => format!("/{rest}"),
            Some(_) => return None,
        };
        let mut parts = uri.clone().into_parts();
        parts.path_and_query = Some(PathAndQuery::try_from(rest).ok()?);
        Uri::from_parts(parts).ok()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/relay", "/relay/api/v1/me?x=1", Some("/api/v1/me?x=1"))]
    #[case("/relay", "/relay", Some("/"))]
    #[case("/relay", "/relay?x", Some("/?x"))]
    #[case("/club/relay", "/club/relay/", Some("/"))]
    #[case("/relay", "/relays", None)]
    #[case("/relay", "/api/v1/me", None)]
    #[case("/relay", "http://relay.test/relay/people", Some("http://relay.test/people"))]
    fn the_path_is_taken_off(#[case] path: &str, #[case] uri: &str, #[case] expected: Option<&str>) {
        let path: ConsolePath = path.parse().unwrap();
        assert_eq!(path.taken_off(&uri.parse().unwrap()), expected.map(|uri| uri.parse().unwrap()));
    }

    #[test]
    fn without_a_path_nothing_is_taken_off() {
        assert_eq!(ConsolePath::default().taken_off(&Uri::from_static("/api")), None);
    }

    #[rstest]
    fn what_is_no_path_is_told(#[values("relay", "/", "/relay/", "/../x", "/a b", "//x", "/\"><", "/a;b")] text: &str
    ) {
        assert!(text.parse::<ConsolePath>().unwrap_err().to_string().contains(text));
    }
}
