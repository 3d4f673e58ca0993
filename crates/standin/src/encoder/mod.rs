//! An encoder that publishes a clip over RTMP or SRT in real time.

mod credentials;
mod matroska;
mod srt;

use std::io;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use anyhow::Context;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{sleep, sleep_until, timeout};
use waverant_container::{TagCodec, TagForm, config_header, frame_header};
use waverant_media::{Track, TrackKind};
use waverant_rtmp::{
    ClientConfig, ClientConnection, ClientEvent, ClientPurpose, ClientTarget, Greeting, MediaOutput, RtmpAddress,
    StreamMetadataBuilder, StreamRates, Timestamp,
};

use crate::clip::ClipPacket;
use crate::line::{BoxedLine, dial};
use crate::{Clip, Mark, MarkKind};

pub(crate) use srt::config as srt_config;
pub use srt::{SrtContainer, SrtOptions};

/// How long the server may take to answer.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(10);

/// Connections that credentials may take: one to be asked, one for the challenge, one to answer.
const MAX_CONNECTIONS: usize = 4;

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
    /// The server field: `rtmp://host:port/app` or `srt://host:port`.
    pub server: String,
    /// The key field.
    pub key: String,
    /// Over RTMP: the address of this machine to call from.
    pub from: Option<IpAddr>,
    /// How long to publish.
    pub length: Duration,
    /// The packet of the endless clip to begin with.
    pub first_packet: usize,
    /// Chunk size to announce; 128 announces none.
    pub chunk_size: u32,
    /// The timestamp to begin with.
    pub first_timestamp_ms: i64,
    /// How to greet the server.
    pub greeting: Greeting,
    /// User name and password, offered when the server asks for them.
    pub credentials: Option<(String, String)>,
    /// Over TLS: the authority (PEM) that must have signed the server's certificate.
    pub authority: Option<String>,
    /// What to do wrong.
    pub fault: Option<EncoderFault>,
    /// How many times faster than its timestamps the show is sent.
    pub speed: u32,
    /// What there is to say over SRT.
    pub srt: SrtOptions,
}

impl EncoderOptions {
    /// Publishes to `server` with `key` for `length`, without a fault.
    pub fn new(server: impl Into<String>, key: impl Into<String>, length: Duration) -> Self {
        Self {
            server: server.into(),
            key: key.into(),
            from: None,
            length,
            first_packet: 0,
            chunk_size: 4096,
            first_timestamp_ms: 0,
            greeting: Greeting::Plain,
            credentials: None,
            authority: None,
            fault: None,
            speed: 1,
            srt: SrtOptions::default(),
        }
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

/// Media time and wall clock at one moment, both from the begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pace {
    /// What timestamps say.
    pub media_ms: u64,
    /// What the wall clock says, times the speed.
    pub wall_ms: u64,
}

/// A pace is noted every five minutes of a show.
const PACE_STEP: Duration = Duration::from_secs(300);

/// What the encoder did.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct EncoderReport {
    /// How it ended.
    pub end: EncoderEnd,
    /// What was sent.
    pub sent: Vec<Mark>,
    /// True if the server asked to connect anew.
    #[serde(default)]
    pub was_asked_to_reconnect: bool,
    /// How the wall clock went beside the timestamps.
    #[serde(default)]
    pub paces: Vec<Pace>,
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
    /// If the address is none or the server cannot be reached.
    pub async fn run(self) -> anyhow::Result<EncoderReport> {
        if srt::is_srt(&self.options.server) {
            return srt::publish(&self.clip, &self.options).await;
        }
        let mut query = String::new();
        for _ in 0..MAX_CONNECTIONS {
            let report = self.connect(&query).await?.publish(&self.clip, &self.options).await?;
            let next = match (&report.end, &self.options.credentials) {
                (EncoderEnd::Refused { description, .. }, Some((user, password))) => {
                    credentials::answer(description, user, password)
                }
                _ => None,
            };
            match next {
                Some(next) => query = next,
                None => return Ok(report),
            }
        }
        anyhow::bail!("the server asks for credentials again and again")
    }

    /// Connects with `query` behind the application name.
    async fn connect(&self, query: &str) -> anyhow::Result<Line> {
        let address: RtmpAddress = self.options.server.parse().context("server")?;
        let stream = dial(&address, self.options.authority.as_deref(), self.options.from).await?;
        let target = ClientTarget {
            purpose: ClientPurpose::Publish,
            app: format!("{}{query}", address.app()),
            tc_url: format!("{address}{query}"),
            stream_name: self.options.key.clone(),
        };
        let config = ClientConfig {
            chunk_size: self.options.chunk_size,
            seed: 11,
            greeting: self.options.greeting,
            flash_version: "Stand-in encoder".to_owned(),
            ..ClientConfig::default()
        };
        let client = ClientConnection::new(config, target, Instant::now());
        let report = EncoderReport {
            end: EncoderEnd::Finished,
            sent: Vec::new(),
            was_asked_to_reconnect: false,
            paces: Vec::new(),
            next_packet: self.options.first_packet,
            was_closed: false,
        };
        Ok(Line { stream, client, began: Instant::now(), report })
    }
}

struct Line {
    stream: BoxedLine,
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
            match event {
                ClientEvent::Refused { code, description } => {
                    let after_ms = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
                    return Err(EncoderEnd::Refused { code, description, after_ms });
                }
                ClientEvent::ReconnectRequested { .. } => self.report.was_asked_to_reconnect = true,
                _ => {}
            }
        }
        Ok(())
    }

    async fn send_all(&mut self, clip: &Clip, options: &EncoderOptions) -> Result<EncoderEnd, EncoderEnd> {
        self.send_headers(clip, options).await?;
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
            self.wait_and_hear(began + due / options.speed).await?;
            if due >= PACE_STEP * u32::try_from(self.report.paces.len()).unwrap_or(u32::MAX) {
                let millis = |time: Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
                let wall = began.elapsed() * options.speed;
                self.report.paces.push(Pace { media_ms: millis(due), wall_ms: millis(wall) });
            }
            self.report.next_packet += 1;
            let millis = options.first_timestamp_ms + (packet.dts - first).millis();
            self.send(clip, &packet, Timestamp::from_millis(millis)).await?;
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

    async fn send_headers(&mut self, clip: &Clip, options: &EncoderOptions) -> Result<(), EncoderEnd> {
        let start = Timestamp::from_millis(options.first_timestamp_ms);
        let rates = StreamRates { frame_rate: Some(30.0), ..StreamRates::default() };
        let metadata = StreamMetadataBuilder::new(&clip.tracks, rates, "Stand-in encoder").encode_for_server();
        self.client.send_data(start, &metadata).map_err(|_| EncoderEnd::Closed)?;
        for track in clip.tracks.iter() {
            let (Some(codec), Some(raw)) = (TagCodec::of(&track.codec), track.codec.decoder_config()) else { continue };
            let kind = track.codec.kind();
            let header = config_header(kind, codec, form(track, codec));
            let (sent, mark) = match kind {
                TrackKind::Video => (self.client.send_video(start, &header, raw), MarkKind::VideoHeader),
                TrackKind::Audio => (self.client.send_audio(start, &header, raw), MarkKind::AudioHeader),
            };
            sent.map_err(|_| EncoderEnd::Closed)?;
            self.report.sent.push(Mark::new(mark, track.id.place(), start.0, raw));
        }
        self.flush().await.map_err(|_| EncoderEnd::Closed)
    }

    async fn send(&mut self, clip: &Clip, packet: &ClipPacket, timestamp: Timestamp) -> Result<(), EncoderEnd> {
        let track = clip.tracks.get(packet.track).ok_or(EncoderEnd::Closed)?;
        let codec = TagCodec::of(&track.codec).ok_or(EncoderEnd::Closed)?;
        let header = frame_header(packet.kind, codec, form(track, codec), packet.keyframe, packet.composition_ms);
        let (sent, kind) = match packet.kind {
            TrackKind::Video => {
                let kind = if packet.keyframe { MarkKind::Keyframe } else { MarkKind::Picture };
                (self.client.send_video(timestamp, &header, &packet.payload), kind)
            }
            TrackKind::Audio => (self.client.send_audio(timestamp, &header, &packet.payload), MarkKind::Sound),
        };
        sent.map_err(|_| EncoderEnd::Closed)?;
        self.flush().await.map_err(|_| EncoderEnd::Closed)?;
        let mark = Mark::new(kind, packet.track.place(), timestamp.0, &packet.payload);
        self.report.sent.push(mark.with_composition(packet.composition_ms));
        Ok(())
    }

    async fn flush(&mut self) -> io::Result<()> {
        let mut out = Vec::new();
        while let Some(piece) = self.client.poll_transmit() {
            out.extend_from_slice(&piece);
        }
        self.stream.write_all(&out).await?;
        self.stream.flush().await
    }

    async fn wait_for_close(&mut self) {
        let mut buffer = [0; 4096];
        let closed = timeout(ANSWER_TIMEOUT, async {
            while matches!(self.stream.read(&mut buffer).await, Ok(count) if count > 0) {}
        });
        self.report.was_closed = closed.await.is_ok();
    }
}

/// The first track of a kind goes as encoders of all ages send it, if its codec has such a form.
fn form(track: &Track, codec: TagCodec) -> TagForm {
    match track.id.place() {
        0 if codec.has_first_form() => TagForm::First,
        0 => TagForm::Letters,
        place => TagForm::Track(place),
    }
}
