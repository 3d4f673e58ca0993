use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::sleep;
use tokio_rustls::TlsAcceptor;
use waverant_rtmp::{Refusal, ServerConfig, ServerConnection, ServerEvent};

use super::{ConnectionReport, PlatformFault, PlatformOptions, PlatformReport};
use crate::line::BoxedLine;
use crate::tag_marks::tag_marks;

pub(super) async fn accept_all(
    listener: TcpListener,
    options: PlatformOptions,
    report: Arc<Mutex<PlatformReport>>,
    changed: watch::Sender<u64>,
) {
    let taken = Arc::new(AtomicUsize::new(0));
    let changed = Arc::new(changed);
    // Dropped with this task, and all connections with it.
    let mut connections = JoinSet::new();
    while let Ok((stream, _)) = listener.accept().await {
        let place = {
            let mut report = report.lock();
            report.connections.push(ConnectionReport::default());
            report.connections.len() - 1
        };
        let resets = match options.fault {
            Some(PlatformFault::ResetOnceAfter(_)) => place == 0,
            Some(PlatformFault::ResetAfter(_)) => true,
            _ => false,
        };
        if resets {
            // Closing it sends a reset.
            let _ = stream.set_zero_linger();
        }
        let (options, report, changed, taken) = (options.clone(), report.clone(), changed.clone(), taken.clone());
        connections.spawn(async move {
            let config = ServerConfig {
                is_enhanced: options.is_enhanced,
                redirect: options.redirect.clone(),
                ..ServerConfig::default()
            };
            let server = ServerConnection::new(config, Instant::now());
            match secure(stream, &options).await {
                Ok(stream) => {
                    let (order, first_media) = (0, None);
                    let connection = Connection {
                        stream,
                        server,
                        options,
                        report,
                        changed,
                        taken,
                        place,
                        order,
                        first_media,
                        was_asked: false,
                    };
                    connection.run().await;
                }
                Err(error) => note(&report, &changed, place, |report| report.fault = Some(format!("TLS: {error}"))),
            }
        });
        while connections.try_join_next().is_some() {}
    }
}

async fn secure(stream: TcpStream, options: &PlatformOptions) -> std::io::Result<BoxedLine> {
    match &options.tls {
        Some(config) => Ok(Box::pin(TlsAcceptor::from(config.clone()).accept(stream).await?)),
        None => Ok(Box::pin(stream)),
    }
}

fn note(
    report: &Mutex<PlatformReport>,
    changed: &watch::Sender<u64>,
    place: usize,
    change: impl FnOnce(&mut ConnectionReport),
) {
    if let Some(report) = report.lock().connections.get_mut(place) {
        change(report);
    }
    changed.send_modify(|count| *count += 1);
}

struct Connection {
    stream: BoxedLine,
    server: ServerConnection,
    options: PlatformOptions,
    report: Arc<Mutex<PlatformReport>>,
    changed: Arc<watch::Sender<u64>>,
    taken: Arc<AtomicUsize>,
    place: usize,
    /// How many publishers were taken before this one.
    order: usize,
    first_media: Option<Instant>,
    was_asked: bool,
}

impl Connection {
    async fn run(mut self) {
        let limit = match self.options.fault {
            Some(PlatformFault::ReadSlowly(rate)) => usize::try_from(rate / 10).unwrap_or(1).max(1),
            _ => 64 * 1024,
        };
        let mut buffer = vec![0; limit];
        loop {
            let mut out = Vec::new();
            while let Some(piece) = self.server.poll_transmit() {
                out.extend_from_slice(&piece);
            }
            if !out.is_empty() && (self.stream.write_all(&out).await.is_err() || self.stream.flush().await.is_err()) {
                return;
            }
            if self.server.is_closing() {
                let _ = self.stream.shutdown().await;
                return;
            }
            if self.misbehave().await {
                return;
            }
            let Ok(count) = self.stream.read(&mut buffer).await else { return };
            if count == 0 {
                return;
            }
            if self.lacks_digest(&buffer[..count]) {
                return;
            }
            let heard = self.server.handle_input(Instant::now(), &buffer[..count]);
            self.handle_events();
            if let Err(error) = heard {
                return self.note(|report| report.fault = Some(error.to_string()));
            }
        }
    }

    /// True if this is the beginning of a greeting without a digest, where one is wanted. The
    /// client's version field stands behind C0 and the time.
    fn lacks_digest(&self, input: &[u8]) -> bool {
        let is_first = self.server.counters().received_bytes == 0;
        self.options.fault == Some(PlatformFault::WantsDigest) && is_first && input.get(5..9) == Some(&[0; 4])
    }

    /// True if the connection is to be dropped.
    async fn misbehave(&mut self) -> bool {
        let media_for = self.first_media.map(|first| first.elapsed());
        let is_due = |time: Duration| media_for.is_some_and(|elapsed| elapsed >= time);
        match self.options.fault {
            Some(PlatformFault::ResetOnceAfter(time)) if self.order == 0 && is_due(time) => true,
            Some(PlatformFault::ResetAfter(time)) if is_due(time) => true,
            Some(PlatformFault::SayNothing) => std::future::pending().await,
            Some(PlatformFault::AskToReconnectOnceAfter(time))
                if self.order == 0 && is_due(time) && !self.was_asked =>
            {
                self.was_asked = true;
                self.server.request_reconnect(None, "This machine is taken out of service.");
                let mut out = Vec::new();
                while let Some(piece) = self.server.poll_transmit() {
                    out.extend_from_slice(&piece);
                }
                self.stream.write_all(&out).await.is_err()
            }
            Some(PlatformFault::StallAfter(time)) if is_due(time) => std::future::pending().await,
            Some(PlatformFault::ReadSlowly(_)) => {
                sleep(Duration::from_millis(100)).await;
                false
            }
            _ => false,
        }
    }

    fn handle_events(&mut self) {
        while let Some(event) = self.server.poll_event() {
            match event {
                ServerEvent::PublishRequested(request) => self.decide(request.stream, &request.name),
                ServerEvent::Media { kind, timestamp, body, .. } => {
                    self.first_media.get_or_insert_with(Instant::now);
                    match tag_marks(kind, timestamp.0, &body) {
                        Ok(marks) => self.note(|report| report.received.extend(marks)),
                        Err(error) => self.note(|report| report.fault = Some(error)),
                    }
                }
                ServerEvent::Metadata { metadata, .. } => self.note(|report| {
                    report.announced_video_bps = metadata.video_bps;
                    report.announced_size = metadata.picture_size;
                }),
                ServerEvent::PublishEnded { .. } => self.note(|report| report.was_ended = true),
                _ => {}
            }
        }
    }

    fn decide(&mut self, stream: u32, key: &str) {
        let refusal = match self.options.fault {
            Some(PlatformFault::Refuse) => Some("No streams today."),
            _ if key != self.options.key => Some("Unknown stream."),
            _ => None,
        };
        let answered = match refusal {
            None => {
                self.order = self.taken.fetch_add(1, Ordering::Relaxed);
                self.server.accept_publish(Instant::now(), stream)
            }
            Some(reason) => {
                self.note(|report| report.refused = Some(reason.to_owned()));
                self.server.refuse(stream, &Refusal { description: reason.to_owned() })
            }
        };
        if let Err(error) = answered {
            self.note(|report| report.fault = Some(error.to_string()));
        }
    }

    fn note(&self, change: impl FnOnce(&mut ConnectionReport)) {
        note(&self.report, &self.changed, self.place, change);
    }
}
