use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::sleep;
use waverant_container::{AudioTag, VideoTag, parse_audio_tag, parse_video_tag};
use waverant_rtmp::{MediaKind, Refusal, ServerConfig, ServerConnection, ServerEvent, Timestamp};

use super::{ConnectionReport, PlatformFault, PlatformOptions, PlatformReport};
use crate::{Mark, MarkKind};

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
        let connection = Connection {
            stream,
            server: ServerConnection::new(ServerConfig::default(), Instant::now()),
            options: options.clone(),
            report: report.clone(),
            changed: changed.clone(),
            taken: taken.clone(),
            place,
            order: 0,
            first_media: None,
        };
        connections.spawn(connection.run());
        while connections.try_join_next().is_some() {}
    }
}

struct Connection {
    stream: TcpStream,
    server: ServerConnection,
    options: PlatformOptions,
    report: Arc<Mutex<PlatformReport>>,
    changed: Arc<watch::Sender<u64>>,
    taken: Arc<AtomicUsize>,
    place: usize,
    /// How many publishers were taken before this one.
    order: usize,
    first_media: Option<Instant>,
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
            if !out.is_empty() && self.stream.write_all(&out).await.is_err() {
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
            let heard = self.server.handle_input(Instant::now(), &buffer[..count]);
            self.handle_events();
            if let Err(error) = heard {
                return self.note(|report| report.fault = Some(error.to_string()));
            }
        }
    }

    /// True if the connection is to be dropped.
    async fn misbehave(&self) -> bool {
        let media_for = self.first_media.map(|first| first.elapsed());
        let is_due = |time: Duration| media_for.is_some_and(|elapsed| elapsed >= time);
        match self.options.fault {
            Some(PlatformFault::ResetOnceAfter(time)) if self.order == 0 && is_due(time) => {
                // Closing at once with unread input sends a reset.
                let _ = self.stream.set_zero_linger();
                true
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
                ServerEvent::PublishRequested(request) => self.decide(&request.name),
                ServerEvent::Media { kind, timestamp, body } => {
                    self.first_media.get_or_insert_with(Instant::now);
                    self.remember(kind, timestamp, &body);
                }
                ServerEvent::PublishEnded => self.note(|report| report.was_ended = true),
                _ => {}
            }
        }
    }

    fn decide(&mut self, key: &str) {
        let refusal = match self.options.fault {
            Some(PlatformFault::Refuse) => Some("No streams today."),
            _ if key != self.options.key => Some("Unknown stream."),
            _ => None,
        };
        let answered = match refusal {
            None => {
                self.order = self.taken.fetch_add(1, Ordering::Relaxed);
                self.server.accept_publish(Instant::now())
            }
            Some(reason) => {
                self.note(|report| report.refused = Some(reason.to_owned()));
                self.server.refuse_publish(&Refusal { description: reason.to_owned() })
            }
        };
        if let Err(error) = answered {
            self.note(|report| report.fault = Some(error.to_string()));
        }
    }

    fn remember(&self, kind: MediaKind, timestamp: Timestamp, body: &bytes::Bytes) {
        let mark = |kind, payload: &[u8]| Some(Mark::new(kind, timestamp.0, payload));
        let mark = match kind {
            MediaKind::Audio => match parse_audio_tag(body) {
                Ok(AudioTag::AacSequenceHeader(raw)) => mark(MarkKind::AudioHeader, &raw),
                Ok(AudioTag::AacFrame(raw)) => mark(MarkKind::Sound, &raw),
                _ => None,
            },
            MediaKind::Video => match parse_video_tag(body) {
                Ok(VideoTag::AvcSequenceHeader(raw)) => mark(MarkKind::VideoHeader, &raw),
                Ok(VideoTag::AvcFrame { keyframe: true, payload, .. }) => mark(MarkKind::Keyframe, &payload),
                Ok(VideoTag::AvcFrame { keyframe: false, payload, .. }) => mark(MarkKind::Picture, &payload),
                _ => None,
            },
        };
        match mark {
            Some(mark) => self.note(|report| report.received.push(mark)),
            None => self.note(|report| report.fault = Some("a tag that is no H.264 and no AAC".to_owned())),
        }
    }

    fn note(&self, change: impl FnOnce(&mut ConnectionReport)) {
        if let Some(report) = self.report.lock().connections.get_mut(self.place) {
            change(report);
        }
        self.changed.send_modify(|count| *count += 1);
    }
}
