use std::collections::HashMap;

use bytes::{BufMut, Bytes, BytesMut};

use super::chunk::{DEFAULT_CHUNK_SIZE, EXTENDED_TIMESTAMP, THREE_BYTE_ID, TWO_BYTE_ID};
use crate::timestamp::Timestamp;

/// Headers are cut from blocks of this size, so that a message costs no allocation of its own.
const HEADER_BLOCK: usize = 4096;

/// Room for the longest header with a tag header behind it.
const HEADER_ROOM: usize = 64;

/// What a message says about itself.
#[derive(Clone, Copy, Debug)]
pub(crate) struct MessageHead {
    pub(crate) chunk_stream: u32,
    pub(crate) message_type: u8,
    pub(crate) message_stream: u32,
    pub(crate) timestamp: Timestamp,
}

/// Cuts messages into chunks. Payloads are sliced, never copied.
#[derive(Debug)]
pub(crate) struct ChunkEncoder {
    chunk_size: usize,
    last: HashMap<u32, LastHeader>,
    block: BytesMut,
}

#[derive(Clone, Copy, Debug)]
struct LastHeader {
    timestamp: Timestamp,
    length: u32,
    message_type: u8,
    message_stream: u32,
}

impl ChunkEncoder {
    pub(crate) fn new() -> Self {
        Self { chunk_size: DEFAULT_CHUNK_SIZE, last: HashMap::new(), block: BytesMut::new() }
    }

    /// The size of later chunks; the caller announces it to the peer first.
    pub(crate) fn set_chunk_size(&mut self, size: u32) {
        self.chunk_size = usize::try_from(size.clamp(1, 0x7fff_ffff)).unwrap_or(DEFAULT_CHUNK_SIZE);
    }

    /// Appends the chunks of a message whose payload is `prefix` followed by `payload`.
    pub(crate) fn encode(&mut self, head: MessageHead, prefix: &[u8], payload: &Bytes, out: &mut impl Extend<Bytes>) {
        let total = prefix.len() + payload.len();
        let length = u32::try_from(total).unwrap_or(u32::MAX) & 0x00ff_ffff;
        self.make_room(prefix.len());
        let extended = self.write_header(head, length);
        let (mut prefix, mut at, mut room) = (prefix, 0, self.chunk_size);
        loop {
            let count = prefix.len().min(room);
            self.block.put_slice(&prefix[..count]);
            prefix = &prefix[count..];
            room -= count;
            out.extend([self.block.split().freeze()]);
            let count = (payload.len() - at).min(room);
            if count > 0 {
                out.extend([payload.slice(at..at + count)]);
                at += count;
            }
            if prefix.is_empty() && at == payload.len() {
                return;
            }
            self.make_room(prefix.len());
            write_basic_header(&mut self.block, 3, head.chunk_stream);
            if let Some(timestamp) = extended {
                self.block.put_u32(timestamp);
            }
            room = self.chunk_size;
        }
    }

    fn make_room(&mut self, prefix: usize) {
        if self.block.capacity() < HEADER_ROOM + prefix {
            self.block = BytesMut::with_capacity(HEADER_BLOCK.max(HEADER_ROOM + prefix));
        }
    }

    /// Writes the shortest legal header; returns the extended timestamp that later chunks of the
    /// message must repeat.
    fn write_header(&mut self, head: MessageHead, length: u32) -> Option<u32> {
        let last = self.last.get(&head.chunk_stream).copied();
        let reusable =
            last.filter(|last| last.message_stream == head.message_stream && head.timestamp.since(last.timestamp) >= 0);
        let (format, time) = match reusable {
            None => (0, head.timestamp.0),
            Some(last) => {
                let delta = head.timestamp.since(last.timestamp).unsigned_abs();
                let same = last.length == length && last.message_type == head.message_type;
                (if same { 2 } else { 1 }, delta)
            }
        };
        write_basic_header(&mut self.block, format, head.chunk_stream);
        let extended = time >= EXTENDED_TIMESTAMP;
        self.block.put_uint(time.min(EXTENDED_TIMESTAMP).into(), 3);
        if format <= 1 {
            self.block.put_uint(length.into(), 3);
            self.block.put_u8(head.message_type);
        }
        if format == 0 {
            self.block.put_u32_le(head.message_stream);
        }
        if extended {
            self.block.put_u32(time);
        }
        let header = LastHeader {
            timestamp: head.timestamp,
            length,
            message_type: head.message_type,
            message_stream: head.message_stream,
        };
        self.last.insert(head.chunk_stream, header);
        extended.then_some(time)
    }
}

/// Source: RTMP 1.0, 5.3.1.1
fn write_basic_header(out: &mut BytesMut, format: u8, stream: u32) {
    let format = format << 6;
    let low = |value: u32| u8::try_from(value & 0xff).unwrap_or(0);
    if stream < TWO_BYTE_ID {
        out.put_u8(format | low(stream));
    } else if stream < THREE_BYTE_ID {
        out.put_slice(&[format, low(stream - TWO_BYTE_ID)]);
    } else {
        let id = stream - TWO_BYTE_ID;
        out.put_slice(&[format | 1, low(id), low(id >> 8)]);
    }
}
