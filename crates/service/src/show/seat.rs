use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, TrackKind};
use waverant_relay::RateMeter;
use waverant_rtmp::{MediaKind, StreamMetadata, Timestamp};

use super::Show;

/// Keyframe spacings that are looked back on.
const SPACINGS: usize = 4;

/// Rates of the incoming stream.
#[derive(Debug)]
pub(super) struct SourceMeters {
    pub(super) video: RateMeter,
    pub(super) audio: RateMeter,
    last_keyframe: Option<MediaTime>,
    /// The newest last.
    spacings: VecDeque<MediaTime>,
}

impl SourceMeters {
    pub(super) fn new(now: Instant) -> Self {
        let (video, audio) = (RateMeter::new(now), RateMeter::new(now));
        Self { video, audio, last_keyframe: None, spacings: VecDeque::with_capacity(SPACINGS + 1) }
    }

    fn count_keyframe(&mut self, at: MediaTime) {
        if let Some(last) = self.last_keyframe.replace(at) {
            self.spacings.push_back(at - last);
            if self.spacings.len() > SPACINGS {
                self.spacings.pop_front();
            }
        }
    }

    /// The largest of the last keyframe spacings: that is the one that platforms complain about.
    pub(super) fn keyframe_spacing(&self) -> Option<MediaTime> {
        self.spacings.iter().max().copied()
    }
}

/// A publisher's place in a session. Dropping it without an end means that the publisher was
/// lost.
#[derive(Debug)]
pub(crate) struct Seat {
    show: Arc<Show>,
    evicted: CancellationToken,
    ended: bool,
}

impl Seat {
    pub(super) fn new(show: Arc<Show>, evicted: CancellationToken) -> Self {
        Self { show, evicted, ended: false }
    }

    pub(crate) fn show(&self) -> &Arc<Show> {
        &self.show
    }

    /// Waits until the publisher is to be ended from our side.
    pub(crate) async fn evicted(&self) {
        self.evicted.cancelled().await;
    }

    /// Why the publisher is ended from our side.
    pub(crate) fn eviction_reason(&self) -> String {
        self.show.end_reason()
    }

    pub(crate) fn metadata(&self, metadata: StreamMetadata) {
        self.show.source.lock().handle_metadata(metadata);
    }

    /// Puts a media message into the hub. Takes no await and copies no payload.
    pub(crate) fn media(&self, kind: MediaKind, timestamp: Timestamp, body: &Bytes) {
        let show = &self.show;
        let now = Instant::now();
        let mut source = show.source.lock();
        source.handle_media(kind, timestamp, body);
        let mut pushed = false;
        while let Some((packet, tracks)) = source.poll_packet() {
            let mut meters = show.meters.lock();
            let bytes = packet.payload.len() as u64;
            // Bytes count on all tracks, pictures and keyframes on the first one only.
            let is_first = tracks.first(packet.kind).is_some_and(|track| track.id == packet.track);
            match packet.kind {
                TrackKind::Video => meters.video.record(now, bytes, is_first.into()),
                TrackKind::Audio => meters.audio.record(now, bytes, is_first.into()),
            }
            if packet.is_keyframe() && is_first {
                meters.count_keyframe(packet.dts);
            }
            drop(meters);
            show.hub.lock().push(packet, tracks);
            pushed = true;
        }
        drop(source);
        if pushed {
            show.tell_news();
        }
    }

    /// The publisher ended its stream in order.
    pub(crate) fn end(mut self, reason: &str) {
        self.ended = true;
        self.show.note_end(reason);
        self.show.life.lock().end(Instant::now());
        self.show.life_changed.notify_one();
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        if self.ended {
            return;
        }
        let show = &self.show;
        if self.evicted.is_cancelled() {
            show.life.lock().end(Instant::now());
        } else {
            show.life.lock().publisher_lost(Instant::now());
            tracing::warn!(session = show.id, channel = %show.channel.name, hold = ?show.channel.hold, "the publisher is lost");
        }
        show.life_changed.notify_one();
    }
}
