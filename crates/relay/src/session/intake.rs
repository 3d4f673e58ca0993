use std::ops::AddAssign;
use std::sync::Arc;

use waverant_media::{Packet, Tracks};
use waverant_rtmp::StreamMetadata;

use super::{RtmpSource, StreamSource};

/// What a source was found to do wrong. All counts are of messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SourceCounters {
    /// Tags that could not be taken apart.
    pub damaged_count: u64,
    /// Tags of codecs that are not carried.
    pub unsupported_count: u64,
    /// Frames that came before their track's header.
    pub headless_count: u64,
    /// Times when the publisher's clock jumped.
    pub clock_jump_count: u64,
    /// Frames whose timestamp was before that of the frame before.
    pub backward_count: u64,
}

impl AddAssign for SourceCounters {
    fn add_assign(&mut self, other: Self) {
        self.damaged_count += other.damaged_count;
        self.unsupported_count += other.unsupported_count;
        self.headless_count += other.headless_count;
        self.clock_jump_count += other.clock_jump_count;
        self.backward_count += other.backward_count;
    }
}

/// How a publisher's stream comes in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IntakeKind {
    /// Media messages of RTMP.
    Messages,
    /// A container as a stream of bytes.
    Bytes,
}

/// What makes packets of a publisher's stream.
#[derive(Debug)]
pub enum Intake {
    /// Of media messages.
    Messages(Box<RtmpSource>),
    /// Of a container.
    Bytes(Box<StreamSource>),
}

impl Intake {
    /// An intake at the start of a connection.
    pub fn new(kind: IntakeKind) -> Self {
        match kind {
            IntakeKind::Messages => Self::Messages(Box::default()),
            IntakeKind::Bytes => Self::Bytes(Box::new(StreamSource::new())),
        }
    }

    /// The next packet with the tracks that it belongs to; call until None.
    #[must_use]
    pub fn poll_packet(&mut self) -> Option<(Packet, Arc<Tracks>)> {
        match self {
            Self::Messages(source) => source.poll_packet(),
            Self::Bytes(source) => source.poll_packet(),
        }
    }

    /// The tracks as they are now.
    pub fn tracks(&self) -> &Arc<Tracks> {
        match self {
            Self::Messages(source) => source.tracks(),
            Self::Bytes(source) => source.tracks(),
        }
    }

    /// What the publisher said about its stream.
    pub fn metadata(&self) -> Option<&StreamMetadata> {
        match self {
            Self::Messages(source) => source.metadata(),
            Self::Bytes(_) => None,
        }
    }

    /// What the source does wrong.
    pub fn counters(&self) -> SourceCounters {
        match self {
            Self::Messages(source) => source.counters(),
            Self::Bytes(source) => source.counters(),
        }
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        match self {
            Self::Messages(source) => source.last_problem(),
            Self::Bytes(source) => source.last_problem(),
        }
    }
}
