use std::borrow::Cow;
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use waverant_media::{Packet, TrackKind, Tracks};
use waverant_relay::{Gate, Intake, LineMeter, RateMeter, SeatId, SourceCounters, StreamMeter};
use waverant_rtmp::{MediaKind, StreamMetadata, StreamRates, Timestamp};
use waverant_srt::Statistics;

use crate::clock;

use super::{Publisher, Show};

/// A publisher of a session, with what is known of its stream.
#[derive(Debug)]
pub(super) struct SeatState {
    pub(super) id: SeatId,
    pub(super) publisher: Publisher,
    pub(super) source: Mutex<Intake>,
    pub(super) meters: Mutex<SourceMeters>,
    /// The line that it comes in by, where the protocol measures it.
    pub(super) line: Mutex<LineMeter>,
    /// Cancelled to end this publisher from our side.
    evicted: CancellationToken,
    eviction: Mutex<Option<String>>,
}

impl SeatState {
    pub(super) fn new(id: SeatId, publisher: Publisher) -> Self {
        Self {
            id,
            source: Mutex::default(),
            publisher,
            meters: Mutex::new(SourceMeters::new(clock::now())),
            line: Mutex::default(),
            evicted: CancellationToken::new(),
            eviction: Mutex::new(None),
        }
    }

    /// Ends this publisher from our side. The first reason stays.
    pub(super) fn evict(&self, reason: &str) {
        self.eviction.lock().get_or_insert_with(|| reason.to_owned());
        self.evicted.cancel();
    }

    /// Why it may not stay: its key does not open any more, or another system of the house said so.
    pub(super) fn fault(&self, gate: &Gate, now: OffsetDateTime) -> Option<Cow<'static, str>> {
        let Publisher { hold, stay, .. } = &self.publisher;
        let key = hold.as_ref().and_then(|hold| gate.key_fault(hold, now));
        let stay = || stay.as_ref().and_then(|stay| stay.fault(now)).map(Cow::Owned);
        key.map(|fault| fault.for_publisher().into()).or_else(stay)
    }

    pub(super) fn counters(&self) -> SourceCounters {
        self.source.lock().counters()
    }

    /// Rates of the stream for its metadata: as the encoder announced them, else as they were measured so far.
    pub(super) fn rates(&self, now: Instant) -> StreamRates {
        let announced = self.source.lock().metadata().cloned().unwrap_or_default();
        let mut meters = self.meters.lock();
        let (video_bps, _) = meters.video.rates(now);
        let (audio_bps, _) = meters.audio.rates(now);
        let measured = |rate: f64| Some(rate).filter(|rate| *rate > 0.0);
        StreamRates {
            frame_rate: announced.frame_rate,
            video_bps: announced.video_bps.or(measured(video_bps)),
            audio_bps: announced.audio_bps.or(measured(audio_bps)),
        }
    }

    /// What comes in of all tracks, in bits per second.
    pub(super) fn bitrate_bps(&self, now: Instant) -> f64 {
        let mut meters = self.meters.lock();
        meters.video.rates(now).0 + meters.audio.rates(now).0
    }

    /// Pictures per second as announced, else by the times of the pictures.
    pub(super) fn frame_rate(&self) -> Option<f64> {
        let announced = self.source.lock().metadata().and_then(|metadata| metadata.frame_rate);
        announced.or_else(|| self.meters.lock().stream.frame_rate())
    }

    fn count(&self, now: Instant, packet: &Packet, tracks: &Tracks) {
        let mut meters = self.meters.lock();
        let bytes = packet.payload.len() as u64;
        // Bytes count on all tracks, pictures on the first one only.
        let is_first = tracks.first(packet.kind).is_some_and(|track| track.id == packet.track);
        match packet.kind {
            TrackKind::Video => meters.video.record(now, bytes, is_first.into()),
            TrackKind::Audio => meters.audio.record(now, bytes, is_first.into()),
        }
        meters.stream.record(now, packet, tracks);
    }
}

/// Rates of an incoming stream.
#[derive(Debug)]
pub(super) struct SourceMeters {
    pub(super) video: RateMeter,
    pub(super) audio: RateMeter,
    pub(super) stream: StreamMeter,
}

impl SourceMeters {
    fn new(now: Instant) -> Self {
        Self { video: RateMeter::new(now), audio: RateMeter::new(now), stream: StreamMeter::new(now) }
    }
}

/// A publisher's place in a session. Dropping it without an end means that the publisher was
/// lost.
#[derive(Debug)]
pub struct Seat {
    show: Arc<Show>,
    state: Arc<SeatState>,
    /// Why it ended, if it did so in order.
    ended: Option<String>,
}

impl Seat {
    pub(super) fn new(show: Arc<Show>, state: Arc<SeatState>) -> Self {
        Self { show, state, ended: None }
    }

    /// The session.
    pub fn show(&self) -> &Arc<Show> {
        &self.show
    }

    /// True if the publisher is to be ended from our side.
    pub fn is_evicted(&self) -> bool {
        self.state.evicted.is_cancelled()
    }

    /// Takes figures of the line that the publisher comes in by.
    pub fn set_line(&self, statistics: &Statistics) {
        self.state.line.lock().record_received(clock::now(), statistics);
    }

    /// Waits until the publisher is to be ended from our side.
    pub async fn evicted(&self) {
        self.state.evicted.cancelled().await;
    }

    /// Why the publisher is ended from our side.
    pub fn eviction_reason(&self) -> String {
        self.state.eviction.lock().clone().unwrap_or_else(|| self.show.end_reason())
    }

    /// The publisher told something of its stream.
    pub fn metadata(&self, metadata: StreamMetadata) {
        self.state.source.lock().messages().handle_metadata(metadata);
        self.show.context.feeds.live().count_announcement();
    }

    /// Puts a media message into the show. Takes no await and copies no payload.
    pub fn media(&self, kind: MediaKind, timestamp: Timestamp, body: &Bytes) {
        self.take_in(|intake| intake.messages().handle_media(kind, timestamp, body));
    }

    /// Puts bytes of a container into the show, cut anywhere. Takes no await.
    pub fn bytes(&self, bytes: &[u8]) {
        self.take_in(|intake| intake.bytes().handle_bytes(bytes));
    }

    /// Bytes of the container are missing before those that come next.
    pub fn lose_bytes(&self) {
        self.take_in(|intake| intake.bytes().handle_loss());
    }

    /// No more bytes come.
    pub fn finish_bytes(&self) {
        self.take_in(|intake| intake.bytes().finish());
    }

    fn take_in(&self, take: impl FnOnce(&mut Intake)) {
        let now = clock::now();
        let mut source = self.state.source.lock();
        take(&mut source);
        let mut passed = false;
        while let Some((packet, tracks)) = source.poll_packet() {
            passed |= self.offer(now, packet, tracks);
        }
        drop(source);
        if passed {
            self.show.context.feeds.live().tell_news();
        }
    }

    /// Puts packets into the show that were made here.
    pub fn packets(&self, packets: impl IntoIterator<Item = Packet>, tracks: &Arc<Tracks>) {
        let now = clock::now();
        for packet in packets {
            self.offer(now, packet, tracks.clone());
        }
        self.show.context.feeds.live().tell_news();
    }

    fn offer(&self, now: Instant, packet: Packet, tracks: Arc<Tracks>) -> bool {
        self.state.count(now, &packet, &tracks);
        self.show.offer(now, self.state.id, packet, tracks)
    }

    /// The publisher ended its stream in order.
    pub fn end(mut self, reason: &str) {
        self.ended = Some(reason.to_owned());
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        // Who is sent away does not return.
        let sent_away = self.state.evicted.is_cancelled().then(|| self.eviction_reason());
        let ended = self.ended.take().or(sent_away);
        self.show.leave(&self.state, ended.as_deref());
    }
}
