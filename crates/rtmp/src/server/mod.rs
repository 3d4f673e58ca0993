//! The server's side of a connection.

mod commands;
mod event;
mod streams;

use std::collections::VecDeque;
use std::time::Instant;

use bytes::Bytes;

use crate::amf_value::Value;
use crate::capabilities::Capabilities;
use crate::challenge;
use crate::command::Command;
use crate::command::{decode_metadata, on_status};
use crate::config::ServerConfig;
use crate::deadline::Deadline;
use crate::error::{Error, TimeoutKind};
use crate::link::{Link, LinkCounters, chunk_stream};
use crate::media_output::MediaOutput;
use crate::metadata::StreamMetadata;
use crate::timestamp::Timestamp;
use crate::wire::{ControlMessage, Message, MessageHead, UserControl, message_type};

pub use event::{ConnectInfo, MediaKind, Refusal, ServerEvent, StreamRequest};
use streams::{StreamStep, Streams};

/// Bytes that may come before a stream is let in, in messages of the longest kind.
const SETUP_MESSAGES: u64 = 4;

/// Chunk size of what we send: few headers for players, and small enough that no message of
/// another kind waits long behind a keyframe.
const CHUNK_SIZE: u32 = 64 * 1024;

#[derive(Debug, PartialEq)]
enum ServerStep {
    Handshake,
    ExpectConnect,
    /// Credentials wait for the application's answer.
    DecidingConnect {
        transaction: f64,
    },
    Open,
    /// All is said; the rest of the output is to be flushed and the connection closed.
    Closing,
}

/// The server's side of one connection. It carries any number of streams, each published by
/// the peer or played to it.
///
/// ```text
/// connection: Handshake → ExpectConnect → (DecidingConnect →) Open → Closing
/// stream:     Idle → DecidingPublish → Publishing → Idle
///             Idle → DecidingPlay → Playing → Idle
/// ```
#[derive(Debug)]
pub struct ServerConnection {
    config: ServerConfig,
    link: Link,
    stage: ServerStep,
    deadline: Deadline,
    events: VecDeque<ServerEvent>,
    connect: ConnectInfo,
    streams: Streams,
    /// Bytes received when the connection was last in use.
    admitted_bytes: Option<u64>,
}

impl ServerConnection {
    /// A connection that was accepted at `now`.
    pub fn new(config: ServerConfig, now: Instant) -> Self {
        let link = Link::server(config.seed, config.limits.max_setup_message_bytes);
        let mut deadline = Deadline::default();
        deadline.set(now + config.limits.handshake_timeout, TimeoutKind::Handshake);
        Self {
            config,
            link,
            stage: ServerStep::Handshake,
            deadline,
            events: VecDeque::new(),
            connect: ConnectInfo::default(),
            streams: Streams::default(),
            admitted_bytes: None,
        }
    }

    /// Takes bytes from the peer.
    ///
    /// # Errors
    /// [`Error`] if the peer cannot be understood; flush what is to be sent, then close.
    pub fn handle_input(&mut self, now: Instant, mut input: &[u8]) -> Result<(), Error> {
        if self.stage == ServerStep::Closing {
            return Ok(());
        }
        self.link.count_input(input.len());
        if self.streams.any(StreamStep::is_publishing) {
            self.deadline.set(now + self.config.limits.idle_timeout, TimeoutKind::Idle);
        }
        self.check_setup_bytes()?;
        while self.stage != ServerStep::Closing {
            let message = self.link.next_message(&mut input)?;
            if self.stage == ServerStep::Handshake && self.link.is_established() {
                self.stage = ServerStep::ExpectConnect;
                self.deadline.set(now + self.config.limits.setup_timeout, TimeoutKind::Setup);
            }
            match message {
                Some(message) => self.handle_message(now, message)?,
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

    /// Bytes to send; call until None, but not while much of what came before is still unsent.
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

    /// True once the handshake is done.
    pub fn is_greeted(&self) -> bool {
        self.stage != ServerStep::Handshake
    }

    /// True when nothing is left but to flush and close.
    pub fn is_closing(&self) -> bool {
        self.stage == ServerStep::Closing
    }

    /// Byte counts and oddities.
    pub fn counters(&self) -> LinkCounters {
        self.link.counters()
    }

    /// Challenges the user who was named, and closes: the client connects anew with its answer.
    /// `salt` is the one of the user's password; `opaque` comes back with the answer. Both are to
    /// be letters, digits and hyphens.
    ///
    /// # Errors
    /// [`Error::Misuse`] if nobody waits for it.
    pub fn challenge(&mut self, user: &str, salt: &str, opaque: &str) -> Result<(), Error> {
        let transaction = self.deciding_connect()?;
        self.reject_connect(transaction, &challenge::challenge(user, salt, opaque));
        Ok(())
    }

    /// Takes the client whose credentials were given.
    ///
    /// # Errors
    /// [`Error::Misuse`] if nobody waits for it.
    pub fn accept_connect(&mut self) -> Result<(), Error> {
        let transaction = self.deciding_connect()?;
        self.open(transaction)
    }

    /// Sends the client away whose credentials were given, and closes.
    ///
    /// # Errors
    /// [`Error::Misuse`] if nobody waits for it.
    pub fn refuse_credentials(&mut self) -> Result<(), Error> {
        let transaction = self.deciding_connect()?;
        self.reject_connect(transaction, &challenge::failure());
        Ok(())
    }

    fn deciding_connect(&self) -> Result<f64, Error> {
        match self.stage {
            ServerStep::DecidingConnect { transaction } => Ok(transaction),
            _ => Err(Error::Misuse("no credentials wait for an answer")),
        }
    }

    /// Lets the waiting publisher of `stream` in.
    ///
    /// # Errors
    /// [`Error::Misuse`] if no such request waits.
    pub fn accept_publish(&mut self, now: Instant, stream: u32) -> Result<(), Error> {
        self.streams.step(stream, StreamStep::DecidingPublish, StreamStep::Publishing)?;
        self.link.set_max_message(self.config.limits.max_message_bytes);
        self.rearm(now);
        self.link.send_control(ControlMessage::User(UserControl::StreamBegin(stream)));
        let status = on_status("status", "NetStream.Publish.Start", "Publishing.");
        self.link.send_command(stream, &status);
        Ok(())
    }

    /// Begins to play `stream` to the player that asks for it. Media goes through
    /// [`player`](Self::player) from now on.
    ///
    /// # Errors
    /// [`Error::Misuse`] if no such request waits.
    ///
    /// Source: RTMP 1.0, 7.2.2.1
    pub fn accept_play(&mut self, now: Instant, stream: u32) -> Result<(), Error> {
        self.streams.step(stream, StreamStep::DecidingPlay, StreamStep::PLAYING)?;
        self.rearm(now);
        self.link.send_control(ControlMessage::User(UserControl::StreamBegin(stream)));
        self.link.send_command(stream, &on_status("status", "NetStream.Play.Reset", "Beginning anew."));
        self.link.send_command(stream, &on_status("status", "NetStream.Play.Start", "Playing."));
        let access = ["|RtmpSampleAccess".into(), Value::Boolean(true), Value::Boolean(true)];
        self.send_data(stream, Timestamp(0), &crate::amf0::encode_all(&access).into());
        Ok(())
    }

    /// Sends a waiting publisher or player away: an error status, then, if the connection
    /// carries nothing else, it is to be flushed and closed by us, since many peers do nothing on
    /// their own after an error.
    ///
    /// # Errors
    /// [`Error::Misuse`] if no request waits for `stream`.
    pub fn refuse(&mut self, stream: u32, refusal: &Refusal) -> Result<(), Error> {
        let code = match self.streams.stage(stream) {
            Some(StreamStep::DecidingPublish) => "NetStream.Publish.BadName",
            Some(StreamStep::DecidingPlay) => "NetStream.Play.StreamNotFound",
            _ => return Err(Error::Misuse("no request waits for an answer")),
        };
        self.link.send_command(stream, &on_status("error", code, &refusal.description));
        self.finish(stream);
        Ok(())
    }

    /// Ends a publisher's stream from our side, telling why.
    pub fn end_publish(&mut self, stream: u32, reason: &str) {
        if self.streams.stage(stream).is_some_and(StreamStep::is_publishing) {
            let status = on_status("status", "NetStream.Unpublish.Success", reason);
            self.link.send_command(stream, &status);
        }
        self.finish(stream);
    }

    /// Tells a player that the show is over.
    pub fn end_play(&mut self, stream: u32, reason: &str) {
        if self.streams.stage(stream).is_some_and(StreamStep::is_playing) {
            self.link.send_command(stream, &on_status("status", "NetStream.Play.UnpublishNotify", reason));
            self.link.send_control(ControlMessage::User(UserControl::StreamEof(stream)));
            self.link.send_command(stream, &on_status("status", "NetStream.Play.Stop", reason));
        }
        self.finish(stream);
    }

    /// Asks the peer to connect anew, at `address` if that is to be another one; false if the peer
    /// does not know such a request.
    ///
    /// Source: E-RTMP 2, Reconnect Request
    pub fn request_reconnect(&mut self, address: Option<&str>, description: &str) -> bool {
        let known = self.stage == ServerStep::Open && self.connect.capabilities.reconnects();
        if known {
            let mut status = on_status("status", "NetConnection.Connect.ReconnectRequest", description);
            if let (Some(address), Some(Value::Object(pairs))) = (address, status.arguments.first_mut()) {
                pairs.push(("tcUrl".to_owned(), address.into()));
            }
            self.link.send_command(0, &status);
        }
        known
    }

    /// The way to a player, if one plays `stream` and has not paused it.
    pub fn player(&mut self, stream: u32) -> Option<Player<'_>> {
        match self.streams.stage(stream) {
            Some(StreamStep::Playing { paused: false, sound, pictures }) => {
                Some(Player { stream, sound, pictures, connect: &self.connect, link: &mut self.link })
            }
            _ => None,
        }
    }

    /// What the peer said in `connect`.
    pub fn connect_info(&self) -> &ConnectInfo {
        &self.connect
    }

    /// Who was not let in yet may cost little: neither memory, nor the work that comes with what it
    /// sends. Some media may be on its way already when a publisher is let in.
    fn check_setup_bytes(&self) -> Result<(), Error> {
        let limit = SETUP_MESSAGES * u64::from(self.config.limits.max_setup_message_bytes);
        let received = self.link.counters().received_bytes - self.admitted_bytes.unwrap_or(0);
        let is_in_use = self.streams.any(|stage| stage.is_publishing() || stage.is_playing());
        if is_in_use || received <= limit { Ok(()) } else { Err(Error::TooMuchBefore { received, limit }) }
    }

    /// A stream is done; so is the connection when it was the last one.
    fn finish(&mut self, stream: u32) {
        self.streams.set(stream, StreamStep::Idle);
        if !self.streams.any(|stage| stage != StreamStep::Idle) {
            self.stage = ServerStep::Closing;
            self.deadline.clear();
        }
    }

    /// Sets the deadline that goes with what the connection carries.
    fn rearm(&mut self, now: Instant) {
        let limits = &self.config.limits;
        if self.streams.any(StreamStep::is_publishing) {
            self.deadline.set(now + limits.idle_timeout, TimeoutKind::Idle);
        } else if self.streams.any(StreamStep::is_playing) {
            // A player has nothing to say; one that is gone shows by not taking what we send.
            self.deadline.clear();
        } else {
            self.admitted_bytes = Some(self.link.counters().received_bytes);
            self.deadline.set(now + limits.setup_timeout, TimeoutKind::Setup);
        }
    }

    fn handle_message(&mut self, now: Instant, message: Message) -> Result<(), Error> {
        match message.message_type {
            message_type::AUDIO => self.handle_media(MediaKind::Audio, message),
            message_type::VIDEO => self.handle_media(MediaKind::Video, message),
            message_type::DATA_AMF0 | message_type::DATA_AMF3 => {
                let stream = message.message_stream;
                // Broken metadata is no reason to lose a show.
                if self.streams.stage(stream).is_some_and(StreamStep::is_publishing)
                    && let Ok(Some(pairs)) = decode_metadata(&message)
                {
                    let metadata = StreamMetadata::from_pairs(&pairs);
                    self.events.push_back(ServerEvent::Metadata { stream, metadata });
                }
            }
            _ => {
                if let Some(command) = Command::decode(&message, |name| self.admit(name))? {
                    self.handle_command(now, message.message_stream, &command)?;
                }
            }
        }
        Ok(())
    }

    fn handle_media(&mut self, kind: MediaKind, message: Message) {
        // Late media of a stream that was just ended, or sent before publish was answered.
        let stream = message.message_stream;
        if self.streams.stage(stream).is_some_and(StreamStep::is_publishing) {
            let event = ServerEvent::Media { stream, kind, timestamp: message.timestamp, body: message.payload };
            self.events.push_back(event);
        }
    }

    fn send_data(&mut self, stream: u32, timestamp: Timestamp, payload: &Bytes) {
        let (chunk_stream, message_type) = (chunk_stream::AUDIO, message_type::DATA_AMF0);
        let head = MessageHead { chunk_stream, message_type, message_stream: stream, timestamp };
        self.link.send(head, &[], payload);
    }
}

/// The way from our server to a player.
#[derive(Debug)]
pub struct Player<'a> {
    stream: u32,
    sound: bool,
    pictures: bool,
    connect: &'a ConnectInfo,
    link: &'a mut Link,
}

impl MediaOutput for Player<'_> {
    fn capabilities(&self) -> &Capabilities {
        &self.connect.capabilities
    }

    fn is_player(&self) -> bool {
        true
    }

    fn send_data(&mut self, timestamp: Timestamp, payload: &Bytes) -> Result<(), Error> {
        self.send(chunk_stream::AUDIO, message_type::DATA_AMF0, timestamp, &[], payload);
        Ok(())
    }

    fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        if self.pictures {
            self.send(chunk_stream::VIDEO, message_type::VIDEO, timestamp, header, payload);
        }
        Ok(())
    }

    fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error> {
        if self.sound {
            self.send(chunk_stream::AUDIO, message_type::AUDIO, timestamp, header, payload);
        }
        Ok(())
    }
}

impl Player<'_> {
    fn send(&mut self, chunk_stream: u32, message_type: u8, timestamp: Timestamp, header: &[u8], payload: &Bytes) {
        let head = MessageHead { chunk_stream, message_type, message_stream: self.stream, timestamp };
        self.link.send(head, header, payload);
    }
}
