//! The commands that a peer sends to our server.

use std::time::Instant;

use super::{CHUNK_SIZE, ConnectInfo, ServerConnection, ServerEvent, ServerStep, StreamRequest, StreamStep};
use crate::amf_value::Value;
use crate::capabilities::{self, Capabilities};
use crate::challenge::{self, Credentials};
use crate::command::{Command, on_status, status_object, stream_number};
use crate::error::Error;

/// What is kept of an address or a stream name, in bytes. Names with a token in their query take
/// two thousand.
const MAX_ADDRESS: usize = 4096;

/// What is kept of the name that the peer's program gives itself.
const MAX_PROGRAM: usize = 128;

fn cut(text: &str, limit: usize) -> String {
    text[..text.floor_char_boundary(limit)].to_owned()
}

impl ServerConnection {
    /// Whether a command of this name makes sense now.
    pub(super) fn admit(&self, name: &str) -> Result<(), Error> {
        let too_early = |when| Err(Error::OutOfOrder { command: name.to_owned(), when });
        match self.stage {
            ServerStep::DecidingConnect { .. } => too_early("before `connect` was answered"),
            ServerStep::ExpectConnect if name != "connect" => too_early("before `connect`"),
            _ => Ok(()),
        }
    }

    pub(super) fn handle_command(&mut self, now: Instant, stream: u32, command: &Command) -> Result<(), Error> {
        match command.name.as_str() {
            "connect" => self.connect(command),
            "createStream" => match self.streams.create() {
                Some(number) => self.answer(command, Value::Null, f64::from(number).into()),
                None => self.reject_call(command),
            },
            "publish" if command.arguments.first() == Some(&Value::Boolean(false)) => self.end_stream(now, stream),
            "publish" => self.publish(stream, command),
            "play" | "play2" => self.play(stream, command),
            "pause" | "pauseRaw" => self.pause(stream, command),
            "receiveAudio" | "receiveVideo" => self.choose_media(stream, command),
            "seek" => {
                let status =
                    on_status("warning", "NetStream.Seek.Failed", "A live stream has no other place to go to.");
                self.link.send_answer(stream, &status)
            }
            "releaseStream" | "_checkbw" => self.answer(command, Value::Null, Value::Undefined),
            // A live stream has no length.
            "getStreamLength" => self.answer(command, Value::Null, 0.0.into()),
            "FCPublish" => self.answer_notice(command, "onFCPublish", "NetStream.Publish.Start"),
            "FCSubscribe" => self.answer_notice(command, "onFCSubscribe", "NetStream.Play.Start"),
            "FCUnpublish" => {
                if let Some(meant) = self.streams.meant(None, command.first_text()) {
                    self.end_stream(now, meant)?;
                }
                self.answer_notice(command, "onFCUnpublish", "NetStream.Unpublish.Success")
            }
            "deleteStream" => {
                let number = command.arguments.first().and_then(Value::as_number).and_then(stream_number);
                if let Some(meant) = self.streams.meant(number, None) {
                    self.end_stream(now, meant)?;
                    self.streams.delete(meant);
                }
                Ok(())
            }
            "closeStream" => self.end_stream(now, stream),
            "_result" | "_error" | "onStatus" => Ok(()),
            _ if command.transaction != 0.0 => self.reject_call(command),
            _ => Ok(()),
        }
    }

    /// Source: RTMP 1.0, 7.2.1.1; E-RTMP 2, Enhancing NetConnection connect Command
    fn connect(&mut self, command: &Command) -> Result<(), Error> {
        if self.stage != ServerStep::ExpectConnect {
            return self.reject_call(command);
        }
        let text = |field: &str, limit| cut(command.object_text(field).unwrap_or_default(), limit);
        self.connect = ConnectInfo {
            app: text("app", MAX_ADDRESS),
            tc_url: text("tcUrl", MAX_ADDRESS),
            flash_version: text("flashVer", MAX_PROGRAM),
            capabilities: Capabilities::read(&command.object),
        };
        if let Some(address) = self.config.redirect.clone() {
            return self.redirect(command, &address);
        }
        let path = self.connect.app.split('?').next().unwrap_or_default().trim_matches('/');
        if self.config.guarded_app.as_deref() == Some(path) {
            return self.guard(command.transaction);
        }
        self.open(command.transaction)
    }

    fn guard(&mut self, transaction: f64) -> Result<(), Error> {
        let event = match Credentials::read(&self.connect.app) {
            Credentials::None => {
                self.reject_connect(transaction, &challenge::first_refusal());
                return Ok(());
            }
            Credentials::Named { user } => ServerEvent::CredentialsWanted { user },
            Credentials::Answered(answer) => ServerEvent::CredentialsGiven(answer),
        };
        self.stage = ServerStep::DecidingConnect { transaction };
        self.events.push_back(event);
        Ok(())
    }

    pub(super) fn reject_connect(&mut self, transaction: f64, description: &str) {
        let status = status_object("error", "NetConnection.Connect.Rejected", description);
        self.link.send_command(0, &Command::new("_error", transaction, Value::Null, vec![status]));
        self.stage = ServerStep::Closing;
        self.deadline.clear();
    }

    pub(super) fn open(&mut self, transaction: f64) -> Result<(), Error> {
        self.stage = ServerStep::Open;
        self.link.announce(CHUNK_SIZE);
        let mut properties = vec![("fmsVer".into(), "Waverant/0,1".into()), ("capabilities".into(), 31.0.into())];
        if self.config.is_enhanced {
            properties.extend(capabilities::server_fields());
        }
        let mut information = status_object("status", "NetConnection.Connect.Success", "Connected.");
        if let Value::Object(pairs) = &mut information {
            // Also a peer that offers AMF3 is answered in AMF0, which it must know.
            pairs.push(("objectEncoding".into(), 0.0.into()));
        }
        let answer = Command::new("_result", transaction, Value::Object(properties), vec![information]);
        self.link.send_answer(0, &answer)
    }

    /// Sends the client to another address, as clients of all ages understand it.
    fn redirect(&mut self, command: &Command, address: &str) -> Result<(), Error> {
        let mut status = status_object("error", "NetConnection.Connect.Rejected", "Use the other address.");
        if let Value::Object(pairs) = &mut status {
            let ex = vec![("code".to_owned(), 302.0.into()), ("redirect".to_owned(), address.into())];
            pairs.push(("ex".to_owned(), Value::Object(ex)));
        }
        self.link.send_command(0, &Command::new("_error", command.transaction, Value::Null, vec![status]));
        self.stage = ServerStep::Closing;
        self.deadline.clear();
        Ok(())
    }

    fn publish(&mut self, stream: u32, command: &Command) -> Result<(), Error> {
        let name = cut(command.first_text().unwrap_or_default(), MAX_ADDRESS);
        if !self.streams.begin(stream, StreamStep::DecidingPublish, &name) {
            let words = "This stream is in use already; create another one.";
            return self.link.send_answer(stream, &on_status("error", "NetStream.Publish.BadName", words));
        }
        let request = StreamRequest { stream, name, connect: self.connect.clone() };
        self.events.push_back(ServerEvent::PublishRequested(request));
        Ok(())
    }

    /// Source: RTMP 1.0, 7.2.2.1
    fn play(&mut self, stream: u32, command: &Command) -> Result<(), Error> {
        // `play2` names the stream in an object.
        let named = command.arguments.first().and_then(|options| options.field("streamName")).and_then(Value::as_str);
        let name = cut(command.first_text().or(named).unwrap_or_default(), MAX_ADDRESS);
        if !self.streams.begin(stream, StreamStep::DecidingPlay, &name) {
            let words = "This stream is in use already; create another one.";
            return self.link.send_answer(stream, &on_status("error", "NetStream.Play.Failed", words));
        }
        let request = StreamRequest { stream, name, connect: self.connect.clone() };
        self.events.push_back(ServerEvent::PlayRequested(request));
        Ok(())
    }

    /// Source: RTMP 1.0, 7.2.2.8
    fn pause(&mut self, stream: u32, command: &Command) -> Result<(), Error> {
        let pauses = command.arguments.first() != Some(&Value::Boolean(false));
        if let Some(StreamStep::Playing { paused, sound, pictures }) = self.streams.stage(stream)
            && paused != pauses
        {
            self.streams.set(stream, StreamStep::Playing { paused: pauses, sound, pictures });
            let event = if pauses { ServerEvent::PlayPaused { stream } } else { ServerEvent::PlayResumed { stream } };
            self.events.push_back(event);
        }
        let (code, words) = if pauses {
            ("NetStream.Pause.Notify", "Paused.")
        } else {
            ("NetStream.Unpause.Notify", "Going on with the newest picture.")
        };
        self.link.send_answer(stream, &on_status("status", code, words))
    }

    /// Source: RTMP 1.0, 7.2.2.4 and 7.2.2.5
    fn choose_media(&mut self, stream: u32, command: &Command) -> Result<(), Error> {
        let wanted = command.arguments.first() != Some(&Value::Boolean(false));
        let Some(StreamStep::Playing { paused, mut sound, mut pictures }) = self.streams.stage(stream) else {
            return Ok(());
        };
        let choice = if command.name == "receiveAudio" { &mut sound } else { &mut pictures };
        let was_wanted = std::mem::replace(choice, wanted);
        self.streams.set(stream, StreamStep::Playing { paused, sound, pictures });
        if wanted && !was_wanted && !paused {
            // What comes anew needs its headers and a keyframe.
            self.events.push_back(ServerEvent::PlayResumed { stream });
        }
        if !wanted {
            return Ok(());
        }
        self.link.send_answer(stream, &on_status("status", "NetStream.Seek.Notify", "Going on."))?;
        self.link.send_answer(stream, &on_status("status", "NetStream.Play.Start", "Playing."))
    }

    fn end_stream(&mut self, now: Instant, stream: u32) -> Result<(), Error> {
        let Some(stage) = self.streams.stage(stream) else { return Ok(()) };
        self.streams.set(stream, StreamStep::Idle);
        self.rearm(now);
        if stage.is_publishing() {
            self.events.push_back(ServerEvent::PublishEnded { stream });
            self.link.send_answer(stream, &on_status("status", "NetStream.Unpublish.Success", "Ended."))?;
        } else if stage.is_deciding() {
            self.withdraw_request(stream, stage);
        } else if stage.is_playing() {
            self.events.push_back(ServerEvent::PlayEnded { stream });
            self.link.send_answer(stream, &on_status("status", "NetStream.Play.Stop", "Ended."))?;
        }
        Ok(())
    }

    /// The peer does not wait for our answer. A request that the application has not seen yet is
    /// none; one that it has seen is ended.
    fn withdraw_request(&mut self, stream: u32, stage: StreamStep) {
        let is_it = |event: &ServerEvent| {
            matches!(event, ServerEvent::PublishRequested(request) | ServerEvent::PlayRequested(request)
                if request.stream == stream)
        };
        match self.events.iter().position(is_it) {
            Some(place) => drop(self.events.remove(place)),
            None if stage == StreamStep::DecidingPublish => {
                self.events.push_back(ServerEvent::PublishEnded { stream });
            }
            None => self.events.push_back(ServerEvent::PlayEnded { stream }),
        }
    }

    fn answer(&mut self, command: &Command, object: Value, information: Value) -> Result<(), Error> {
        let answer = Command::new("_result", command.transaction, object, vec![information]);
        self.link.send_answer(0, &answer)
    }

    /// Answers a call that has a notice of its own besides the result.
    fn answer_notice(&mut self, command: &Command, notice: &str, code: &str) -> Result<(), Error> {
        if command.transaction != 0.0 {
            self.answer(command, Value::Null, Value::Undefined)?;
        }
        let status = status_object("status", code, command.first_text().map_or("", |_| "Noted."));
        self.link.send_answer(0, &Command::new(notice, 0.0, Value::Null, vec![status]))
    }

    /// Source: RTMP 1.0, 7.2.1.2
    fn reject_call(&mut self, command: &Command) -> Result<(), Error> {
        let status = status_object("error", "NetConnection.Call.Failed", "This command is not offered here.");
        self.link.send_answer(0, &Command::new("_error", command.transaction, Value::Null, vec![status]))
    }
}
