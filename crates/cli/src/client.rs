use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use ureq::http::request::Builder;
use ureq::http::{Request, Response};
use ureq::{Agent, Body};
use waverant_model::{Problem, VERSION_HEADER};

use crate::account::Account;
use crate::error::Failure;

const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);

/// Calls of the HTTP API.
pub(crate) struct Client {
    agent: Agent,
    url: String,
    token: Option<String>,
}

impl Client {
    /// Calls as the account says.
    pub(crate) fn signed_in() -> Result<Self, Failure> {
        let account = Account::load()?;
        Ok(Self::new(account.url, Some(account.token)))
    }

    /// Calls without a token, to sign in.
    pub(crate) fn anonymous(url: String) -> Self {
        Self::new(url, None)
    }

    fn new(url: String, token: Option<String>) -> Self {
        let config = Agent::config_builder()
            .user_agent(concat!("waverant/", env!("CARGO_PKG_VERSION")))
            .http_status_as_error(false)
            .timeout_connect(Some(CONNECT_TIMEOUT))
            .build();
        Self { agent: config.into(), url, token }
    }

    pub(crate) fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.order("GET", path)
    }

    /// Calls without saying more, and reads the answer; an empty one is `()`.
    pub(crate) fn order<T: DeserializeOwned>(&self, method: &str, path: &str) -> Result<T, Failure> {
        self.answer(method, path, None)
    }

    /// Calls with a form, and reads the answer.
    pub(crate) fn call<T: DeserializeOwned>(
        &self,
        method: &str,
        path: &str,
        form: &impl Serialize,
    ) -> Result<T, Failure> {
        let body = serde_json::to_vec(form).map_err(|error| Failure::Usage(error.to_string()))?;
        self.answer(method, path, Some(("application/json", body)))
    }

    /// Puts a file and reads the answer.
    pub(crate) fn upload<T: DeserializeOwned>(
        &self,
        path: &str,
        kind: &'static str,
        bytes: &[u8],
    ) -> Result<T, Failure> {
        self.answer("PUT", path, Some((kind, bytes.to_vec())))
    }

    fn answer<T: DeserializeOwned>(
        &self,
        method: &str,
        path: &str,
        body: Option<(&'static str, Vec<u8>)>,
    ) -> Result<T, Failure> {
        let mut response = self.send(self.request(method, path), body)?;
        let text = response.body_mut().read_to_string().map_err(|error| self.unreachable(&error))?;
        let text = if text.is_empty() { "null" } else { &text };
        serde_json::from_str(text).map_err(|_| by_version(self.not_the_api(&response), &response))
    }

    /// Begins to fetch a file; with `part` from a byte on, if it still is the file of that validator.
    pub(crate) fn fetch(&self, path: &str, part: Option<(u64, &str)>) -> Result<Response<Body>, Failure> {
        let mut request = self.request("GET", path);
        if let Some((from, tag)) = part {
            request = request.header("range", format!("bytes={from}-")).header("if-range", tag);
        }
        self.send(request, None)
    }

    fn request(&self, method: &str, path: &str) -> Builder {
        let mut request = Request::builder().method(method).uri(format!("{}/api/v1{path}", self.url));
        if let Some(token) = &self.token {
            request = request.header("authorization", format!("Bearer {token}"));
        }
        request
    }

    fn send(&self, mut request: Builder, body: Option<(&'static str, Vec<u8>)>) -> Result<Response<Body>, Failure> {
        if let Some((kind, _)) = &body {
            request = request.header("content-type", *kind);
        }
        let request = request
            .body(body.map(|(_, bytes)| bytes).unwrap_or_default())
            .map_err(|error| Failure::Usage(format!("`{}` is no address: {error}", self.url)))?;
        let mut response = self.agent.run(request).map_err(|error| self.unreachable(&error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let text = response.body_mut().read_to_string().unwrap_or_default();
        let failure = match serde_json::from_str::<Problem>(&text) {
            Ok(problem) => Failure::Refused(Box::new(problem)),
            Err(_) => self.not_the_api(&response),
        };
        Err(by_version(failure, &response))
    }

    fn unreachable(&self, error: &ureq::Error) -> Failure {
        Failure::Unreachable { url: self.url.clone(), reason: error.to_string() }
    }

    fn not_the_api(&self, response: &Response<Body>) -> Failure {
        Failure::NotTheApi { url: self.url.clone(), found: response.status().to_string() }
    }
}

/// A failure, and that the service is of another version if it says so.
fn by_version(failure: Failure, response: &Response<Body>) -> Failure {
    let service = response.headers().get(VERSION_HEADER).and_then(|version| version.to_str().ok());
    match service.filter(|service| *service != env!("CARGO_PKG_VERSION")) {
        Some(service) => Failure::Apart { failure: Box::new(failure), service: service.chars().take(40).collect() },
        None => failure,
    }
}

/// A name as one piece of a path.
pub(crate) fn piece(name: &str) -> String {
    let mut out = String::new();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b'~' => out.push(char::from(byte)),
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out
}

/// A path with what is asked for behind it; what is none is left out.
pub(crate) fn with_query(place: &str, query: Vec<(&str, Option<String>)>) -> String {
    let given = query.into_iter().filter_map(|(name, value)| Some(format!("{name}={}", piece(&value?))));
    format!("{place}?{}", given.collect::<Vec<_>>().join("&"))
}

#[cfg(test)]
mod tests {
    use super::{piece, with_query};

    #[test]
    fn what_is_none_is_not_asked_for() {
        let query = vec![("person", Some("the cox".to_owned())), ("limit", None), ("what", Some("a".to_owned()))];
        assert_eq!(with_query("/acts", query), "/acts?person=the%20cox&what=a");
    }

    #[test]
    fn names_are_escaped_in_paths() {
        assert_eq!(piece("Quay side/1"), "Quay%20side%2F1");
        assert_eq!(piece("quayside"), "quayside");
    }
}
