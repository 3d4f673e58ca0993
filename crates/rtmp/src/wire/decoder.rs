use std::collections::{HashMap, VecDeque};

use bytes::{Bytes, BytesMut};

use super::chunk::{ChunkError, DEFAULT_CHUNK_SIZE, EXTENDED_TIMESTAMP, TWO_BYTE_ID};
use super::message::Message;
use crate::timestamp::Timestamp;

/// Chunk streams that one connection may open. Encoders use 3 to 8.
const MAX_STREAMS: usize = 64;

/// A buffer begins with at most this much, however long a message claims to be; it grows with
/// what really arrives.
const FIRST_RESERVE: usize = 512 * 1024;

/// Basic header, message header and extended timestamp at their longest.
const MAX_HEADER: usize = 3 + 11 + 4;

/// Puts messages together from chunks.
///
/// Payload bytes are copied once, from the input into the message's own buffer.
#[derive(Debug)]
pub(crate) struct ChunkDecoder {
    chunk_size: usize,
    max_message: u32,
    streams: HashMap<u32, StreamState>,
    /// Bytes of a header that the input cut off.
    partial: Vec<u8>,
    /// Bytes that were taken for a header and turned out to be payload.
    replay: VecDeque<u8>,
    /// The chunk whose payload is being read: its stream, and bytes to come.
    open: Option<(u32, usize)>,
    /// Memory of messages that are not whole yet, reserved bytes included.
    held: usize,
    irregular_count: u64,
    reading: ExtendedReading,
}

/// Whether type 3 chunks repeat the extended timestamp of their message. The specification says
/// so (5.3.1.3), but some peers leave it out; the first such chunk of a connection tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ExtendedReading {
    Unknown,
    Repeated,
    LeftOut,
}

#[derive(Debug, Default)]
struct StreamState {
    timestamp: Timestamp,
    /// What a type 3 header adds when it begins a message.
    delta: u32,
    length: u32,
    message_type: u8,
    message_stream: u32,
    /// The value of the extended timestamp, if the last header had one.
    extended: Option<u32>,
    payload: BytesMut,
    in_message: bool,
}

/// A chunk header as read, before it is applied to its stream.
#[derive(Debug)]
struct Header {
    format: u8,
    stream: u32,
    timestamp_field: u32,
    extended: bool,
    length: u32,
    message_type: u8,
    message_stream: u32,
    size: usize,
    /// What this header showed about the peer.
    reading: ExtendedReading,
}

impl ChunkDecoder {
    pub(crate) fn new(max_message: u32) -> Self {
        Self {
            chunk_size: DEFAULT_CHUNK_SIZE,
            max_message,
            streams: HashMap::new(),
            partial: Vec::with_capacity(MAX_HEADER),
            replay: VecDeque::new(),
            open: None,
            held: 0,
            irregular_count: 0,
            reading: ExtendedReading::Unknown,
        }
    }

    /// Chunk streams that opened with a header other than type 0; counted, not refused.
    pub(crate) fn irregular_count(&self) -> u64 {
        self.irregular_count
    }

    /// From now on messages may be as long as this.
    pub(crate) fn set_max_message(&mut self, max_message: u32) {
        self.max_message = max_message;
    }

    /// Source: RTMP 1.0, 5.4.1
    pub(crate) fn set_chunk_size(&mut self, size: u32) -> Result<(), ChunkError> {
        // The highest bit must be zero; a size above the longest message changes nothing.
        if size == 0 || size > 0x7fff_ffff {
            return Err(ChunkError::ChunkSize(size));
        }
        self.chunk_size = usize::try_from(size).unwrap_or(usize::MAX);
        Ok(())
    }

    /// Throws away what has come of a message.
    ///
    /// Source: RTMP 1.0, 5.4.2
    pub(crate) fn abort(&mut self, stream: u32) {
        if let Some(state) = self.streams.get_mut(&stream) {
            self.held -= state.payload.capacity();
            state.payload = BytesMut::new();
            state.in_message = false;
        }
    }

    /// Reads from `input` up to the end of the next message, and moves `input` on. None when
    /// the input is used up.
    pub(crate) fn next_message(&mut self, input: &mut &[u8]) -> Result<Option<Message>, ChunkError> {
        loop {
            if self.open.is_none() && !self.read_header(input)? {
                return Ok(None);
            }
            let message = self.read_payload(input);
            let limit = 2 * self.max_message as usize;
            if self.held > limit {
                return Err(ChunkError::TooMuchHeld { limit });
            }
            match message {
                Some(message) => return Ok(Some(message)),
                None if self.open.is_some() => return Ok(None),
                None => {}
            }
        }
    }

    /// Reads a chunk header, across calls if need be. False if the input ended within it.
    fn read_header(&mut self, input: &mut &[u8]) -> Result<bool, ChunkError> {
        if self.partial.is_empty()
            && self.replay.is_empty()
            && let Some(header) = self.parse_header(input)
        {
            *input = &input[header.size..];
            self.begin_chunk(header)?;
            return Ok(true);
        }
        while let Some(byte) = self.next_byte(input) {
            self.partial.push(byte);
            if let Some(header) = self.parse_header(&self.partial) {
                // What was held as a possible timestamp is payload, and comes before the rest.
                for byte in self.partial.drain(header.size..).rev() {
                    self.replay.push_front(byte);
                }
                self.partial.clear();
                self.begin_chunk(header)?;
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn next_byte(&mut self, input: &mut &[u8]) -> Option<u8> {
        if let Some(byte) = self.replay.pop_front() {
            return Some(byte);
        }
        let (&byte, rest) = input.split_first()?;
        *input = rest;
        Some(byte)
    }

    /// Source: RTMP 1.0, 5.3.1.1 to 5.3.1.3
    fn parse_header(&self, bytes: &[u8]) -> Option<Header> {
        let first = *bytes.first()?;
        let (stream, mut at) = match first & 0x3f {
            0 => (TWO_BYTE_ID + u32::from(*bytes.get(1)?), 2),
            1 => (TWO_BYTE_ID + u32::from(*bytes.get(1)?) + 256 * u32::from(*bytes.get(2)?), 3),
            id => (u32::from(id), 1),
        };
        let format = first >> 6;
        let known = self.streams.get(&stream);
        let mut header = Header {
            format,
            stream,
            timestamp_field: 0,
            extended: false,
            length: known.map_or(0, |state| state.length),
            message_type: known.map_or(0, |state| state.message_type),
            message_stream: known.map_or(0, |state| state.message_stream),
            size: 0,
            reading: self.reading,
        };
        if format <= 2 {
            header.timestamp_field = read_u24(bytes, at)?;
            header.extended = header.timestamp_field == EXTENDED_TIMESTAMP;
            at += 3;
        }
        if format <= 1 {
            header.length = read_u24(bytes, at)?;
            header.message_type = *bytes.get(at + 3)?;
            at += 4;
        }
        if format == 0 {
            // The message stream number is the one little-endian field of the protocol.
            header.message_stream = u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?);
            at += 4;
        }
        if header.extended {
            header.timestamp_field = u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?);
            at += 4;
        } else if let Some(expected) = known.and_then(|state| state.extended).filter(|_| format == 3) {
            header.extended = true;
            header.timestamp_field = expected;
            header.reading = self.find_reading(expected, bytes.get(at..)?)?;
            if header.reading == ExtendedReading::Repeated {
                bytes.get(at..at + 4)?;
                at += 4;
            }
        }
        header.size = at;
        Some(header)
    }

    /// Whether `expected` stands again at the start of `bytes`. None if too few bytes are there
    /// to tell.
    fn find_reading(&self, expected: u32, bytes: &[u8]) -> Option<ExtendedReading> {
        if self.reading != ExtendedReading::Unknown {
            return Some(self.reading);
        }
        let expected = expected.to_be_bytes();
        let there = &bytes[..bytes.len().min(expected.len())];
        if !expected.starts_with(there) {
            return Some(ExtendedReading::LeftOut);
        }
        (there.len() == expected.len()).then_some(ExtendedReading::Repeated)
    }

    fn begin_chunk(&mut self, header: Header) -> Result<(), ChunkError> {
        let stream = header.stream;
        self.reading = header.reading;
        let is_new = !self.streams.contains_key(&stream);
        if is_new {
            if self.streams.len() >= MAX_STREAMS {
                return Err(ChunkError::TooManyStreams { limit: MAX_STREAMS });
            }
            // Real clients open stream 2 with a type 1 header; a delta from 0 is then meant.
            if header.format >= 2 {
                return Err(ChunkError::NoPrecedingHeader { stream });
            }
            self.irregular_count += u64::from(header.format != 0);
        }
        if header.length > self.max_message {
            return Err(ChunkError::MessageTooLong { length: header.length, limit: self.max_message });
        }
        let state = self.streams.entry(stream).or_default();
        if !(state.in_message && header.format == 3) {
            if state.in_message {
                let missing = (state.length as usize).saturating_sub(state.payload.len());
                return Err(ChunkError::MessageInterrupted { stream, missing });
            }
            state.begin_message(&header);
            self.held += state.payload.capacity();
        }
        let missing = state.length as usize - state.payload.len();
        self.open = Some((stream, missing.min(self.chunk_size)));
        Ok(())
    }

    /// Copies payload of the open chunk; returns the message that this completes.
    fn read_payload(&mut self, input: &mut &[u8]) -> Option<Message> {
        let (stream, mut missing) = self.open?;
        let state = self.streams.get_mut(&stream)?;
        let reserved = state.payload.capacity();
        while missing > 0
            && let Some(byte) = self.replay.pop_front()
        {
            state.payload.extend_from_slice(&[byte]);
            missing -= 1;
        }
        let count = missing.min(input.len());
        let (payload, rest) = input.split_at(count);
        state.payload.extend_from_slice(payload);
        *input = rest;
        self.held += state.payload.capacity() - reserved;
        if count < missing {
            self.open = Some((stream, missing - count));
            return None;
        }
        self.open = None;
        if state.payload.len() < state.length as usize {
            return None;
        }
        self.held -= state.payload.capacity();
        Some(state.end_message(stream))
    }
}

impl StreamState {
    /// Source: RTMP 1.0, 5.3.1.2
    fn begin_message(&mut self, header: &Header) {
        match header.format {
            0 => {
                self.timestamp = Timestamp(header.timestamp_field);
                // A type 3 header after a type 0 header adds the timestamp itself (5.3.1.2.4).
                self.delta = header.timestamp_field;
            }
            1 | 2 => {
                self.delta = header.timestamp_field;
                self.timestamp = self.timestamp.advanced_by(self.delta);
            }
            _ => self.timestamp = self.timestamp.advanced_by(self.delta),
        }
        self.length = header.length;
        self.message_type = header.message_type;
        self.message_stream = header.message_stream;
        self.extended = header.extended.then_some(header.timestamp_field);
        self.in_message = true;
        self.payload = BytesMut::with_capacity((header.length as usize).min(FIRST_RESERVE));
    }

    fn end_message(&mut self, chunk_stream: u32) -> Message {
        self.in_message = false;
        let payload: Bytes = std::mem::take(&mut self.payload).freeze();
        Message {
            chunk_stream,
            message_type: self.message_type,
            message_stream: self.message_stream,
            timestamp: self.timestamp,
            payload,
        }
    }
}

fn read_u24(bytes: &[u8], at: usize) -> Option<u32> {
    let field = bytes.get(at..at + 3)?;
    Some(u32::from_be_bytes([0, field[0], field[1], field[2]]))
}
