use std::str::FromStr;
use std::time::Duration;

use axum::extract::FromRequestParts;
use axum::http::header;
use axum::http::request::Parts;
use webauthn_rs::prelude::{Url, WebauthnResult};
use webauthn_rs::{Webauthn, WebauthnBuilder};

use crate::{ApiError, ApiState};

/// How long a challenge is good. Browsers are told the same.
pub(super) const LIFE: Duration = Duration::from_secs(300);

/// The site that a browser calls from. Passkeys are bound to its host: a page elsewhere, even one that hands all on to us,
/// gets no answer of them that is good here.
///
/// Source: WebAuthn Level 3, 4 (Relying Party Identifier), 7.2
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Site {
    host: String,
    origin: Url,
}

impl Site {
    pub(super) fn host(&self) -> &str {
        &self.host
    }

    pub(super) fn library(&self) -> WebauthnResult<Webauthn> {
        WebauthnBuilder::new(&self.host, &self.origin)?.rp_name("Waverant").timeout(LIFE).build()
    }
}

impl FromStr for Site {
    type Err = &'static str;

    fn from_str(origin: &str) -> Result<Self, &'static str> {
        let url: Url = origin.parse().map_err(|_| "The address of the page was expected in the header `Origin`.")?;
        let host = url.domain().ok_or("Browsers take passkeys for names only: open the console by its name.")?;
        let is_local = host == "localhost" || host.ends_with(".localhost");
        if url.scheme() != "https" && !(url.scheme() == "http" && is_local) {
            return Err("Browsers take passkeys over HTTPS only: give the house a certificate.");
        }
        Ok(Self { host: host.to_owned(), origin: url })
    }
}

impl FromRequestParts<ApiState> for Site {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &ApiState) -> Result<Self, ApiError> {
        let origin = parts.headers.get(header::ORIGIN).and_then(|origin| origin.to_str().ok());
        let missing = "Passkeys are for browsers: use an authenticator or a recovery code.";
        origin.ok_or(missing).and_then(str::parse).map_err(|told: &str| ApiError::Conflict(told.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://relay.wexcombe.example", Some("relay.wexcombe.example"))]
    #[case("https://relay.wexcombe.example:7801", Some("relay.wexcombe.example"))]
    #[case("http://localhost:7800", Some("localhost"))]
    #[case("http://relay.wexcombe.example", None)]
    #[case("https://192.0.2.16:7801", None)]
    #[case("https://[2001:db8::1]", None)]
    #[case("null", None)]
    #[case("", None)]
    fn passkeys_are_for_names_over_tls(#[case] origin: &str, #[case] host: Option<&str>) {
        let site = origin.parse::<Site>();
        assert_eq!(site.as_ref().ok().map(Site::host), host, "{site:?}");
        assert!(site.is_err() || site.is_ok_and(|site| site.library().is_ok()));
    }
}
