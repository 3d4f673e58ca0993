use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use http::header::{CONTENT_TYPE, RETRY_AFTER, USER_AGENT};
use http::{HeaderValue, Request};
use instant_acme::{BodyWrapper, BytesResponse, Error, HttpClient};
use parking_lot::Mutex;
use reqwest::redirect::Policy;

use crate::fault::with_causes;
use crate::{Fault, Wanted};

/// How long one call may take.
const CALL_TIMEOUT: Duration = Duration::from_secs(30);

/// The longest answer: a chain of certificates is a few kilobytes.
const MAX_ANSWER: usize = 256 * 1024;

/// No authority is left alone for longer than this, whatever it says.
const MAX_WAIT: Duration = Duration::from_secs(86_400);

const OUR_NAME: &str = concat!("waverant/", env!("CARGO_PKG_VERSION"));

/// How an authority is called: over TLS only, with bounds on time and size.
#[derive(Clone, Debug)]
pub(crate) struct Client {
    calls: reqwest::Client,
    wait: Arc<Mutex<Option<Duration>>>,
}

impl Client {
    pub(crate) fn new(wanted: &Wanted) -> Result<Self, Fault> {
        let tls = waverant_net::client_config(wanted.trusted.as_deref())
            .map_err(|error| Fault::new(format!("the file `trusted_file`: {error}")))?;
        let builder = reqwest::Client::builder().tls_backend_preconfigured((*tls).clone());
        let builder = builder.https_only(true).redirect(Policy::none()).no_proxy().timeout(CALL_TIMEOUT);
        let calls = builder.build().map_err(|error| Fault::ours(&error))?;
        Ok(Self { calls, wait: Arc::default() })
    }

    /// How long the authority said last that it wants to be left alone.
    pub(crate) fn wait(&self) -> Option<Duration> {
        *self.wait.lock()
    }

    async fn call(self, mut request: Request<BodyWrapper<Bytes>>) -> Result<BytesResponse, Error> {
        request.headers_mut().insert(USER_AGENT, HeaderValue::from_static(OUR_NAME));
        let host = request.uri().host().unwrap_or_default().to_owned();
        let failed = |error: reqwest::Error| {
            let told = with_causes(&error.without_url());
            Error::Other(format!("{host} cannot be reached: {told}").into())
        };
        let request = reqwest::Request::try_from(request.map(reqwest::Body::wrap)).map_err(failed)?;
        let mut response = self.calls.execute(request).await.map_err(failed)?;
        let mut answer = BytesMut::new();
        while let Some(piece) = response.chunk().await.map_err(failed)? {
            if answer.len() + piece.len() > MAX_ANSWER {
                return Err(Error::Other(format!("the answer of {host} is longer than {MAX_ANSWER} bytes").into()));
            }
            answer.extend_from_slice(&piece);
        }
        let (parts, ()) = http::Response::<reqwest::Body>::from(response).map(|_| ()).into_parts();
        let seconds = parts.headers.get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.trim().parse().ok());
        let is_error = parts.status.is_client_error() || parts.status.is_server_error();
        *self.wait.lock() = seconds.filter(|_| is_error).map(|seconds: u64| Duration::from_secs(seconds).min(MAX_WAIT));
        let kind = parts.headers.get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
        if !parts.status.is_success() && !kind.contains("json") {
            return Err(Error::Other(
                format!("{host} answers {}; is the address of the directory right?", parts.status).into(),
            ));
        }
        Ok(BytesResponse { parts, body: Box::new(answer.freeze()) })
    }
}

impl HttpClient for Client {
    fn request(
        &self,
        request: Request<BodyWrapper<Bytes>>,
    ) -> Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>> {
        Box::pin(self.clone().call(request))
    }
}
