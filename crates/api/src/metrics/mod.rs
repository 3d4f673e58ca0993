//! What monitoring reads: figures in the text exposition format, and two addresses that say whether the service lives.

mod families;
mod figures;

use std::io::Write;
use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use flate2::Compression;
use flate2::write::GzEncoder;
use serde_json::json;

use crate::ApiState;
use crate::board::look;
use crate::credentials::bearer_of;

/// The format and its version.
const CONTENT_TYPE: &str = "text/plain; version=0.0.4; charset=utf-8";

/// Headers by which proxies say that somebody else calls.
const FORWARDED: [&str; 2] = ["x-forwarded-for", "forwarded"];

/// Who may read the figures.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MetricsAccess {
    /// Callers on this machine, without a token.
    pub from_loopback: bool,
    /// Whoever has this token.
    pub token: Option<Arc<str>>,
}

impl MetricsAccess {
    fn lets_in(&self, caller: SocketAddr, headers: &HeaderMap) -> bool {
        // A proxy that nobody told us of calls from here for all the world.
        let is_own = caller.ip().is_loopback() && !FORWARDED.iter().any(|name| headers.contains_key(*name));
        let bears = |token: &Arc<str>| bearer_of(headers).is_some_and(|found| is_same(found, token));
        self.from_loopback && is_own || self.token.as_ref().is_some_and(bears)
    }
}

/// Takes the same time wherever two texts of one length differ.
fn is_same(one: &str, other: &str) -> bool {
    let differences = one.bytes().zip(other.bytes()).fold(0, |sum, (one, other)| sum | one ^ other);
    one.len() == other.len() && differences == 0
}

/// The figures, for who may read them.
pub(super) async fn metrics(
    State(state): State<ApiState>,
    ConnectInfo(caller): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
) -> Response {
    if !state.metrics.lets_in(caller, &headers) {
        let told = "The figures are for callers on this machine, or with the token of `metrics.token_file`.\n";
        return (StatusCode::FORBIDDEN, told).into_response();
    }
    let text = text(&state);
    let mut response = match packed(&headers, &text) {
        Some(packed) => ([(header::CONTENT_ENCODING, "gzip")], packed).into_response(),
        None => text.into_response(),
    };
    response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(CONTENT_TYPE));
    response
}

/// A large house's figures are a megabyte, and a tenth of that packed; who takes them packed says so.
fn packed(headers: &HeaderMap, text: &str) -> Option<Vec<u8>> {
    let takes = headers.get(header::ACCEPT_ENCODING)?.to_str().ok()?;
    let mut codings = takes.split(',').map(str::trim);
    let is_taken = codings.any(|coding| coding.split(';').next() == Some("gzip") && !coding.ends_with(";q=0"));
    let mut packer = GzEncoder::new(Vec::new(), Compression::fast());
    is_taken.then(|| packer.write_all(text.as_bytes()).and_then(|()| packer.finish()).ok()).flatten()
}

/// The figures in their format.
pub(crate) fn text(state: &ApiState) -> String {
    let house = &state.house;
    let counted = figures::Counted {
        database_answers: house.database_answers(),
        leg_lags: house.leg_lags(),
        write_times: house.write_times(),
    };
    families::written(&figures::families(&counted, &look(house)))
}

/// The service answers: that is all.
pub(super) async fn live() -> &'static str {
    "alive\n"
}

/// The service can do its work: its database answers.
pub(super) async fn ready(State(state): State<ApiState>) -> Response {
    let is_ready = state.house.database_answers();
    let status = if is_ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, Json(json!({"is_ready": is_ready, "database_answers": is_ready}))).into_response()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(None, false)]
    #[case(Some("gzip"), true)]
    #[case(Some("br, gzip;q=0.5"), true)]
    #[case(Some("gzip;q=0"), false)]
    #[case(Some("deflate"), false)]
    fn figures_are_packed_for_who_takes_them_so(#[case] takes: Option<&'static str>, #[case] expected: bool) {
        let mut headers = HeaderMap::new();
        headers.extend(takes.map(|takes| (header::ACCEPT_ENCODING, HeaderValue::from_static(takes))));
        let text = "waverant_leg_carrying 1\n".repeat(1000);
        let found = packed(&headers, &text);
        assert_eq!(found.is_some(), expected);
        if let Some(packed) = found {
            let mut unpacked = String::new();
            std::io::Read::read_to_string(&mut flate2::read::GzDecoder::new(packed.as_slice()), &mut unpacked).unwrap();
            assert!(unpacked == text && packed.len() * 10 < text.len());
        }
    }

    #[rstest]
    #[case::own("127.0.0.1:1", &[], true)]
    #[case::own_six("[::1]:1", &[], true)]
    #[case::stranger("192.0.2.7:1", &[], false)]
    #[case::by_a_proxy("127.0.0.1:1", &[("x-forwarded-for", "192.0.2.7")], false)]
    #[case::with_the_token("192.0.2.7:1", &[("authorization", "Bearer weir-and-lock")], true)]
    #[case::with_another("192.0.2.7:1", &[("authorization", "Bearer weir-and-loch")], false)]
    #[case::with_a_part("192.0.2.7:1", &[("authorization", "Bearer weir")], false)]
    fn figures_are_for_few(
        #[case] caller: &str,
        #[case] given: &[(&'static str, &'static str)],
        #[case] expected: bool,
    ) {
        let mut headers = HeaderMap::new();
        for (name, value) in given {
            headers.insert(*name, HeaderValue::from_static(value));
        }
        let access = MetricsAccess { from_loopback: true, token: Some("weir-and-lock".into()) };
        assert_eq!(access.lets_in(caller.parse().unwrap(), &headers), expected);
        let closed = MetricsAccess::default();
        assert!(!closed.lets_in(caller.parse().unwrap(), &headers));
    }
}
