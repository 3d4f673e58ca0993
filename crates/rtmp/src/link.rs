use std::collections::VecDeque;

use bytes::Bytes;

use crate::command::Command;
use crate::error::Error;
use crate::timestamp::Timestamp;
use crate::wire::{
    Aggregate, ChunkDecoder, ChunkEncoder, ClientHandshake, ControlMessage, Greeting, Message, MessageHead, Progress,
    ServerHandshake, UserControl, message_type,
};

/// Chunk streams by use. The numbers are free but for 2, which belongs to control messages.
pub(crate) mod chunk_stream {
    pub(crate) const CONTROL: u32 = 2;
    pub(crate) const COMMAND: u32 = 3;
    pub(crate) const AUDIO: u32 = 4;
    pub(crate) const STATUS: u32 = 5;
    pub(crate) const VIDEO: u32 = 6;
}

/// We acknowledge at least this often, whether the peer asked for it or not: some never ask and
/// stop sending after a few megabytes without an answer.
pub(crate) const WINDOW: u32 = 2_500_000;

/// Limit types of Set Peer Bandwidth.
///
/// Source: RTMP 1.0, 5.4.5
mod limit_type {
    pub(super) const HARD: u8 = 0;
    pub(super) const SOFT: u8 = 1;
    pub(super) const DYNAMIC: u8 = 2;
}

/// Answers that may wait to be sent. A publisher causes a few hundred bytes of them.
const MAX_UNSENT_ANSWERS: usize = 64 * 1024;

/// What went over a connection, and its oddities.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LinkCounters {
    /// Bytes received, handshake included.
    pub received_bytes: u64,
    /// Bytes that the peer says it received, modulo 2^32.
    pub acknowledged_bytes: u32,
    /// Chunk streams that opened with a header other than type 0.
    pub irregular_header_count: u64,
}

#[derive(Debug)]
enum Handshake {
    Server(ServerHandshake),
    Client(ClientHandshake),
    Done,
}

/// What both roles share: handshake, chunks, and the messages that steer the connection.
#[derive(Debug)]
pub(crate) struct Link {
    handshake: Handshake,
    decoder: ChunkDecoder,
    encoder: ChunkEncoder,
    out: VecDeque<Bytes>,
    /// Bytes in `out` that are no media.
    answer_bytes: usize,
    counters: LinkCounters,
    acknowledge_every: u32,
    acknowledged: u64,
    /// An acknowledgement that is due. A peer that reads nothing for long gets one, not many.
    due_acknowledgement: Option<u32>,
    /// An answer to a ping that is due; to the newest one only.
    due_pong: Option<u32>,
    /// How the peer limits our output, and what we announced for it.
    output_limit: Option<(u32, u8)>,
    announced_window: u32,
    aggregate: Option<Aggregate>,
}

impl Link {
    pub(crate) fn server(seed: u64, max_message: u32) -> Self {
        Self::new(Handshake::Server(ServerHandshake::new(seed)), max_message)
    }

    pub(crate) fn client(seed: u64, greeting: Greeting, max_message: u32) -> Self {
        let mut hello = Vec::new();
        let handshake = Handshake::Client(ClientHandshake::new(seed, greeting, &mut hello));
        let mut link = Self::new(handshake, max_message);
        link.out.extend(hello);
        link
    }

    fn new(handshake: Handshake, max_message: u32) -> Self {
        Self {
            handshake,
            decoder: ChunkDecoder::new(max_message),
            encoder: ChunkEncoder::new(),
            out: VecDeque::new(),
            answer_bytes: 0,
            counters: LinkCounters::default(),
            acknowledge_every: WINDOW,
            acknowledged: 0,
            due_acknowledgement: None,
            due_pong: None,
            output_limit: None,
            announced_window: 0,
            aggregate: None,
        }
    }

    pub(crate) fn counters(&self) -> LinkCounters {
        LinkCounters { irregular_header_count: self.decoder.irregular_count(), ..self.counters }
    }

    pub(crate) fn is_established(&self) -> bool {
        matches!(self.handshake, Handshake::Done)
    }

    pub(crate) fn set_max_message(&mut self, max_message: u32) {
        self.decoder.set_max_message(max_message);
    }

    pub(crate) fn poll_transmit(&mut self) -> Option<Bytes> {
        if self.out.is_empty()
            && let Some(count) = self.due_acknowledgement.take()
        {
            self.send_control(ControlMessage::Acknowledgement(count));
        }
        if self.out.is_empty()
            && let Some(time) = self.due_pong.take()
        {
            self.send_control(ControlMessage::User(UserControl::PingResponse(time)));
        }
        let piece = self.out.pop_front();
        if self.out.is_empty() {
            self.answer_bytes = 0;
        }
        piece
    }

    /// Counts input. Call once per piece, before [`next_message`](Self::next_message).
    pub(crate) fn count_input(&mut self, length: usize) {
        self.counters.received_bytes += length as u64;
        let unacknowledged = self.counters.received_bytes - self.acknowledged;
        if self.is_established() && unacknowledged >= u64::from(self.acknowledge_every) {
            self.acknowledged = self.counters.received_bytes;
            // The count wraps at 32 bits. Source: RTMP 1.0, 5.4.3
            self.due_acknowledgement = u32::try_from(self.acknowledged & u64::from(u32::MAX)).ok();
        }
    }

    /// Reads up to the end of the next message that is not about the connection itself. None
    /// when the input is used up, or at the moment the handshake is done.
    pub(crate) fn next_message(&mut self, input: &mut &[u8]) -> Result<Option<Message>, Error> {
        if !self.is_established() {
            self.continue_handshake(input)?;
            return Ok(None);
        }
        loop {
            if let Some(message) = self.aggregate.as_mut().and_then(Iterator::next) {
                return Ok(Some(message));
            }
            self.aggregate = None;
            let Some(message) = self.decoder.next_message(input)? else { return Ok(None) };
            self.aggregate = Aggregate::new(&message);
            if self.aggregate.is_some() {
                continue;
            }
            match ControlMessage::decode(&message)? {
                Some(control) => self.handle_control(control)?,
                None => return Ok(Some(message)),
            }
        }
    }

    fn continue_handshake(&mut self, input: &mut &[u8]) -> Result<(), Error> {
        let mut answer = Vec::new();
        let Progress { consumed, done } = match &mut self.handshake {
            Handshake::Server(handshake) => handshake.handle_input(input, &mut answer)?,
            Handshake::Client(handshake) => handshake.handle_input(input, &mut answer)?,
            Handshake::Done => Progress { consumed: 0, done: true },
        };
        *input = &input[consumed..];
        self.out.extend(answer);
        if done {
            self.handshake = Handshake::Done;
        }
        Ok(())
    }

    fn handle_control(&mut self, message: ControlMessage) -> Result<(), Error> {
        match message {
            ControlMessage::SetChunkSize(size) => self.decoder.set_chunk_size(size)?,
            ControlMessage::Abort(stream) => self.decoder.abort(stream),
            ControlMessage::Acknowledgement(count) => self.counters.acknowledged_bytes = count,
            ControlMessage::WindowAcknowledgementSize(size) => self.acknowledge_every = size.clamp(1, WINDOW),
            ControlMessage::SetPeerBandwidth { window, limit_type } => self.limit_output(window, limit_type),
            ControlMessage::User(UserControl::PingRequest(time)) => {
                self.due_pong = Some(time);
            }
            ControlMessage::User(_) => {}
        }
        if self.answer_bytes > MAX_UNSENT_ANSWERS { Err(Error::Unread) } else { Ok(()) }
    }

    /// The peer limits what may be on its way to it. TCP holds us to what it can take; so it is
    /// only told the window, where that changes.
    ///
    /// Source: RTMP 1.0, 5.4.5
    fn limit_output(&mut self, window: u32, limit_type: u8) {
        let limit = match (limit_type, self.output_limit) {
            (limit_type::SOFT, Some((old, kind))) => (window.min(old), kind),
            // A dynamic limit counts as a hard one behind a hard one; else it is to be ignored.
            (limit_type::DYNAMIC, Some((old, kind))) if kind != limit_type::HARD => (old, kind),
            (limit_type::DYNAMIC, Some(_)) => (window, limit_type::HARD),
            (kind, _) => (window, kind),
        };
        self.output_limit = Some(limit);
        if self.announced_window != limit.0 {
            self.announced_window = limit.0;
            self.send_control(ControlMessage::WindowAcknowledgementSize(limit.0));
        }
    }

    pub(crate) fn send_control(&mut self, message: ControlMessage) {
        let (message_type, payload) = message.encode();
        let head = MessageHead {
            chunk_stream: chunk_stream::CONTROL,
            message_type,
            message_stream: 0,
            timestamp: Timestamp(0),
        };
        self.answer_bytes += payload.len() + 12;
        self.send(head, &[], &payload);
    }

    /// Announces windows and chunk size, as a server does when it is connected to.
    pub(crate) fn announce(&mut self, chunk_size: u32) {
        self.announced_window = WINDOW;
        self.send_control(ControlMessage::WindowAcknowledgementSize(WINDOW));
        self.send_control(ControlMessage::SetPeerBandwidth { window: WINDOW, limit_type: limit_type::DYNAMIC });
        self.set_chunk_size(chunk_size);
    }

    pub(crate) fn set_chunk_size(&mut self, chunk_size: u32) {
        self.send_control(ControlMessage::SetChunkSize(chunk_size));
        self.encoder.set_chunk_size(chunk_size);
    }

    /// Answers a command of the peer.
    ///
    /// # Errors
    /// [`Error::Unread`] if too many answers wait already.
    pub(crate) fn send_answer(&mut self, message_stream: u32, command: &Command) -> Result<(), Error> {
        self.send_command(message_stream, command);
        if self.answer_bytes > MAX_UNSENT_ANSWERS { Err(Error::Unread) } else { Ok(()) }
    }

    pub(crate) fn send_command(&mut self, message_stream: u32, command: &Command) {
        let chunk_stream = if message_stream == 0 { chunk_stream::COMMAND } else { chunk_stream::STATUS };
        let head = MessageHead {
            chunk_stream,
            message_type: message_type::COMMAND_AMF0,
            message_stream,
            timestamp: Timestamp(0),
        };
        let payload = command.encode();
        self.answer_bytes += payload.len() + 12;
        self.send(head, &[], &payload);
    }

    pub(crate) fn send(&mut self, head: MessageHead, prefix: &[u8], payload: &Bytes) {
        self.encoder.encode(head, prefix, payload, &mut self.out);
    }
}
