//! A player that watches a stream over RTMP.

use std::time::{Duration, Instant};

use anyhow::Context;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{sleep_until, timeout};
use waverant_rtmp::{ClientConfig, ClientConnection, ClientEvent, ClientPurpose, ClientTarget, Limits, RtmpAddress};

use crate::Mark;
use crate::line::{BoxedLine, dial};
use crate::tag_marks::tag_marks;

/// How long the server may take to answer.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(10);

/// What the player is to do.
#[derive(Clone, Debug)]
pub struct PlayerOptions {
    /// The server field: `rtmp://host:port/app`.
    pub server: String,
    /// The key field.
    pub key: String,
    /// How long to watch.
    pub length: Duration,
    /// After so long, pause for so long.
    pub pause: Option<(Duration, Duration)>,
}

/// What the player saw.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct PlayerReport {
    /// Everything that was received, in order.
    pub received: Vec<Mark>,
    /// Milliseconds from the request to the first picture.
    pub first_picture_after_ms: Option<u64>,
    /// Code and words with which the server ended it or refused.
    pub ended: Option<(String, String)>,
    /// True if the server closed the connection.
    pub was_closed: bool,
    /// What was wrong with what came.
    pub fault: Option<String>,
    /// The encoder's name in the metadata.
    pub encoder: Option<String>,
    /// Payloads that came while it was paused.
    pub while_paused: usize,
}

/// The player.
#[derive(Debug)]
pub struct Player {
    options: PlayerOptions,
}

struct Watching {
    line: BoxedLine,
    client: ClientConnection,
    began: Instant,
    paused: bool,
    report: PlayerReport,
}

impl Player {
    /// A player.
    pub fn new(options: PlayerOptions) -> Self {
        Self { options }
    }

    /// Watches until the length is reached or the server ends it.
    ///
    /// # Errors
    /// If the address is no RTMP address or the server cannot be reached.
    pub async fn run(self) -> anyhow::Result<PlayerReport> {
        let address: RtmpAddress = self.options.server.parse().context("server")?;
        let line = dial(&address, None, None).await?;
        let target = ClientTarget {
            purpose: ClientPurpose::Play,
            app: address.app().to_owned(),
            tc_url: address.to_string(),
            stream_name: self.options.key.clone(),
        };
        let limits = Limits { setup_timeout: ANSWER_TIMEOUT, ..Limits::default() };
        let config =
            ClientConfig { limits, seed: 5, flash_version: "Stand-in player".into(), ..ClientConfig::default() };
        let client = ClientConnection::new(config, target, Instant::now());
        let mut watching =
            Watching { line, client, began: Instant::now(), paused: false, report: PlayerReport::default() };
        watching.watch(&self.options).await;
        Ok(watching.report)
    }
}

impl Watching {
    async fn watch(&mut self, options: &PlayerOptions) {
        let end = self.began + options.length;
        let mut steps: Vec<(Instant, bool)> = Vec::new();
        if let Some((after, length)) = options.pause {
            steps = vec![(self.began + after + length, false), (self.began + after, true)];
        }
        let mut buffer = vec![0; 64 * 1024];
        loop {
            if self.flush().await.is_err() {
                self.report.was_closed = true;
                return;
            }
            let next = steps.last().map_or(end, |(at, _)| *at);
            tokio::select! {
                read = self.line.read(&mut buffer) => match read {
                    Ok(count) if count > 0 => self.hear(&buffer[..count]),
                    _ => {
                        self.report.was_closed = true;
                        return;
                    }
                },
                () = sleep_until(next.into()) => match steps.pop() {
                    Some((_, pauses)) => {
                        self.paused = pauses;
                        let _ = self.client.pause(pauses);
                    }
                    None => break,
                },
            }
        }
        self.client.close();
        let _ = timeout(ANSWER_TIMEOUT, self.flush()).await;
    }

    fn hear(&mut self, input: &[u8]) {
        if let Err(error) = self.client.handle_input(Instant::now(), input) {
            self.report.fault = Some(error.to_string());
        }
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Media { kind, timestamp, body } => match tag_marks(kind, timestamp.0, &body) {
                    Ok(marks) => self.remember(marks),
                    Err(error) => self.report.fault = Some(error),
                },
                ClientEvent::Metadata(metadata) => self.report.encoder = metadata.encoder,
                ClientEvent::Refused { code, description } => self.report.ended = Some((code, description)),
                _ => {}
            }
        }
    }

    fn remember(&mut self, marks: Vec<Mark>) {
        if marks.iter().any(|mark| mark.kind.is_picture()) && self.report.first_picture_after_ms.is_none() {
            self.report.first_picture_after_ms = u64::try_from(self.began.elapsed().as_millis()).ok();
        }
        if self.paused {
            self.report.while_paused += marks.len();
        }
        self.report.received.extend(marks);
    }

    async fn flush(&mut self) -> std::io::Result<()> {
        let mut out = Vec::new();
        while let Some(piece) = self.client.poll_transmit() {
            out.extend_from_slice(&piece);
        }
        self.line.write_all(&out).await?;
        self.line.flush().await
    }
}
