use std::collections::VecDeque;
use std::time::Instant;

use bytes::Bytes;

use crate::amf_value::Value;
use crate::capabilities::{self, Capabilities};
use crate::command::{Command, decode_metadata, stream_number};
use crate::config::ClientConfig;
use crate::deadline::Deadline;
use crate::error::{Error, TimeoutKind};
use crate::link::{Link, LinkCounters, chunk_stream};
use crate::media_output::MediaOutput;
use crate::metadata::StreamMetadata;
use crate::server::MediaKind;
use crate::timestamp::Timestamp;
use crate::wire::{ControlMessage, Message, MessageHead, UserControl, message_type};

/// What a client is there for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClientPurpose {
    /// It publishes a stream.
    #[default]
    Publish,
    /// It plays one.
    Play,
    /// It asks whether the server lets it in, and goes no further.
    Ask,
}

/// The stream that a client publishes or plays.
#[derive(Clone, PartialEq, Eq)]
pub struct ClientTarget {
    /// Which of the two.
    pub purpose: ClientPurpose,
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
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ClientEvent {
    /// The server takes our stream.
    Publishing,
    /// The server plays the stream to us.
    Playing,
    /// What is played to us describes itself.
    Metadata(StreamMetadata),
    /// Sound or pictures that are played to us.
    Media {
        /// Which of the two.
        kind: MediaKind,
        /// When.
        timestamp: Timestamp,
        /// The tag body.
        body: Bytes,
    },
    /// The server wants us to use another address, and ends this connection.
    Redirected {
        /// The address to dial.
        address: String,
    },
    /// The server asks us to connect anew; this connection still works for a while.
    ReconnectRequested {
        /// The address to dial, if not the same; it may be relative to the one that was dialed.
        address: Option<String>,
        /// Its own words.
        description: String,
    },
    /// The server does not take our stream, does not play it, or ended it.
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
const STREAM_CALL: f64 = 5.0;
const FC_UNPUBLISH: f64 = 6.0;
const DELETE_STREAM: f64 = 7.0;
const CHECK_BANDWIDTH: f64 = 8.0;

/// Status codes that end what runs.
const ENDS: [&str; 4] = [
    "NetStream.Unpublish.Success",
    "NetStream.Play.UnpublishNotify",
    "NetStream.Play.Stop",
    "NetConnection.Connect.Closed",
];

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ClientStep {
    Handshake,
    ExpectConnectResult,
    Connected,
    ExpectStream,
    ExpectStart { stream: u32 },
    Running { stream: u32 },
    Closing,
}

/// The client's side of one connection, with one stream.
///
/// ```text
/// Handshake → ExpectConnectResult → ExpectStream → ExpectStart → Running → Closing
///                                 ↘ Connected, for who only asks
/// ```
#[derive(Debug)]
pub struct ClientConnection {
    config: ClientConfig,
    target: ClientTarget,
    link: Link,
    step: ClientStep,
    deadline: Deadline,
    events: VecDeque<ClientEvent>,
    capabilities: Capabilities,
}

impl ClientConnection {
    /// A connection that was opened at `now`. The first bytes are ready to be sent.
    pub fn new(config: ClientConfig, target: ClientTarget, now: Instant) -> Self {
        // Who publishes is told little; only what is played is large.
        let max_message = match target.purpose {
            ClientPurpose::Play => config.limits.max_message_bytes,
            ClientPurpose::Publish | ClientPurpose::Ask => config.limits.max_setup_message_bytes,
        };
        let link = Link::client(config.seed, config.greeting, max_message);
        let mut deadline = Deadline::default();
        deadline.set(now + config.limits.handshake_timeout, TimeoutKind::Handshake);
        let (events, capabilities) = (VecDeque::new(), Capabilities::default());
        Self { config, target, link, step: ClientStep::Handshake, deadline, events, capabilities }
    }

    /// Takes bytes from the peer.
    ///
    /// # Errors
    /// [`Error`] if the peer cannot be understood; close the connection then.
    pub fn handle_input(&mut self, now: Instant, mut input: &[u8]) -> Result<(), Error> {
        self.link.count_input(input.len());
        while self.step != ClientStep::Closing {
            let message = self.link.next_message(&mut input)?;
            if self.step == ClientStep::Handshake && self.link.is_established() {
                self.deadline.set(now + self.config.limits.setup_timeout, TimeoutKind::Setup);
                self.send_connect();
            }
            match message {
                Some(message) => self.handle_message(message)?,
                None if input.is_empty() => break,
                None => {}
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
        matches!(self.step, ClientStep::Running { .. }) && self.target.purpose == ClientPurpose::Publish
    }

    /// True until the handshake is done.
    pub fn is_greeting(&self) -> bool {
        self.step == ClientStep::Handshake
    }

    /// True once the server has let us in.
    pub fn is_let_in(&self) -> bool {
        !matches!(self.step, ClientStep::Handshake | ClientStep::ExpectConnectResult | ClientStep::Closing)
    }

    /// Byte counts and oddities.
    pub fn counters(&self) -> LinkCounters {
        self.link.counters()
    }

    /// Pauses what is played to us, or goes on.
    ///
    /// # Errors
    /// [`Error::Misuse`] if nothing is played to us.
    ///
    /// Source: RTMP 1.0, 7.2.2.8
    pub fn pause(&mut self, pauses: bool) -> Result<(), Error> {
        let (ClientStep::Running { stream }, ClientPurpose::Play) = (self.step, self.target.purpose) else {
            return Err(Error::Misuse("nothing is played to us"));
        };
        let arguments = vec![Value::Boolean(pauses), 0.0.into()];
        self.link.send_command(stream, &Command::new("pause", 0.0, Value::Null, arguments));
        Ok(())
    }

    /// Ends the stream in order; flush what is to be sent, then close the connection.
    pub fn close(&mut self) {
        if let ClientStep::Running { stream } | ClientStep::ExpectStart { stream } = self.step {
            if self.target.purpose == ClientPurpose::Publish {
                self.call("FCUnpublish", FC_UNPUBLISH, vec![self.target.stream_name.as_str().into()]);
            }
            self.call("deleteStream", DELETE_STREAM, vec![f64::from(stream).into()]);
        }
        self.step = ClientStep::Closing;
        self.deadline.clear();
    }

    fn call(&mut self, name: &str, transaction: f64, arguments: Vec<Value>) {
        self.link.send_command(0, &Command::new(name, transaction, Value::Null, arguments));
    }

    fn send_media(
        &mut self,
        chunk_stream: u32,
        message_type: u8,
        timestamp: Timestamp,
        header: &[u8],
        payload: &Bytes,
    ) -> Result<(), Error> {
        let (ClientStep::Running { stream }, ClientPurpose::Publish) = (self.step, self.target.purpose) else {
            return Err(Error::Misuse("the server has not taken our stream"));
        };
        let head = MessageHead { chunk_stream, message_type, message_stream: stream, timestamp };
        self.link.send(head, header, payload);
        Ok(())
    }

    /// Source: RTMP 1.0, 7.2.1.1; E-RTMP 2, Enhancing NetConnection connect Command
    fn send_connect(&mut self) {
        self.step = ClientStep::ExpectConnectResult;
        self.link.set_chunk_size(self.config.chunk_size);
        let text = |name: &str, value: &str| (name.to_owned(), Value::from(value));
        let publishes = self.target.purpose != ClientPurpose::Play;
        let mut pairs = vec![text("app", &self.target.app)];
        if publishes {
            pairs.push(text("type", "nonprivate"));
        }
        pairs.push(text("flashVer", &self.config.flash_version));
        pairs.push(text("tcUrl", &self.target.tc_url));
        pairs.extend(capabilities::client_fields(publishes));
        self.link.send_command(0, &Command::new("connect", CONNECT, Value::Object(pairs), Vec::new()));
    }

    fn handle_message(&mut self, message: Message) -> Result<(), Error> {
        let running = matches!(self.step, ClientStep::Running { .. }) && self.target.purpose == ClientPurpose::Play;
        let kind = match message.message_type {
            message_type::AUDIO => MediaKind::Audio,
            message_type::VIDEO => MediaKind::Video,
            message_type::DATA_AMF0 | message_type::DATA_AMF3 => {
                if let (true, Ok(Some(pairs))) = (running, decode_metadata(&message)) {
                    self.events.push_back(ClientEvent::Metadata(StreamMetadata::from_pairs(&pairs)));
                }
                return Ok(());
            }
            _ => return self.handle_command(&message),
        };
        if running {
            self.events.push_back(ClientEvent::Media { kind, timestamp: message.timestamp, body: message.payload });
        }
        Ok(())
    }

    fn handle_command(&mut self, message: &Message) -> Result<(), Error> {
        let Some(command) = Command::decode(message, |_| Ok::<_, Error>(()))? else { return Ok(()) };
        let information = command.arguments.first();
        match command.name.as_str() {
            "_result" => self.handle_result(&command),
            "_error" if command.transaction == CONNECT => match redirect(information) {
                Some(address) => self.redirected(address),
                None => self.refused(information),
            },
            "_error" if command.transaction == CREATE_STREAM => self.refused(information),
            "onStatus" => self.handle_status(information),
            // Some servers measure the line, and wait for this call before they go on.
            "onBWDone" => self.call("_checkbw", CHECK_BANDWIDTH, Vec::new()),
            "close" => self.refused(information),
            _ => {}
        }
        Ok(())
    }

    fn handle_result(&mut self, command: &Command) {
        match self.step {
            ClientStep::ExpectConnectResult if command.transaction == CONNECT => {
                self.capabilities = Capabilities::read(&command.object);
                if self.target.purpose == ClientPurpose::Ask {
                    self.step = ClientStep::Connected;
                    return self.deadline.clear();
                }
                if self.target.purpose == ClientPurpose::Publish {
                    let name = Value::from(self.target.stream_name.as_str());
                    self.call("releaseStream", RELEASE_STREAM, vec![name.clone()]);
                    self.call("FCPublish", FC_PUBLISH, vec![name]);
                }
                self.call("createStream", CREATE_STREAM, Vec::new());
                self.step = ClientStep::ExpectStream;
            }
            ClientStep::ExpectStream if command.transaction == CREATE_STREAM => {
                let number = command.arguments.first().and_then(Value::as_number);
                let stream = number.and_then(stream_number).unwrap_or(1);
                let name = Value::from(self.target.stream_name.as_str());
                let call = match self.target.purpose {
                    ClientPurpose::Publish | ClientPurpose::Ask => {
                        Command::new("publish", STREAM_CALL, Value::Null, vec![name, "live".into()])
                    }
                    // -1: the live stream of this name and nothing else.
                    ClientPurpose::Play => Command::new("play", STREAM_CALL, Value::Null, vec![name, (-1.0).into()]),
                };
                self.link.send_command(stream, &call);
                if self.target.purpose == ClientPurpose::Play {
                    let event = UserControl::SetBufferLength { stream, millis: 0 };
                    self.link.send_control(ControlMessage::User(event));
                }
                self.step = ClientStep::ExpectStart { stream };
            }
            _ => {}
        }
    }

    fn handle_status(&mut self, information: Option<&Value>) {
        let text = |field: &str| information.and_then(|value| value.field(field)).and_then(Value::as_str);
        let code = text("code").unwrap_or_default();
        if code == "NetConnection.Connect.ReconnectRequest" {
            let address = text("tcUrl").filter(|address| !address.is_empty()).map(str::to_owned);
            let description = words(text("description").unwrap_or_default());
            return self.events.push_back(ClientEvent::ReconnectRequested { address, description });
        }
        if text("level") == Some("error") {
            return match redirect(information) {
                Some(address) => self.redirected(address),
                None => self.refused(information),
            };
        }
        match self.step {
            ClientStep::ExpectStart { stream }
                if code == "NetStream.Publish.Start" || code == "NetStream.Play.Start" =>
            {
                self.step = ClientStep::Running { stream };
                self.deadline.clear();
                self.events.push_back(match self.target.purpose {
                    ClientPurpose::Play => ClientEvent::Playing,
                    ClientPurpose::Publish | ClientPurpose::Ask => ClientEvent::Publishing,
                });
            }
            ClientStep::Running { .. } if ENDS.contains(&code) => self.refused(information),
            _ => {}
        }
    }

    fn redirected(&mut self, address: String) {
        self.events.push_back(ClientEvent::Redirected { address });
        self.step = ClientStep::Closing;
        self.deadline.clear();
    }

    fn refused(&mut self, information: Option<&Value>) {
        let text = |field: &str| {
            let value = information.and_then(|value| value.field(field)).and_then(Value::as_str);
            words(value.unwrap_or_default())
        };
        self.events.push_back(ClientEvent::Refused { code: text("code"), description: text("description") });
        self.step = ClientStep::Closing;
        self.deadline.clear();
    }
}

impl MediaOutput for ClientConnection {
    fn capabilities(&self) -> &Capabilities {
        &self.capabilities
    }

    fn is_player(&self) -> bool {
        false
    }

    fn send_data(&mut self, timestamp: Timestamp, payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::AUDIO, message_type::DATA_AMF0, timestamp, &[], payload)
    }

    fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::VIDEO, message_type::VIDEO, timestamp, header, payload)
    }

    fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        self.send_media(chunk_stream::AUDIO, message_type::AUDIO, timestamp, header, payload)
    }
}

/// Words of the server, cut to what a person reads.
fn words(text: &str) -> String {
    const MAX_WORDS: usize = 500;
    text[..text.floor_char_boundary(MAX_WORDS)].to_owned()
}

/// Where a refusal of `connect` sends us: code 302 with an address, in the object `ex`.
fn redirect(information: Option<&Value>) -> Option<String> {
    let ex = information?.field("ex")?;
    let code = ex.field("code").and_then(Value::as_number)?;
    let address = ex.field("redirect").or_else(|| ex.field("redirectUrl")).and_then(Value::as_str)?;
    (code == 302.0).then(|| address.to_owned())
}
