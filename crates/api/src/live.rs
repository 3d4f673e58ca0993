use std::convert::Infallible;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use waverant_media::{SoundFormat, Track, TrackKind, Tracks};
use waverant_relay::{SessionState, StreamFacts};
use waverant_store::{TakeRecord, TakeState};

use super::auth::{SignedIn, token_of};
use super::live_line::LiveLine;
use super::{ApiError, ApiState};
use crate::house::{ChannelRules, House, LegOrder};
use crate::leg::LegStatus;
use crate::library::LOW_TIME;
use crate::recorder::RecorderState;
use crate::show::{Show, SourceSnapshot};

/// How often the live state is sent.
const INTERVAL: Duration = Duration::from_secs(1);

/// Boards that are sent until the token is looked at again.
const LOOKS_AT_TOKEN: u32 = 4;

/// All channels at one moment.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Board {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// The channels by number.
    channels: Vec<LiveChannel>,
    /// Connections that were turned away or given up since the service was started.
    refused_counts: Vec<RefusedCount>,
    /// The disk of the recordings; none until it was looked at.
    disk: Option<LiveDisk>,
}

/// The disk of the recordings at one moment.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveDisk {
    /// Free for us.
    free_bytes: u64,
    /// So much stays free.
    floor_bytes: u64,
    /// How long it lasts at the rate of what is being recorded; none if nothing is.
    seconds_left: Option<u64>,
    /// True if that is less than two hours, or nothing more can be recorded.
    is_low: bool,
}

/// How often something was refused.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RefusedCount {
    /// Why, as a stable word; those of the turned-away list, and `idle_publisher`,
    /// `idle_connection`, `message_too_long`, `answers_unread`, `protocol_fault`, `stalled_player`.
    reason: String,
    /// How often.
    count: u64,
}

/// A channel at one moment.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveChannel {
    /// Name in addresses.
    name: String,
    /// What people read.
    title: String,
    /// `off air`, `on air`, `holding`, or `over` while delayed legs play on.
    state: String,
    /// The session, if there is one.
    session: Option<LiveSession>,
    /// Legs of the session; without one, the destinations as they stand.
    legs: Vec<LiveLeg>,
}

/// A session at one moment.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveSession {
    /// The session's number.
    id: u64,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    started_at: OffsetDateTime,
    /// How long it is in its present state.
    state_for_ms: u64,
    /// While holding: how long it still waits.
    hold_left_ms: Option<u64>,
    /// How often the publisher was lost.
    loss_count: u32,
    /// Where the publisher comes from.
    publisher_address: String,
    /// Label of its key.
    key_label: String,
    /// Labels of the keys of encoders that wait behind it.
    waiting: Vec<String>,
    /// True while the slate stands in for the encoder.
    is_slate_on: bool,
    /// True if it is fed by the test picture.
    is_rehearsal: bool,
    /// What the encoder calls itself.
    encoder: String,
    /// The first track of pictures; none until they came.
    video: Option<LiveVideo>,
    /// The tracks of sound by number; none until they came.
    audio: Vec<LiveAudio>,
    /// All of it, in bits per second.
    bitrate_bps: f64,
    /// The sound of all tracks, in bits per second.
    audio_bitrate_bps: f64,
    /// What is wrong or odd about the stream, in words that say what to do.
    findings: Vec<String>,
    /// The line that the encoder comes in by, if it comes over SRT.
    line: Option<LiveLine>,
    /// Players that watch.
    viewer_count: u64,
    /// Messages that could not be used.
    unusable_count: u64,
    /// Times when the encoder's clock jumped or ran back.
    clock_fault_count: u64,
    /// `off`, `waiting` for a keyframe, `recording`, or `stopped` by the disk.
    recorder: &'static str,
    /// Why the disk stopped it.
    recorder_reason: Option<String>,
    /// The take that is being written.
    take: Option<LiveTake>,
}

/// The incoming pictures.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveVideo {
    /// Codec and profile.
    codec: String,
    /// In pixels; none where neither the stream nor the encoder tells.
    width: Option<u32>,
    /// In pixels.
    height: Option<u32>,
    /// Measured, in pictures per second.
    frame_rate: f64,
    /// What the stream says of itself.
    announced_frame_rate: Option<f64>,
    /// In bits per second.
    bitrate_bps: f64,
    /// The largest of the last four distances between keyframes.
    keyframe_spacing_ms: Option<i64>,
}

/// The incoming sound.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveAudio {
    /// Codec.
    codec: String,
    /// In Hz.
    sample_rate_hz: u32,
    /// Channels.
    channel_count: u8,
    /// Its language as the stream tells it: a BCP 47 tag.
    language: Option<String>,
    /// What the stream calls it.
    name: Option<String>,
}

/// The take that is being written.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveTake {
    /// Its place in the session.
    number: u32,
    /// Its length so far.
    duration_ms: u64,
    /// Its size so far.
    size_bytes: u64,
    /// Moments that were pointed out.
    mark_count: usize,
    /// Parts of the show that are missing because the disk was too slow.
    gap_count: u32,
}

/// A leg at one moment.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LiveLeg {
    /// The destination's name.
    destination: String,
    /// `dialing`, `carrying`, `waiting to redial`, `refused` or `off`; `ready` without a session.
    state: String,
    /// How long it is in this state.
    state_for_ms: u64,
    /// Why the last connection ended.
    reason: Option<String>,
    /// What of the stream the platform does not get.
    note: Option<String>,
    /// When it dials again.
    next_dial_in_ms: Option<u64>,
    /// Payload going out, in bits per second.
    bitrate_bps: f64,
    /// How far it is behind the source, its delay included.
    behind_ms: u64,
    /// The delay that it was given.
    delay_ms: u64,
    /// Pictures sent.
    sent_frame_count: u64,
    /// Payload bytes sent.
    sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    dropped_frame_count: u64,
    /// How much of the show they were.
    dropped_ms: u64,
    /// How often it dialed again.
    redial_count: u32,
    /// Limits of the destination's sheet that the stream does not keep, in words.
    breaches: Vec<String>,
    /// Outgoing bits per second, one value for each of the last seconds, the newest last.
    trace: Vec<u64>,
    /// The line that it goes by, while it carries over SRT.
    line: Option<LiveLine>,
}

/// Whether the service can do its work.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Health {
    /// True if all is well.
    is_good: bool,
    /// True if the database answers.
    database_is_reachable: bool,
    /// The service's version.
    version: String,
}

pub(super) fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

/// What is on air now
#[utoipa::path(get, path = "/live", responses((status = 200, body = Board)))]
pub(super) async fn board(State(state): State<ApiState>, _: SignedIn) -> Json<Board> {
    Json(look(&state.house))
}

/// What is on air, once a second, as Server-Sent Events named `board`
#[utoipa::path(get, path = "/live/events", responses((status = 200, content_type = "text/event-stream")))]
pub(super) async fn events(
    State(state): State<ApiState>,
    _: SignedIn,
    headers: HeaderMap,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let mut ticks = tokio::time::interval(INTERVAL);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let token = token_of(&headers).unwrap_or_default();
    let boards = stream::unfold((state, ticks, 1), move |(state, mut ticks, count)| {
        let token = token.clone();
        async move {
            let house = &state.house;
            tokio::select! {
                _ = ticks.tick() => {}
                // An open page must not hold up the service's stop.
                () = house.stopping.cancelled() => return None,
            }
            // A token that is withdrawn or has ended opens nothing any more; one that cannot be looked up does.
            let is_due = count % LOOKS_AT_TOKEN == 0;
            if is_due && matches!(state.seen_tokens.user_of(&house.store, &token).await, Ok(None)) {
                return None;
            }
            let event = Event::default().event("board").json_data(look(house));
            Some((Ok(event.unwrap_or_default()), (state, ticks, count + 1)))
        }
    });
    Sse::new(boards).keep_alive(KeepAlive::default())
}

/// Whether the service can do its work
#[utoipa::path(get, path = "/health", security(()), responses((status = 200, body = Health)))]
pub(super) async fn health(State(state): State<ApiState>) -> Result<Json<Health>, ApiError> {
    let database_is_reachable = state.house.store.is_reachable().await;
    let version = env!("CARGO_PKG_VERSION").to_owned();
    Ok(Json(Health { is_good: database_is_reachable, database_is_reachable, version }))
}

fn look(house: &Arc<House>) -> Board {
    let directory = house.directory();
    let channels = directory.channels().map(|rules| match house.show(rules.id) {
        Some(show) => on_air(rules, &show),
        None => {
            let orders = directory.orders(rules.id).iter();
            let legs = orders.map(LiveLeg::idle).collect();
            let (name, title) = (rules.name.to_string(), rules.title.clone());
            LiveChannel { name, title, state: "off air".to_owned(), session: None, legs }
        }
    });
    let counts = house.counts.all().into_iter();
    let refused_counts = counts.map(|(reason, count)| RefusedCount { reason: reason.to_owned(), count }).collect();
    Board { at: OffsetDateTime::now_utc(), channels: channels.collect(), refused_counts, disk: live_disk(house) }
}

fn live_disk(house: &House) -> Option<LiveDisk> {
    let outlook = house.library.outlook()?;
    let left = house.recording_time_left();
    Some(LiveDisk {
        free_bytes: outlook.free_bytes,
        floor_bytes: outlook.floor_bytes,
        seconds_left: left.map(|left| left.as_secs()),
        is_low: outlook.is_full() || left.is_some_and(|left| left < LOW_TIME),
    })
}

fn on_air(rules: &ChannelRules, show: &Arc<Show>) -> LiveChannel {
    let source = show.source_snapshot();
    let state = match source.state {
        SessionState::OnAir => "on air",
        SessionState::Holding { .. } => "holding",
        // Its delayed legs play on.
        SessionState::Over => "over",
    };
    let mut legs: Vec<LiveLeg> = show.legs.lock().values().map(|leg| LiveLeg::look(&leg.status)).collect();
    legs.sort_by(|a, b| a.destination.cmp(&b.destination));
    LiveChannel {
        name: rules.name.to_string(),
        title: rules.title.clone(),
        state: state.to_owned(),
        session: Some(LiveSession::new(show, source)),
        legs,
    }
}

impl LiveSession {
    fn new(show: &Show, source: SourceSnapshot) -> Self {
        let counters = source.counters;
        let live = |take: &TakeRecord| LiveTake {
            number: take.number,
            duration_ms: take.duration_ms,
            size_bytes: take.size_bytes,
            mark_count: take.marks.len(),
            gap_count: take.gap_count,
        };
        let take = show.takes.lock().last().filter(|take| take.state == TakeState::Writing).map(live);
        let (recorder, recorder_reason) = match show.recorder.state().0 {
            RecorderState::Off => ("off", None),
            RecorderState::Waiting => ("waiting", None),
            RecorderState::Recording => ("recording", None),
            RecorderState::Stopped(reason) => ("stopped", Some(reason)),
        };
        Self {
            id: show.id,
            started_at: show.started_at,
            state_for_ms: millis(source.state_for),
            hold_left_ms: source.hold_left.map(millis),
            loss_count: source.loss_count,
            publisher_address: source.publisher.peer.to_string(),
            key_label: source.publisher.key_label.clone(),
            encoder: source.encoder.clone(),
            is_slate_on: show.is_slate_on(),
            is_rehearsal: show.is_rehearsal(),
            video: live_video(&source.tracks, &source),
            audio: live_audio(&source.tracks),
            bitrate_bps: source.video_bps + source.audio_bps,
            audio_bitrate_bps: source.audio_bps,
            viewer_count: show.viewer_count(),
            waiting: source.waiting,
            findings: source.findings,
            line: source.line.map(|line| LiveLine::new(line, &source.line_points, None)),
            unusable_count: counters.damaged_count + counters.unsupported_count + counters.headless_count,
            clock_fault_count: counters.clock_jump_count + counters.backward_count,
            recorder,
            recorder_reason,
            take,
        }
    }
}

fn live_video(tracks: &Tracks, source: &SourceSnapshot) -> Option<LiveVideo> {
    let codec = &tracks.first(TrackKind::Video)?.codec;
    let size = codec.picture_size().or(source.announced_size);
    Some(LiveVideo {
        codec: [codec.name()].into_iter().chain(codec.profile_name()).collect::<Vec<_>>().join(" "),
        width: size.map(|(width, _)| width),
        height: size.map(|(_, height)| height),
        frame_rate: source.frame_rate,
        announced_frame_rate: codec.frame_rate(),
        bitrate_bps: source.video_bps,
        keyframe_spacing_ms: source.keyframe_spacing.map(|spacing| spacing.millis()),
    })
}

fn live_audio(tracks: &Tracks) -> Vec<LiveAudio> {
    let sound = tracks.iter().filter_map(|track| Some((track, track.codec.sound()?)));
    let live = |(track, sound): (&Track, SoundFormat)| LiveAudio {
        codec: track.codec.name().to_owned(),
        sample_rate_hz: sound.sample_rate,
        channel_count: sound.channel_count,
        language: track.language.as_deref().map(str::to_owned),
        name: track.name.as_deref().map(str::to_owned),
    };
    sound.map(live).collect()
}

impl LiveLeg {
    /// A leg before the show; what is known then is compared with the limits sheet already.
    fn idle(order: &LegOrder) -> Self {
        let facts = StreamFacts { is_secure: order.is_secure(), ..StreamFacts::default() };
        Self {
            destination: order.destination.name.clone(),
            state: if order.sending.switched_on { "ready" } else { "off" }.to_owned(),
            breaches: order.limits.check(&facts).into_iter().map(|breach| breach.text).collect(),
            delay_ms: order.sending.delay_ms.into(),
            trace: Vec::new(),
            line: None,
            dropped_ms: 0,
            state_for_ms: 0,
            reason: None,
            note: None,
            next_dial_in_ms: None,
            bitrate_bps: 0.0,
            behind_ms: 0,
            sent_frame_count: 0,
            sent_bytes: 0,
            dropped_frame_count: 0,
            redial_count: 0,
        }
    }

    fn look(status: &LegStatus) -> Self {
        let now = Instant::now();
        let snapshot = status.snapshot();
        let next = snapshot.leg.poll_timeout().map(|until| millis(until.saturating_duration_since(now)));
        Self {
            destination: snapshot.record.destination_name,
            state: snapshot.record.state,
            state_for_ms: millis(now.saturating_duration_since(snapshot.leg.since())),
            reason: snapshot.record.reason,
            note: snapshot.note,
            next_dial_in_ms: next,
            bitrate_bps: snapshot.bitrate_bps,
            behind_ms: snapshot.lag_ms + millis(snapshot.delay),
            delay_ms: millis(snapshot.delay),
            dropped_ms: snapshot.record.dropped_ms,
            breaches: snapshot.breaches,
            trace: snapshot.trace,
            line: snapshot.line.map(|line| LiveLine::new(line.quality, &line.points, line.finding)),
            sent_frame_count: snapshot.record.sent_frame_count,
            sent_bytes: snapshot.record.sent_bytes,
            dropped_frame_count: snapshot.record.dropped_frame_count,
            redial_count: snapshot.record.redial_count,
        }
    }
}
