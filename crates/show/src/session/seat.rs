use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use waverant_media::{MediaTime, Packet, TrackKind, Tracks};
use waverant_relay::{Admission, Intake, IntakeKind, LineMeter, PictureRate, RateMeter, SeatId, SourceCounters};
use waverant_rtmp::{MediaKind, StreamMetadata, Timestamp};
use waverant_srt::Statistics;

use super::Show;

/// Keyframe spacings that are looked back on.
const SPACINGS: usize = 4;

/// Who publishes into a session.
#[derive(Clone, Debug)]
pub(crate) struct Publisher {
    pub(crate) key_id: u64,
    /// 0 is the highest.
    pub(crate) key_rank: u8,
    pub(crate) key_label: String,
    pub(crate) peer: SocketAddr,
    /// What it calls itself.
    pub(crate) encoder: String,
    /// How its stream comes in.
    pub(crate) intake: IntakeKind,
    /// What was odd about its coming in, and harmless.
    pub(crate) finding: Option<String>,
}

/// Where a publisher is and what it is, besides its key.
#[derive(Clone, Debug)]
pub(crate) struct Arrival {
    pub(crate) peer: SocketAddr,
    pub(crate) encoder: String,
    pub(crate) intake: IntakeKind,
}

impl Publisher {
    pub(super) fn new(admission: &Admission, arrival: Arrival) -> Self {
        let Arrival { peer, encoder, intake } = arrival;
        Self {
            key_id: admission.key_id,
            key_rank: admission.key_rank,
            key_label: admission.key_label.clone(),
            peer,
            encoder,
            intake,
            finding: admission.finding.clone(),
        }
    }
}

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
            source: Mutex::new(Intake::new(publisher.intake)),
            publisher,
            meters: Mutex::new(SourceMeters::new(Instant::now())),
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

    pub(super) fn counters(&self) -> SourceCounters {
        self.source.lock().counters()
    }

    fn count(&self, now: Instant, packet: &Packet, tracks: &Tracks) {
        let mut meters = self.meters.lock();
        let bytes = packet.payload.len() as u64;
        // Bytes count on all tracks, pictures and keyframes on the first one only.
        let is_first = tracks.first(packet.kind).is_some_and(|track| track.id == packet.track);
        match packet.kind {
            TrackKind::Video => meters.video.record(now, bytes, is_first.into()),
            TrackKind::Audio => meters.audio.record(now, bytes, is_first.into()),
        }
        if packet.kind == TrackKind::Video && is_first {
            meters.pictures.record(packet.dts);
        }
        if packet.is_keyframe() && is_first {
            meters.count_keyframe(packet.dts);
        }
    }
}

/// Rates of an incoming stream.
#[derive(Debug)]
pub(super) struct SourceMeters {
    pub(super) video: RateMeter,
    pub(super) audio: RateMeter,
    pub(super) pictures: PictureRate,
    last_keyframe: Option<MediaTime>,
    /// The newest last.
    spacings: VecDeque<MediaTime>,
}

impl SourceMeters {
    fn new(now: Instant) -> Self {
        let (video, audio) = (RateMeter::new(now), RateMeter::new(now));
        let (pictures, spacings) = (PictureRate::default(), VecDeque::with_capacity(SPACINGS + 1));
        Self { video, audio, pictures, last_keyframe: None, spacings }
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
    state: Arc<SeatState>,
    /// Why it ended, if it did so in order.
    ended: Option<String>,
}

impl Seat {
    pub(super) fn new(show: Arc<Show>, state: Arc<SeatState>) -> Self {
        Self { show, state, ended: None }
    }

    pub(crate) fn show(&self) -> &Arc<Show> {
        &self.show
    }

    /// True if the publisher is to be ended from our side.
    pub(crate) fn is_evicted(&self) -> bool {
        self.state.evicted.is_cancelled()
    }

    /// Takes figures of the line that the publisher comes in by.
    pub(crate) fn set_line(&self, statistics: &Statistics) {
        self.state.line.lock().record_received(Instant::now(), statistics);
    }

    /// Waits until the publisher is to be ended from our side.
    pub(crate) async fn evicted(&self) {
        self.state.evicted.cancelled().await;
    }

    /// Why the publisher is ended from our side.
    pub(crate) fn eviction_reason(&self) -> String {
        self.state.eviction.lock().clone().unwrap_or_else(|| self.show.end_reason())
    }

    pub(crate) fn metadata(&self, metadata: StreamMetadata) {
        if let Intake::Messages(source) = &mut *self.state.source.lock() {
            source.handle_metadata(metadata);
            self.show.feed.count_announcement();
        }
    }

    /// Puts a media message into the show. Takes no await and copies no payload.
    pub(crate) fn media(&self, kind: MediaKind, timestamp: Timestamp, body: &Bytes) {
        self.take_in(|intake| {
            if let Intake::Messages(source) = intake {
                source.handle_media(kind, timestamp, body);
            }
        });
    }

    /// Puts bytes of a container into the show, cut anywhere. Takes no await.
    pub(crate) fn bytes(&self, bytes: &[u8]) {
        self.take_in(|intake| {
            if let Intake::Bytes(source) = intake {
                source.handle_bytes(bytes);
            }
        });
    }

    /// Bytes of the container are missing before those that come next.
    pub(crate) fn lose_bytes(&self) {
        self.take_in(|intake| {
            if let Intake::Bytes(source) = intake {
                source.handle_loss();
            }
        });
    }

    /// No more bytes come.
    pub(crate) fn finish_bytes(&self) {
        self.take_in(|intake| {
            if let Intake::Bytes(source) = intake {
                source.finish();
            }
        });
    }

    fn take_in(&self, take: impl FnOnce(&mut Intake)) {
        let now = Instant::now();
        let mut source = self.state.source.lock();
        take(&mut source);
        let mut passed = false;
        while let Some((packet, tracks)) = source.poll_packet() {
            passed |= self.offer(now, packet, tracks);
        }
        drop(source);
        if passed {
            self.show.feed.tell_news();
        }
    }

    /// Puts packets into the show that were made here.
    pub(crate) fn packets(&self, packets: impl IntoIterator<Item = Packet>, tracks: &Arc<Tracks>) {
        let now = Instant::now();
        for packet in packets {
            self.offer(now, packet, tracks.clone());
        }
        self.show.feed.tell_news();
    }

    fn offer(&self, now: Instant, packet: Packet, tracks: Arc<Tracks>) -> bool {
        self.state.count(now, &packet, &tracks);
        self.show.offer(now, self.state.id, packet, tracks)
    }

    /// The publisher ended its stream in order.
    pub(crate) fn end(mut self, reason: &str) {
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
