//! Platforms that take everything and measure how old it is.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio::time::sleep;
use tokio_rustls::TlsAcceptor;
use waverant_rtmp::{MediaKind, ServerConfig, ServerConnection, ServerEvent};

use crate::latency::Latencies;
use crate::source::{age, number};

/// Bytes of a video tag before the picture.
const TAG_HEADER: usize = 5;

/// What all sinks of a measurement share.
#[derive(Default)]
pub(crate) struct Sinks {
    pub(crate) taken: AtomicUsize,
    pub(crate) counting: AtomicBool,
    pub(crate) finished: AtomicBool,
    pub(crate) bytes: AtomicU64,
    /// Pictures that a sink did not get between two that it got.
    pub(crate) lost: AtomicU64,
}

/// Takes all streams until the measurement is finished.
pub(crate) async fn accept_all(
    listener: TcpListener,
    began: Instant,
    state: Arc<Sinks>,
    tls: Option<TlsAcceptor>,
) -> Latencies {
    let mut connections = JoinSet::new();
    let mut latencies = Latencies::default();
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                if let Ok((stream, _)) = accepted {
                    let (state, tls) = (state.clone(), tls.clone());
                    connections.spawn(async move {
                        match tls {
                            None => read_sink(stream, began, state).await,
                            Some(tls) => match tls.accept(stream).await {
                                Ok(stream) => read_sink(stream, began, state).await,
                                Err(_) => Latencies::default(),
                            },
                        }
                    });
                }
            }
            Some(ended) = connections.join_next() => latencies.extend(ended.unwrap_or_default()),
            () = sleep(Duration::from_millis(200)) => {}
        }
        if state.finished.load(Ordering::Relaxed) && connections.is_empty() {
            return latencies;
        }
    }
}

async fn read_sink(mut stream: impl AsyncRead + AsyncWrite + Unpin, began: Instant, state: Arc<Sinks>) -> Latencies {
    let mut server = ServerConnection::new(ServerConfig::default(), Instant::now());
    let mut latencies = Latencies::default();
    let mut buffer = vec![0; 64 * 1024];
    let mut last = None;
    loop {
        while let Some(piece) = server.poll_transmit() {
            if stream.write_all(&piece).await.is_err() {
                return latencies;
            }
        }
        let _ = stream.flush().await;
        let count = stream.read(&mut buffer).await.unwrap_or(0);
        if count == 0 || server.handle_input(Instant::now(), &buffer[..count]).is_err() {
            return latencies;
        }
        while let Some(event) = server.poll_event() {
            match event {
                ServerEvent::PublishRequested(request) => {
                    state.taken.fetch_add(1, Ordering::Relaxed);
                    let _ = server.accept_publish(Instant::now(), request.stream);
                }
                ServerEvent::Media { kind: MediaKind::Video, body, .. } => {
                    if let Some(number) = number(&body[TAG_HEADER..]) {
                        let before = last.replace(number).unwrap_or(number.saturating_sub(1));
                        state.lost.fetch_add(number.saturating_sub(before + 1), Ordering::Relaxed);
                    }
                    if !state.counting.load(Ordering::Relaxed) {
                        continue;
                    }
                    state.bytes.fetch_add((body.len() - TAG_HEADER) as u64, Ordering::Relaxed);
                    if let Some(latency) = age(&body[TAG_HEADER..], began) {
                        latencies.push(latency);
                    }
                }
                _ => {}
            }
        }
    }
}
