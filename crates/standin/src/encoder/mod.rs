//! An encoder that publishes a clip over RTMP in real time.

use std::io;
use std::time::{Duration, Instant};

use anyhow::Context;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{sleep, sleep_until, timeout};
use waverant_container::{AAC_RAW_HEADER, AAC_SEQUENCE_HEADER, AVC_SEQUENCE_HEADER, avc_frame_header};
use waverant_media::TrackKind;
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientEvent, ClientTarget, RtmpAddress, StreamMetadataBuilder, Timestamp,
};

use crate::clip::ClipPacket;
use crate::{Clip, Mark, MarkKind};

/// How long the server may take to answer.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(10);

/// What the encoder does wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EncoderFault {
    /// The line breaks after so long: the socket is closed without a word.
    BreakAfter(Duration),
    /// Nothing is sent any more after so long, but the connection stays open.
    StallAfter(Duration),
}

/// What the encoder is to do.
#[derive(Clone, Debug)]
pub struct EncoderOptions {
    /// The server field: `rtmp://host:port/app`.
    pub server: String,
    /// The key field.
    pub key: String,
    /// How long to publish.
    pub length: Duration,
    /// The packet of the endless clip to begin with.
    pub first_packet: usize,
    /// Chunk size to announce; 128 announces none.
    pub chunk_size: u32,
    /// What to do wrong.
    pub fault: Option<EncoderFault>,
}

impl EncoderOptions {
    /// Publishes to `server` with `key` for `length`, without a fault.
    pub fn new(server: impl Into<String>, key: impl Into<String>, length: Duration) -> Self {
        Self { server: server.into(), key: key.into(), length, first_packet: 0, chunk_size: 4096, fault: None }
    }
}

/// How publishing ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "end")]
pub enum EncoderEnd {
    /// As planned.
    Finished,
    /// By the planned fault.
    Faulted,
    /// The server said no, or ended it.
    Refused {
        /// Its status code.
        code: String,
        /// Its words.
        description: String,
        /// Milliseconds from connecting to the answer.
        after_ms: u64,
    },
    /// The server closed the connection without a word.
    Closed,
}

/// What the encoder did.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct EncoderReport {
    /// How it ended.
    pub end: EncoderEnd,
    /// What was sent.
    pub sent: Vec<Mark>,
    /// The packet of the endless clip that would have come next.
    pub next_packet: usize,
    /// True if the server closed the connection after refusing.
    pub was_closed: bool,
}

/// The encoder.
#[derive(Debug)]
pub struct Encoder {
    clip: Clip,
    options: EncoderOptions,
}

impl Encoder {
    /// An encoder that publishes `clip`.
    pub fn new(clip: Clip, options: EncoderOptions) -> Self {
        Self { clip, options }
    }

    /// Publishes until the length is reached, a fault is due, or the server says no.
    ///
    /// # Errors
    /// If the address is no RTMP address or the server cannot be reached.
    pub async fn run(self) -> anyhow::Result<EncoderReport> {
        let address: RtmpAddress = self.options.server.parse().context("server")?;
        let stream = TcpStream::connect((address.host(), address.port())).await.context("server")?;
        stream.set_nodelay(true)?;
        let target = ClientTarget {
            app: address.app().to_owned(),
            tc_url: address.to_string(),
            stream_name: self.options.key.clone(),
        };
        let config = ClientConfig {
            chunk_size: self.options.chunk_size,
            seed: 11,
            flash_version: "Stand-in encoder".to_owned(),
            ..ClientConfig::default()
        };
        let client = ClientConnection::new(config, target, Instant::now());
        let line = Line {
            stream,
            client,
            began: Instant::now(),
            report: EncoderReport {
                end: EncoderEnd::Finished,
                sent: Vec::new(),
                next_packet: self.options.first_packet,
                was_closed: false,
            },
        };
        line.publish(&self.clip, &self.options).await
    }
}

struct Line {
    stream: TcpStream,
    client: ClientConnection,
    began: Instant,
    report: EncoderReport,
}

impl Line {
    async fn publish(mut self, clip: &Clip, options: &EncoderOptions) -> anyhow::Result<EncoderReport> {
        let answered = timeout(ANSWER_TIMEOUT, self.wait_until_taken()).await.context("the server does not answer")?;
        if let Err(end) = answered {
            self.report.end = end;
            self.wait_for_close().await;
            return Ok(self.report);
        }
        self.report.end = match self.send_all(clip, options).await {
            Ok(end) => end,
            Err(end) => end,
        };
        if self.report.end == EncoderEnd::Finished {
            self.client.close();
            let _ = self.flush().await;
            let _ = self.stream.shutdown().await;
            self.wait_for_close().await;
        }
        Ok(self.report)
    }

    async fn wait_until_taken(&mut self) -> Result<(), EncoderEnd> {
        loop {
            self.flush().await.map_err(|_| EncoderEnd::Closed)?;
            if self.client.is_publishing() {
                return Ok(());
            }
            let mut buffer = [0; 4096];
            let count = self.stream.read(&mut buffer).await.map_err(|_| EncoderEnd::Closed)?;
            if count == 0 {
                return Err(EncoderEnd::Closed);
            }
            self.hear(&buffer[..count])?;
        }
    }

    fn hear(&mut self, input: &[u8]) -> Result<(), EncoderEnd> {
        self.client.handle_input(Instant::now(), input).map_err(|_| EncoderEnd::Closed)?;
        while let Some(event) = self.client.poll_event() {
            if let ClientEvent::Refused { code, description } = event {
                let after_ms = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
                return Err(EncoderEnd::Refused { code, description, after_ms });
            }
        }
        Ok(())
    }

    async fn send_all(&mut self, clip: &Clip, options: &EncoderOptions) -> Result<EncoderEnd, EncoderEnd> {
        self.send_headers(clip).await?;
        let began = Instant::now();
        let first = clip.packet(options.first_packet).dts;
        loop {
            let packet = clip.packet(self.report.next_packet);
            let due = (packet.dts - first).to_duration();
            match options.fault {
                Some(EncoderFault::BreakAfter(time)) if due >= time => return Ok(EncoderEnd::Faulted),
                Some(EncoderFault::StallAfter(time)) if due >= time => {
                    sleep(options.length.saturating_sub(due)).await;
                    return Ok(EncoderEnd::Faulted);
                }
                _ if due >= options.length => return Ok(EncoderEnd::Finished),
                _ => {}
            }
            self.wait_and_hear(began + due).await?;
            self.report.next_packet += 1;
            let millis = (packet.dts - first).millis();
            self.send(&packet, Timestamp::from_millis(millis)).await?;
        }
    }

    /// Waits until a packet is due; answers pings and hears the server meanwhile.
    async fn wait_and_hear(&mut self, due: Instant) -> Result<(), EncoderEnd> {
        let mut buffer = [0; 4096];
        loop {
            tokio::select! {
                biased;
                read = self.stream.read(&mut buffer) => {
                    let count = read.map_err(|_| EncoderEnd::Closed)?;
                    if count == 0 {
                        return Err(EncoderEnd::Closed);
                    }
                    self.hear(&buffer[..count])?;
                    self.flush().await.map_err(|_| EncoderEnd::Closed)?;
                }
                () = sleep_until(due.into()) => return Ok(()),
            }
        }
    }

    async fn send_headers(&mut self, clip: &Clip) -> Result<(), EncoderEnd> {
        let start = Timestamp(0);
        let metadata = StreamMetadataBuilder::new(&clip.tracks, Some(30.0), "Stand-in encoder").encode();
        let (video, audio) = clip.headers();
        let mut sent = self.client.send_metadata(start, &metadata);
        if let Some(header) = &video {
            sent = sent.and_then(|()| self.client.send_video(start, &AVC_SEQUENCE_HEADER, header));
            self.report.sent.push(Mark::new(MarkKind::VideoHeader, 0, header));
        }
        if let Some(header) = &audio {
            sent = sent.and_then(|()| self.client.send_audio(start, &AAC_SEQUENCE_HEADER, header));
            self.report.sent.push(Mark::new(MarkKind::AudioHeader, 0, header));
        }
        sent.map_err(|_| EncoderEnd::Closed)?;
        self.flush().await.map_err(|_| EncoderEnd::Closed)
    }

    async fn send(&mut self, packet: &ClipPacket, timestamp: Timestamp) -> Result<(), EncoderEnd> {
        let (sent, kind) = match packet.kind {
            TrackKind::Video => {
                let header = avc_frame_header(packet.keyframe, packet.composition_ms);
                let kind = if packet.keyframe { MarkKind::Keyframe } else { MarkKind::Picture };
                (self.client.send_video(timestamp, &header, &packet.payload), kind)
            }
            TrackKind::Audio => (self.client.send_audio(timestamp, &AAC_RAW_HEADER, &packet.payload), MarkKind::Sound),
        };
        sent.map_err(|_| EncoderEnd::Closed)?;
        self.flush().await.map_err(|_| EncoderEnd::Closed)?;
        self.report.sent.push(Mark::new(kind, timestamp.0, &packet.payload));
        Ok(())
    }

    async fn flush(&mut self) -> io::Result<()> {
        let mut out = Vec::new();
        while let Some(piece) = self.client.poll_transmit() {
            out.extend_from_slice(&piece);
        }
        self.stream.write_all(&out).await
    }

    async fn wait_for_close(&mut self) {
        let mut buffer = [0; 4096];
        let closed = timeout(ANSWER_TIMEOUT, async {
            while matches!(self.stream.read(&mut buffer).await, Ok(count) if count > 0) {}
        });
        self.report.was_closed = closed.await.is_ok();
    }
}
