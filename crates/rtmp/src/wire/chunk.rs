//! What decoder and encoder of chunks share.
//!
//! Source: RTMP 1.0, 5.3.1

use thiserror::Error;

/// The chunk size of both directions until a Set Chunk Size message changes it.
///
/// Source: RTMP 1.0, 5.4.1
pub(super) const DEFAULT_CHUNK_SIZE: usize = 128;

/// A 24-bit timestamp field of this value says that 32 bits follow.
///
/// Source: RTMP 1.0, 5.3.1.3
pub(super) const EXTENDED_TIMESTAMP: u32 = 0x00ff_ffff;

/// The first chunk stream number that needs a second and the one that needs a third byte.
pub(super) const TWO_BYTE_ID: u32 = 64;
pub(super) const THREE_BYTE_ID: u32 = 320;

/// Why bytes are not a legal sequence of chunks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ChunkError {
    /// A message is longer than the limit.
    #[error("a message of {length} bytes was announced, the limit is {limit}")]
    MessageTooLong {
        /// Announced bytes.
        length: u32,
        /// The configured limit.
        limit: u32,
    },
    /// The messages under construction are too long together.
    #[error("unfinished messages hold more than {limit} bytes")]
    TooMuchHeld {
        /// The limit: twice the longest message.
        limit: usize,
    },
    /// More chunk streams than the limit.
    #[error("more than {limit} chunk streams")]
    TooManyStreams {
        /// The limit.
        limit: usize,
    },
    /// The first chunk of a stream leaves out the message length.
    #[error("chunk stream {stream} opens with a header that has no message length")]
    NoPrecedingHeader {
        /// The chunk stream's number.
        stream: u32,
    },
    /// A chunk size of 0 or above 0x7FFFFFFF.
    #[error("chunk size {0} is not between 1 and 2147483647")]
    ChunkSize(u32),
    /// A new header appeared in the middle of a message.
    #[error("chunk stream {stream} begins a new message with {missing} bytes of the last one missing")]
    MessageInterrupted {
        /// The chunk stream's number.
        stream: u32,
        /// Bytes that were still to come.
        missing: usize,
    },
}
