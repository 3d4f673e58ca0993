use std::collections::VecDeque;
use std::time::Instant;

use bytes::Bytes;

use crate::amf0::Value;
use crate::command::{Command, decode_metadata, on_status, status_object};
use crate::config::ServerConfig;
use crate::deadline::Deadline;
use crate::error::{Error, TimeoutKind};
use crate::link::{Link, LinkCounters};
use crate::metadata::StreamMetadata;
use crate::timestamp::Timestamp;
use crate::wire::{ControlMessage, Message, UserControl, message_type};

/// Chunk size of what we send. A server's messages to a publisher are short.
const CHUNK_SIZE: u32 = 4096;

/// Message streams that one connection may create; encoders create one.
const MAX_STREAMS: u32 = 16;

/// Whether a media message carries sound or pictures.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MediaKind {
    /// An audio tag body.
    Audio,
    /// A video tag body.
    Video,
}

/// What a publisher asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublishRequest {
    /// The application name of `connect`.
    pub app: String,
    /// The stream name of `publish`, as it was sent.
    pub name: String,
    /// The address of `connect`, if it was sent.
    pub tc_url: String,
    /// What the encoder calls itself.
    pub flash_version: String,
}

/// Why a publisher is sent away, in words for its operator.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// One sentence; encoders show it.
    pub description: String,
}

/// What the application must know.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ServerEvent {
    /// A publisher asks to be let in. Answer by [`ServerConnection::accept_publish`] or
    /// [`ServerConnection::refuse_publish`].
    PublishRequested(PublishRequest),
    /// The publisher described its stream.
    Metadata(StreamMetadata),
    /// Sound or pictures.
    Media {
        /// Which of the two.
        kind: MediaKind,
        /// When.
        timestamp: Timestamp,
        /// The tag body.
        body: Bytes,
    },
    /// The publisher ended its stream in order.
    PublishEnded,
}

#[derive(Debug, PartialEq, Eq)]
enum Stage {
    Handshake,
    ExpectConnect,
    ExpectPublish,
    /// A request waits for the application's answer.
    Deciding {
        stream: u32,
    },
    Publishing {
        stream: u32,
    },
    /// All is said; the rest of the output is to be flushed and the connection closed.
    Closing,
}

/// The server's side of one connection.
///
/// ```text
/// Handshake → ExpectConnect → ExpectPublish → Deciding → Publishing ⇄ ExpectPublish
///                                                └────→ Closing
/// ```
#[derive(Debug)]
pub struct ServerConnection {
    config: ServerConfig,
    link: Link,
    stage: Stage,
    deadline: Deadline,
    events: VecDeque<ServerEvent>,
    app: String,
    tc_url: String,
    flash_version: String,
    stream_count: u32,
}

impl ServerConnection {
    /// A connection that was accepted at `now`.
    pub fn new(config: ServerConfig, now: Instant) -> Self {
        let link = Link::server(config.seed, config.limits.max_message_bytes);
        let mut deadline = Deadline::default();
        deadline.set(now + config.limits.handshake_timeout, TimeoutKind::Handshake);
        Self {
            config,
            link,
            stage: Stage::Handshake,
            deadline,
            events: VecDeque::new(),
            app: String::new(),
            tc_url: String::new(),
            flash_version: String::new(),
            stream_count: 0,
        }
    }

    /// Takes bytes from the peer.
    ///
    /// # Errors
    /// [`Error`] if the peer cannot be understood; flush what is to be sent, then close.
    pub fn handle_input(&mut self, now: Instant, mut input: &[u8]) -> Result<(), Error> {
        if self.stage == Stage::Closing {
            return Ok(());
        }
        self.link.count_input(input.len());
        if matches!(self.stage, Stage::Publishing { .. }) {
            self.deadline.set(now + self.config.limits.idle_timeout, TimeoutKind::Idle);
        }
        while !input.is_empty() && self.stage != Stage::Closing {
            let message = self.link.next_message(&mut input)?;
            if self.stage == Stage::Handshake && self.link.is_established() {
                self.stage = Stage::ExpectConnect;
                self.deadline.set(now + self.config.limits.setup_timeout, TimeoutKind::Setup);
            }
            if let Some(message) = message {
                self.handle_message(now, message)?;
            }
        }
        Ok(())
    }

    /// Acts on a deadline that passed; harmless if called early.
    ///
    /// # Errors
    /// [`Error::Timeout`]; close the connection then.
    pub fn handle_timeout(&mut self, now: Instant) -> Result<(), Error> {
        Ok(self.deadline.check(now)?)
    }

    /// Bytes to send; call until None.
    #[must_use]
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        self.link.poll_transmit()
    }

    /// When [`handle_timeout`](Self::handle_timeout) is to be called. May change with any call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.deadline.at()
    }

    /// What the application must know; call until None.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<ServerEvent> {
        self.events.pop_front()
    }

    /// True when nothing is left but to flush and close.
    pub fn is_closing(&self) -> bool {
        self.stage == Stage::Closing
    }

    /// Byte counts and oddities.
    pub fn counters(&self) -> LinkCounters {
        self.link.counters()
    }

    /// Lets the waiting publisher in.
    ///
    /// # Errors
    /// [`Error::Misuse`] if no request waits.
    pub fn accept_publish(&mut self, now: Instant) -> Result<(), Error> {
        let Stage::Deciding { stream } = self.stage else {
            return Err(Error::Misuse("no publish request waits for an answer"));
        };
        self.stage = Stage::Publishing { stream };
        self.deadline.set(now + self.config.limits.idle_timeout, TimeoutKind::Idle);
        self.link.send_control(ControlMessage::User(UserControl::StreamBegin(stream)));
        let status = on_status("status", "NetStream.Publish.Start", "Publishing.");
        self.link.send_command(stream, &status);
        Ok(())
    }

    /// Sends the waiting publisher away: an error status, then the connection is to be flushed
    /// and closed by us, since many encoders do nothing on their own after an error.
    ///
    /// # Errors
    /// [`Error::Misuse`] if no request waits.
    pub fn refuse_publish(&mut self, refusal: &Refusal) -> Result<(), Error> {
        let Stage::Deciding { stream } = self.stage else {
            return Err(Error::Misuse("no publish request waits for an answer"));
        };
        let status = on_status("error", "NetStream.Publish.BadName", &refusal.description);
        self.link.send_command(stream, &status);
        self.close();
        Ok(())
    }

    /// Ends a publisher's stream from our side, telling why.
    pub fn end_publish(&mut self, reason: &str) {
        if let Stage::Publishing { stream } = self.stage {
            let status = on_status("status", "NetStream.Unpublish.Success", reason);
            self.link.send_command(stream, &status);
        }
        self.close();
    }

    fn close(&mut self) {
        self.stage = Stage::Closing;
        self.deadline.clear();
    }

    fn handle_message(&mut self, now: Instant, message: Message) -> Result<(), Error> {
        match message.message_type {
            message_type::AUDIO => self.handle_media(MediaKind::Audio, message),
            message_type::VIDEO => self.handle_media(MediaKind::Video, message),
            message_type::DATA_AMF0 | message_type::DATA_AMF3 => {
                // Broken metadata is no reason to lose a show.
                if let Ok(Some(pairs)) = decode_metadata(&message) {
                    self.events.push_back(ServerEvent::Metadata(StreamMetadata::from_pairs(&pairs)));
                }
            }
            _ => {
                if let Some(command) = Command::decode(&message)? {
                    self.handle_command(now, message.message_stream, &command)?;
                }
            }
        }
        Ok(())
    }

    fn handle_media(&mut self, kind: MediaKind, message: Message) {
        // Late media of a stream that was just ended, or sent before publish was answered.
        if matches!(self.stage, Stage::Publishing { .. }) {
            let event = ServerEvent::Media { kind, timestamp: message.timestamp, body: message.payload };
            self.events.push_back(event);
        }
    }

    fn handle_command(&mut self, now: Instant, stream: u32, command: &Command) -> Result<(), Error> {
        if self.stage == Stage::ExpectConnect && command.name != "connect" {
            return Err(Error::OutOfOrder { command: command.name.clone(), when: "before `connect`" });
        }
        match command.name.as_str() {
            "connect" => self.connect(command),
            "createStream" => self.create_stream(command),
            "publish" => self.publish(stream, command),
            "releaseStream" | "FCPublish" | "_checkbw" => {
                self.answer(command, Value::Null, Value::Undefined);
                if command.name == "FCPublish" {
                    let status = status_object("status", "NetStream.Publish.Start", "");
                    self.link.send_command(0, &Command::new("onFCPublish", 0.0, Value::Null, vec![status]));
                }
            }
            "FCUnpublish" | "deleteStream" | "closeStream" => self.end_stream(now, command),
            "play" | "play2" => {
                let status = on_status("error", "NetStream.Play.Failed", "This address takes publishers only.");
                self.link.send_command(stream, &status);
            }
            "_result" | "_error" | "onStatus" => {}
            _ if command.transaction != 0.0 => self.reject_call(command),
            _ => {}
        }
        Ok(())
    }

    /// Source: RTMP 1.0, 7.2.1.1
    fn connect(&mut self, command: &Command) {
        if self.stage != Stage::ExpectConnect {
            return self.reject_call(command);
        }
        let text = |field: &str| command.object_text(field).unwrap_or_default().to_owned();
        (self.app, self.tc_url, self.flash_version) = (text("app"), text("tcUrl"), text("flashVer"));
        self.stage = Stage::ExpectPublish;
        self.link.announce(CHUNK_SIZE);
        let properties =
            Value::Object(vec![("fmsVer".into(), "Waverant/0,1".into()), ("capabilities".into(), 31.0.into())]);
        let mut information = status_object("status", "NetConnection.Connect.Success", "Connected.");
        if let Value::Object(pairs) = &mut information {
            pairs.push(("objectEncoding".into(), 0.0.into()));
        }
        self.answer(command, properties, information);
    }

    fn create_stream(&mut self, command: &Command) {
        if self.stream_count >= MAX_STREAMS {
            return self.reject_call(command);
        }
        self.stream_count += 1;
        self.answer(command, Value::Null, f64::from(self.stream_count).into());
    }

    fn publish(&mut self, stream: u32, command: &Command) {
        if self.stage != Stage::ExpectPublish {
            let status = on_status("error", "NetStream.Publish.BadName", "This connection already publishes a stream.");
            return self.link.send_command(stream, &status);
        }
        let request = PublishRequest {
            app: self.app.clone(),
            name: command.first_text().unwrap_or_default().to_owned(),
            tc_url: self.tc_url.clone(),
            flash_version: self.flash_version.clone(),
        };
        self.stage = Stage::Deciding { stream };
        self.events.push_back(ServerEvent::PublishRequested(request));
    }

    fn end_stream(&mut self, now: Instant, command: &Command) {
        if let Stage::Publishing { stream } = self.stage {
            self.stage = Stage::ExpectPublish;
            self.deadline.set(now + self.config.limits.setup_timeout, TimeoutKind::Setup);
            self.link.send_command(stream, &on_status("status", "NetStream.Unpublish.Success", "Ended."));
            self.events.push_back(ServerEvent::PublishEnded);
        }
        if command.name == "FCUnpublish" && command.transaction != 0.0 {
            self.answer(command, Value::Null, Value::Undefined);
        }
    }

    fn answer(&mut self, command: &Command, object: Value, information: Value) {
        let answer = Command::new("_result", command.transaction, object, vec![information]);
        self.link.send_command(0, &answer);
    }

    /// Source: RTMP 1.0, 7.2.1.2
    fn reject_call(&mut self, command: &Command) {
        let status = status_object("error", "NetConnection.Call.Failed", "This command is not offered here.");
        self.link.send_command(0, &Command::new("_error", command.transaction, Value::Null, vec![status]));
    }
}
