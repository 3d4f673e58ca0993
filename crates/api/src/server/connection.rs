use std::convert::Infallible;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::{ConnectInfo, Request};
use axum::http::uri::Scheme;
use axum::http::{HeaderValue, header};
use axum::response::Response;
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;
use waverant_net::{Caller, Place, ServerTls, bound_send_buffer, give_up_after};

use super::activity::{Activity, BusyBody};
use super::console_path::ConsolePath;
use super::proxies::Proxies;

/// How long the handshake of TLS may take.
const HANDSHAKE_TIMEOUT: Duration = Duration::from_secs(5);

/// How long a request's head may take, and how long a connection may rest between two requests.
const HEAD_TIMEOUT: Duration = Duration::from_secs(10);

/// The same where many requests share a connection, which a browser then keeps.
const SHARED_IDLE: Duration = Duration::from_secs(30);

/// The longest head of a request, in bytes, and most of what one connection keeps in memory.
const HEAD_BYTES: u32 = 32 * 1024;

/// Requests of one connection that are answered at the same time, and what of an answer waits for who takes it.
const MAX_STREAMS: u32 = 32;
const STREAM_BUFFER: usize = 64 * 1024;

/// How often a quiet peer is asked whether it is there, and how long it may take to say so.
const PING_INTERVAL: Duration = Duration::from_secs(15);

/// How long a caller may take nothing of what is sent to it.
const STALL_TIMEOUT: Duration = Duration::from_secs(30);

/// What the kernel keeps for a caller that takes it slowly; it doubles the number.
const SEND_BUFFER: usize = 256 * 1024;

/// How long answers may go on once a connection that shares them is to end.
const LAST_ANSWERS: Duration = Duration::from_secs(30);

/// One caller's connection.
#[derive(Clone, Debug)]
pub(super) struct Connection {
    peer: SocketAddr,
    /// True if a proxy said that the caller came over TLS.
    is_secure: bool,
    proxies: Proxies,
    path: ConsolePath,
    place: Arc<Place>,
    router: Router,
    stopping: CancellationToken,
    activity: Activity,
}

impl Connection {
    pub(super) fn new(
        caller: Caller,
        (proxies, path): (Proxies, ConsolePath),
        place: Arc<Place>,
        router: Router,
        stopping: CancellationToken,
    ) -> Self {
        let Caller { address: peer, is_secure } = caller;
        Self { peer, is_secure, proxies, path, place, router, stopping, activity: Activity::new() }
    }

    /// Serves it to its end.
    pub(super) async fn carry(self, stream: TcpStream, tls: Option<Arc<ServerTls>>) {
        let _ = stream.set_nodelay(true);
        let _ = give_up_after(&stream, STALL_TIMEOUT);
        let _ = bound_send_buffer(&stream, SEND_BUFFER);
        let peer = self.peer;
        let outcome = match tls {
            None => self.alone(stream, false).await,
            Some(tls) => match timeout(HANDSHAKE_TIMEOUT, tls.accept_http(stream)).await {
                Ok(Ok(Some((stream, true)))) => self.shared(stream).await,
                Ok(Ok(Some((stream, false)))) => self.alone(stream, true).await,
                Ok(Ok(None)) => {
                    tracing::debug!(%peer, "an authority looked whether a name is ours");
                    return;
                }
                Ok(Err(error)) => {
                    tracing::debug!(%peer, %error, "TLS was broken off");
                    return;
                }
                Err(_) => return,
            },
        };
        if let Err(error) = outcome {
            tracing::debug!(%peer, %error, "a connection over HTTP ended");
        }
    }

    /// HTTP/1.1: one request after the other.
    async fn alone<S>(self, stream: S, is_secure: bool) -> hyper::Result<()>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let (displaced, stopping) = (self.place.displaced.clone(), self.stopping.clone());
        let service = service_fn(move |request| self.clone().answer(request, is_secure));
        let mut builder = http1::Builder::new();
        let head_bytes = usize::try_from(HEAD_BYTES).unwrap_or(usize::MAX);
        builder.timer(TokioTimer::new()).header_read_timeout(HEAD_TIMEOUT).max_buf_size(head_bytes);
        let mut connection = pin!(builder.serve_connection(TokioIo::new(stream), service).with_upgrades());
        tokio::select! {
            outcome = connection.as_mut() => outcome,
            // Dropping it closes the socket.
            () = displaced.cancelled() => Ok(()),
            () = stopping.cancelled() => {
                connection.as_mut().graceful_shutdown();
                connection.await
            }
        }
    }

    /// HTTP/2: many requests at the same time.
    ///
    /// Source: RFC 9113
    async fn shared<S>(self, stream: S) -> hyper::Result<()>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let (displaced, stopping) = (self.place.displaced.clone(), self.stopping.clone());
        let activity = self.activity.clone();
        let service = service_fn(move |request| {
            let (connection, busy) = (self.clone(), self.activity.begin());
            async move {
                let response = connection.answer(request, true).await?;
                Ok::<_, Infallible>(response.map(|body| Body::new(BusyBody::new(body, busy))))
            }
        });
        let mut builder = http2::Builder::new(TokioExecutor::new());
        builder.timer(TokioTimer::new()).max_header_list_size(HEAD_BYTES).max_concurrent_streams(MAX_STREAMS);
        builder.max_send_buf_size(STREAM_BUFFER).keep_alive_interval(PING_INTERVAL).keep_alive_timeout(PING_INTERVAL);
        let mut connection = pin!(builder.serve_connection(TokioIo::new(stream), service));
        tokio::select! {
            outcome = connection.as_mut() => return outcome,
            () = displaced.cancelled() => return Ok(()),
            () = activity.idle_for(SHARED_IDLE) => {}
            () = stopping.cancelled() => {}
        }
        connection.as_mut().graceful_shutdown();
        timeout(LAST_ANSWERS, connection).await.unwrap_or(Ok(()))
    }

    async fn answer(self, request: hyper::Request<Incoming>, is_secure: bool) -> Result<Response, Infallible> {
        let mut request: Request = request.map(Body::new);
        // HTTP/2 says the host in the address; whoever looks for it looks at one place.
        if !request.headers().contains_key(header::HOST)
            && let Some(host) = request.uri().authority().and_then(|host| HeaderValue::from_str(host.as_str()).ok())
        {
            request.headers_mut().insert(header::HOST, host);
        }
        if let Some(uri) = self.path.taken_off(request.uri()) {
            *request.uri_mut() = uri;
        }
        let (caller, is_secure) = self.proxies.caller(self.peer, is_secure || self.is_secure, request.headers());
        request.extensions_mut().insert(if is_secure { Scheme::HTTPS } else { Scheme::HTTP });
        request.extensions_mut().insert(ConnectInfo(caller));
        request.extensions_mut().insert(self.place.clone());
        // What comes behind such a body may be a part of it to a proxy that reckons its length otherwise: it is never
        // answered. Source: RFC 9112, 6.1 and 11.2
        let is_last = request.headers().contains_key(header::TRANSFER_ENCODING);
        let mut response = self.router.oneshot(request).await?;
        if is_last {
            response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
        }
        Ok(response)
    }
}
