use std::borrow::Cow;
use std::error::Error as _;
use std::fmt;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use reqwest::header::{CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue, LOCATION, RETRY_AFTER, USER_AGENT};
use reqwest::redirect::Policy;
use thiserror::Error;
use tokio::sync::OnceCell;
use waverant_relay::printable;

use crate::{CallAddress, Reachable};

const OUR_NAME: &str = concat!("waverant/", env!("CARGO_PKG_VERSION"));

/// How long a connection may take to be made.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);

/// Connections that are kept for the next call, and for how long.
const KEPT: usize = 8;
const KEPT_FOR: Duration = Duration::from_secs(30);

/// What is told of an error, in characters.
const MAX_TOLD: usize = 300;

/// Calls other systems.
#[derive(Clone, Debug, Default)]
pub struct CallClient {
    reachable: Reachable,
    client: Arc<OnceCell<reqwest::Client>>,
}

/// One call.
#[derive(Clone, Debug)]
pub struct Call {
    /// Headers beside those that every call has.
    pub headers: Vec<(&'static str, String)>,
    /// What is sent.
    pub body: Bytes,
    /// How long it may take with all that comes back.
    pub limit: Duration,
    /// The longest answer that is read, in bytes.
    pub most: usize,
    /// True if of a longer one the begin will do.
    pub takes_begin: bool,
}

/// What came back.
#[derive(Clone, Debug)]
pub struct Reply {
    /// The status.
    pub status: u16,
    /// What the answer says it is.
    pub kind: Option<String>,
    /// The answer.
    pub body: Bytes,
    /// Where it sends to instead.
    pub location: Option<String>,
    /// How long it wants to be left alone. Source: RFC 9110, 10.2.3
    pub retry_after: Option<Duration>,
    /// How long it took.
    pub took: Duration,
}

/// Why nothing came back.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum CallFault {
    /// It may not be called.
    #[error("{0}")]
    NotAllowed(String),
    /// It did not answer in time.
    #[error("{host} did not answer in {}", seconds(*.limit))]
    Slow {
        /// Who.
        host: String,
        /// How long was waited.
        limit: Duration,
    },
    /// It could not be reached, or broke off.
    #[error("{host} could not be called: {told}")]
    Broken {
        /// Who.
        host: String,
        /// Why.
        told: String,
    },
    /// It answers too much.
    #[error("the answer of {host} is longer than {most} bytes")]
    TooLong {
        /// Who.
        host: String,
        /// What is read.
        most: usize,
    },
}

impl CallFault {
    /// The same for who waited for all of it.
    fn within(self, limit: Duration) -> Self {
        match self {
            Self::Slow { host, .. } => Self::Slow { host, limit },
            other => other,
        }
    }
}

fn seconds(limit: Duration) -> impl fmt::Display {
    format!("{} s", limit.as_secs_f64())
}

impl CallClient {
    /// Calls lead to what is `reachable`.
    pub fn new(reachable: Reachable) -> Self {
        Self { reachable, client: Arc::default() }
    }

    /// Posts `call` to `address`. It follows nobody elsewhere: what it carries is meant for this address.
    ///
    /// # Errors
    /// [`CallFault`] if nothing came back.
    pub async fn post(&self, address: &CallAddress, call: Call) -> Result<Reply, CallFault> {
        let (host, limit) = (address.host().to_owned(), call.limit);
        if let Some(number) = address.number().filter(|number| !self.reachable.has(*number)) {
            return Err(CallFault::NotAllowed(Reachable::refusal(&host, number)));
        }
        let begun = Instant::now();
        match tokio::time::timeout(limit, self.send(address, call)).await {
            Ok(reply) => reply.map(|reply| Reply { took: begun.elapsed(), ..reply }),
            Err(_) => Err(CallFault::Slow { host, limit }),
        }
    }

    /// The same, but it follows where it is sent on to with what it carries (307 and 308), so many times; each address
    /// is looked at like the first. Source: RFC 9110, 15.4.8 and 15.4.9
    ///
    /// # Errors
    /// [`CallFault`] if nothing came back.
    pub async fn post_on(&self, address: &CallAddress, call: Call, most: usize) -> Result<Reply, CallFault> {
        let (begun, limit) = (Instant::now(), call.limit);
        let mut address = Cow::Borrowed(address);
        for _ in 0..=most {
            let left = limit.saturating_sub(begun.elapsed());
            let reply = self.post(&address, Call { limit: left, ..call.clone() }).await;
            let reply = reply.map_err(|fault| fault.within(limit))?;
            let Some(location) = reply.location.as_deref().filter(|_| matches!(reply.status, 307 | 308)) else {
                return Ok(Reply { took: begun.elapsed(), ..reply });
            };
            address = Cow::Owned(address.leading_to(location).map_err(CallFault::NotAllowed)?);
        }
        Err(CallFault::NotAllowed(format!("it sends on and on, more than {most} times")))
    }

    async fn send(&self, address: &CallAddress, call: Call) -> Result<Reply, CallFault> {
        let broken = |error: reqwest::Error| broken(address, error);
        let client = self
            .client
            .get_or_try_init(|| build(self.reachable.clone()))
            .await
            .map_err(|told| CallFault::Broken { host: address.host().to_owned(), told })?;
        let request = client.post(address.0.clone()).headers(headers(&call)).body(call.body);
        let mut response = request.send().await.map_err(broken)?;
        let mut body = BytesMut::new();
        while let Some(piece) = response.chunk().await.map_err(broken)? {
            if body.len() + piece.len() > call.most {
                // The rest of what it says of itself is of no matter.
                if call.takes_begin {
                    body.extend_from_slice(&piece[..call.most - body.len()]);
                    break;
                }
                return Err(CallFault::TooLong { host: address.host().to_owned(), most: call.most });
            }
            body.extend_from_slice(&piece);
        }
        let kind = response.headers().get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
        let text = |name| response.headers().get(name).and_then(|value| value.to_str().ok()).map(str::trim);
        let retry_after = text(RETRY_AFTER).and_then(|seconds| seconds.parse().ok()).map(Duration::from_secs);
        Ok(Reply {
            status: response.status().as_u16(),
            kind: kind.map(|kind| printable(kind, 100).into_owned()),
            location: text(LOCATION).map(str::to_owned),
            retry_after,
            body: body.freeze(),
            took: Duration::ZERO,
        })
    }
}

/// Reading the authorities of this machine takes a while, once.
async fn build(reachable: Reachable) -> Result<reqwest::Client, String> {
    let tls = tokio::task::spawn_blocking(|| waverant_net::client_config(None)).await;
    let tls = tls.map_err(|error| error.to_string())?.map_err(|error| error.to_string())?;
    let builder = reqwest::Client::builder().tls_backend_preconfigured((*tls).clone());
    let builder = builder.redirect(Policy::none()).no_proxy().connect_timeout(CONNECT_TIMEOUT);
    let builder = builder.pool_max_idle_per_host(KEPT).pool_idle_timeout(KEPT_FOR).tcp_nodelay(true);
    builder.dns_resolver(Arc::new(reachable)).build().map_err(|error| error.to_string())
}

fn headers(call: &Call) -> HeaderMap {
    let mut headers = HeaderMap::new();
    headers.insert(USER_AGENT, HeaderValue::from_static(OUR_NAME));
    for (name, value) in &call.headers {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(HeaderName::from_static(name), value);
        }
    }
    headers
}

fn broken(address: &CallAddress, error: reqwest::Error) -> CallFault {
    let error = error.without_url();
    let mut told = error.to_string();
    let mut cause = error.source();
    // The innermost says what was wrong.
    while let Some(inner) = cause {
        told = inner.to_string();
        cause = inner.source();
    }
    CallFault::Broken { host: address.host().to_owned(), told: printable(&told, MAX_TOLD).into_owned() }
}
