use std::sync::Arc;

use waverant_media::{Packet, Tracks};
use waverant_rtmp::StreamMetadata;

use super::{RtmpSource, SourceCounters, StreamSource};

/// What makes packets of a publisher's stream. Which kind of stream it is, the driver says by what it hands over:
/// media messages, or bytes of a container.
#[derive(Debug, Default)]
pub struct Intake {
    messages: Option<Box<RtmpSource>>,
    bytes: Option<Box<StreamSource>>,
}

impl Intake {
    /// For media messages of RTMP.
    pub fn messages(&mut self) -> &mut RtmpSource {
        self.messages.get_or_insert_default()
    }

    /// For bytes of a container.
    pub fn bytes(&mut self) -> &mut StreamSource {
        self.bytes.get_or_insert_default()
    }

    /// The next packet with the tracks that it belongs to; call until None.
    #[must_use]
    pub fn poll_packet(&mut self) -> Option<(Packet, Arc<Tracks>)> {
        match (&mut self.messages, &mut self.bytes) {
            (Some(source), _) => source.poll_packet(),
            (None, Some(source)) => source.poll_packet(),
            (None, None) => None,
        }
    }

    /// The tracks as they are now; none before anything came.
    pub fn tracks(&self) -> Option<&Arc<Tracks>> {
        let messages = self.messages.as_ref().map(|source| source.tracks());
        messages.or_else(|| self.bytes.as_ref().map(|source| source.tracks()))
    }

    /// What the publisher said about its stream.
    pub fn metadata(&self) -> Option<&StreamMetadata> {
        self.messages.as_ref()?.metadata()
    }

    /// What the source does wrong.
    pub fn counters(&self) -> SourceCounters {
        let messages = self.messages.as_ref().map(|source| source.counters());
        messages.or_else(|| self.bytes.as_ref().map(|source| source.counters())).unwrap_or_default()
    }

    /// The newest thing that could not be used, in words.
    pub fn last_problem(&self) -> Option<&str> {
        let messages = self.messages.as_ref().and_then(|source| source.last_problem());
        messages.or_else(|| self.bytes.as_ref()?.last_problem())
    }

    /// True if that is damage, which passes; false if it is what is not carried.
    pub fn is_damage(&self) -> bool {
        let messages = self.messages.as_ref().map(|source| source.is_damage());
        messages.or_else(|| self.bytes.as_ref().map(|source| source.is_damage())).unwrap_or(false)
    }
}
