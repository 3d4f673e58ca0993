use bytes::Bytes;
use waverant_media::CodecParameters;

/// A frame as it begins at some place.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Head {
    /// Bytes from the start to the end of the frame.
    pub(super) length: usize,
    pub(super) payload: HeadPayload,
    pub(super) config: CodecParameters,
    pub(super) samples: u32,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) enum HeadPayload {
    /// It begins so many bytes behind the start.
    From(usize),
    /// It had to be moved, since it does not begin with a byte.
    Moved(Bytes),
    /// There is none.
    Nothing,
}

/// What stands at a place.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum At {
    Frame(Box<Head>),
    /// A frame may begin here; more bytes are needed.
    Cut,
    Nothing,
}
