use std::collections::VecDeque;
use std::time::Instant;

use bytes::Bytes;

use crate::amf0::Value;
use crate::command::Command;
use crate::config::ClientConfig;
use crate::deadline::Deadline;
use crate::error::{Error, TimeoutKind};
use crate::link::{Link, LinkCounters, chunk_stream};
use crate::timestamp::Timestamp;
use crate::wire::{Message, MessageHead, message_type};

/// Where a client publishes.
#[derive(Clone, PartialEq, Eq)]
pub struct ClientTarget {
    /// The application name.
    pub app: String,
    /// The address as the server knows itself: `rtmp://host:port/app`.
    pub tc_url: String,
    /// The stream name, which is the key. Not shown by `Debug`.
    pub stream_name: String,
}

impl std::fmt::Debug for ClientTarget {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("ClientTarget").field("tc_url", &self.tc_url).finish_non_exhaustive()
    }
}

/// What the application must know.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ClientEvent {
    /// The server takes our stream.
    Publishing,
    /// The server does not take our stream, or ended it.
    Refused {
        /// The code of its status, such as `NetStream.Publish.BadName`.
        code: String,
        /// Its own words.
        description: String,
    },
}

/// Transactions of our calls.
const CONNECT: f64 = 1.0;
const RELEASE_STREAM: f64 = 2.0;
const FC_PUBLISH: f64 = 3.0;
const CREATE_STREAM: f64 = 4.0;
const PUBLISH: f64 = 5.0;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stage {
    Handshake,
    ExpectConnectResult,
    ExpectStream,
    ExpectPublishStatus { stream: u32 },
    Publishing { stream: u32 },
    Closing,
}

/// The client's side of one connection, publishing one stream.
///
/// ```text
/// Handshake → ExpectConnectResult → ExpectStream → ExpectPublishStatus → Publishing → Closing
/// ```
#[derive(Debug)]
pub struct ClientConnection {
    config: ClientConfig,
    target: ClientTarget,
    link: Link,
    stage: Stage,
    deadline: Deadline,
    events: VecDeque<ClientEvent>,
}

impl ClientConnection {
    /// A connection that was opened at `now`. The first bytes are ready to be sent.
    pub fn new(config: ClientConfig, target: ClientTarget, now: Instant) -> Self {
        let link = Link::client(config.seed, config.limits.max_message_bytes);
        let mut deadline = Deadline::default();
        deadline.set(now + config.limits.handshake_timeout, TimeoutKind::Handshake);
        Self { config, target, link, stage: Stage::Handshake, deadline, events: VecDeque::new() }
    }

    /// Takes bytes from the peer.
    ///
    /// # Errors
    /// [`Error`] if the peer cannot be understood; close the connection then.
    pub fn handle_input(&mut self, now: Instant, mut input: &[u8]) -> Result<(), Error> {
        if self.stage == Stage::Closing {
            return Ok(());
        }
        self.link.count_input(input.len());
        while !input.is_empty() {
            let message = self.link.next_message(&mut input)?;
            if self.stage == Stage::Handshake && self.link.is_established() {
                self.deadline.set(now + self.config.limits.setup_timeout, TimeoutKind::Setup);
                self.send_connect();
            }
            if let Some(message) = message {
                self.handle_message(&message)?;
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
    pub fn poll_event(&mut self) -> Option<ClientEvent> {
        self.events.pop_front()
    }

    /// True while media may be sent.
    pub fn is_publishing(&self) -> bool {
        matches!(self.stage, Stage::Publishing { .. })
    }

    /// Byte counts and oddities.
    pub fn counters(&self) -> LinkCounters {
        self.link.counters()
    }

    /// Sends a metadata message, as made by
    /// [`StreamMetadataBuilder`](crate::StreamMetadataBuilder).
    ///
    /// # Errors
    /// [`Error::Misuse`] if the server has not taken our stream.
    pub fn send_metadata(&mut self, timestamp: Timestamp, payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::AUDIO, message_type::DATA_AMF0, timestamp, &[], payload)
    }

    /// Sends a video tag body: `header` followed by `payload`, which is not copied.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the server has not taken our stream.
    pub fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::VIDEO, message_type::VIDEO, timestamp, header, payload)
    }

    /// Sends an audio tag body: `header` followed by `payload`, which is not copied.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the server has not taken our stream.
    pub fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::AUDIO, message_type::AUDIO, timestamp, header, payload)
    }

    /// Ends the stream in order; flush what is to be sent, then close the connection.
    pub fn close(&mut self) {
        if let Stage::Publishing { stream } | Stage::ExpectPublishStatus { stream } = self.stage {
            let name = self.target.stream_name.as_str().into();
            self.link.send_command(0, &Command::new("FCUnpublish", 6.0, Value::Null, vec![name]));
            let number = f64::from(stream).into();
            self.link.send_command(0, &Command::new("deleteStream", 7.0, Value::Null, vec![number]));
        }
        self.stage = Stage::Closing;
        self.deadline.clear();
    }

    fn send_media(
        &mut self,
        chunk_stream: u32,
        message_type: u8,
        timestamp: Timestamp,
        header: &[u8],
        payload: &Bytes,
    ) -> Result<(), Error> {
        let Stage::Publishing { stream } = self.stage else {
            return Err(Error::Misuse("the server has not taken our stream"));
        };
        let head = MessageHead { chunk_stream, message_type, message_stream: stream, timestamp };
        self.link.send(head, header, payload);
        Ok(())
    }

    /// Source: RTMP 1.0, 7.2.1.1
    fn send_connect(&mut self) {
        self.stage = Stage::ExpectConnectResult;
        self.link.set_chunk_size(self.config.chunk_size);
        let text = |name: &str, value: &str| (name.to_owned(), Value::from(value));
        let object = Value::Object(vec![
            text("app", &self.target.app),
            text("type", "nonprivate"),
            text("flashVer", &self.config.flash_version),
            text("tcUrl", &self.target.tc_url),
        ]);
        self.link.send_command(0, &Command::new("connect", CONNECT, object, Vec::new()));
    }

    fn handle_message(&mut self, message: &Message) -> Result<(), Error> {
        let Some(command) = Command::decode(message)? else { return Ok(()) };
        match command.name.as_str() {
            "_result" => self.handle_result(&command),
            "_error" if command.transaction == CONNECT || command.transaction == CREATE_STREAM => {
                self.refused(command.arguments.first());
            }
            "onStatus" => self.handle_status(command.arguments.first()),
            _ => {}
        }
        Ok(())
    }

    fn handle_result(&mut self, command: &Command) {
        match self.stage {
            Stage::ExpectConnectResult if command.transaction == CONNECT => {
                let name = Value::from(self.target.stream_name.as_str());
                for (call, transaction) in [("releaseStream", RELEASE_STREAM), ("FCPublish", FC_PUBLISH)] {
                    self.link.send_command(0, &Command::new(call, transaction, Value::Null, vec![name.clone()]));
                }
                self.link.send_command(0, &Command::new("createStream", CREATE_STREAM, Value::Null, Vec::new()));
                self.stage = Stage::ExpectStream;
            }
            Stage::ExpectStream if command.transaction == CREATE_STREAM => {
                let number = command.arguments.first().and_then(Value::as_number).unwrap_or(1.0);
                let stream = stream_number(number);
                let arguments = vec![self.target.stream_name.as_str().into(), "live".into()];
                self.link.send_command(stream, &Command::new("publish", PUBLISH, Value::Null, arguments));
                self.stage = Stage::ExpectPublishStatus { stream };
            }
            _ => {}
        }
    }

    fn handle_status(&mut self, information: Option<&Value>) {
        let text = |field: &str| information.and_then(|value| value.field(field)).and_then(Value::as_str);
        let code = text("code").unwrap_or_default();
        if text("level") == Some("error") {
            return self.refused(information);
        }
        match self.stage {
            Stage::ExpectPublishStatus { stream } if code == "NetStream.Publish.Start" => {
                self.stage = Stage::Publishing { stream };
                self.deadline.clear();
                self.events.push_back(ClientEvent::Publishing);
            }
            Stage::Publishing { .. } if code == "NetStream.Unpublish.Success" => self.refused(information),
            _ => {}
        }
    }

    fn refused(&mut self, information: Option<&Value>) {
        let text = |field: &str| {
            let value = information.and_then(|value| value.field(field)).and_then(Value::as_str);
            value.unwrap_or_default().to_owned()
        };
        self.events.push_back(ClientEvent::Refused { code: text("code"), description: text("description") });
        self.stage = Stage::Closing;
        self.deadline.clear();
    }
}

/// The number of a stream, which travels as a floating point number.
fn stream_number(number: f64) -> u32 {
    (1..=64).find(|stream| f64::from(*stream) == number).unwrap_or(1)
}
