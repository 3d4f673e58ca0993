//! What is on air at one moment.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{Finding, LiveHost, LiveLine, ViewerCounts};

/// All channels at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Board {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The channels by number.
    pub channels: Vec<LiveChannel>,
    /// Connections that were turned away or given up since the service was started.
    pub refused_counts: Vec<RefusedCount>,
    /// The disk of the recordings; none until it was looked at.
    pub disk: Option<LiveDisk>,
    /// The uplink; none if the settings do not say what it carries.
    pub uplink: Option<LiveUplink>,
    /// The machine; none until it was looked at.
    pub host: Option<LiveHost>,
    /// What is wrong with the house itself: the worst first.
    pub findings: Vec<Finding>,
}

/// What leaves the house at one moment, in bits per second.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveUplink {
    /// What the uplink carries.
    pub carries_bps: u64,
    /// What platforms are sent, or will be once they are dialed.
    pub legs_bps: f64,
    /// What viewers are sent.
    pub viewers_bps: f64,
}

/// The disk of the recordings at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveDisk {
    /// Free for us.
    pub free_bytes: u64,
    /// So much stays free.
    pub floor_bytes: u64,
    /// How long it lasts at the rate of what is being recorded; none if nothing is.
    pub seconds_left: Option<u64>,
    /// True if that is less than two hours, or nothing more can be recorded.
    pub is_low: bool,
}

/// How often something was refused.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusedCount {
    /// Why, as a stable word; those of the turned-away list, and `idle_publisher`,
    /// `idle_connection`, `message_too_long`, `answers_unread`, `protocol_fault`, `stalled_player`.
    pub reason: String,
    /// How often.
    pub count: u64,
}

/// How a show gets to a depot at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LivePublishing {
    /// The depot.
    pub depot: String,
    /// Where viewers fetch the playlist, once there is one.
    pub address: Option<String>,
    /// Up to when the show is told there.
    #[serde(with = "time::serde::rfc3339::option")]
    pub told_until: Option<OffsetDateTime>,
    /// What was sent, in bytes.
    pub sent_bytes: u64,
}

/// A channel at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveChannel {
    /// Name in addresses.
    pub name: String,
    /// What people read.
    pub title: String,
    /// Where it stands.
    pub state: ChannelState,
    /// How many watch, or wait for the next show.
    pub viewers: ViewerCounts,
    /// How its show gets to the depot from which it is told as well.
    pub publishing: Option<LivePublishing>,
    /// The session, if there is one.
    pub session: Option<LiveSession>,
    /// Legs of the session; without one, the destinations as they stand.
    pub legs: Vec<LiveLeg>,
    /// What is wrong or odd: the worst first. Before a show, what is known then.
    pub findings: Vec<Finding>,
}

/// A session at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveSession {
    /// The session's number.
    pub id: u64,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// How long it is in its present state.
    pub state_for_ms: u64,
    /// While holding: how long it still waits.
    pub hold_left_ms: Option<u64>,
    /// How often the publisher was lost.
    pub loss_count: u32,
    /// Where the publisher comes from.
    pub publisher_address: String,
    /// Label of its key.
    pub key_label: String,
    /// Labels of the keys of encoders that wait behind it.
    pub waiting: Vec<String>,
    /// True while the slate stands in for the encoder.
    pub is_slate_on: bool,
    /// True if it is fed by the test picture.
    pub is_rehearsal: bool,
    /// What the encoder calls itself.
    pub encoder: String,
    /// The first track of pictures; none until they came.
    pub video: Option<LiveVideo>,
    /// The tracks of sound by number; none until they came.
    pub audio: Vec<LiveAudio>,
    /// All of it, in bits per second.
    pub bitrate_bps: f64,
    /// The sound of all tracks, in bits per second.
    pub audio_bitrate_bps: f64,
    /// How it arrives.
    pub arrival: LiveArrival,
    /// The line that the encoder comes in by, if it comes over SRT.
    pub line: Option<LiveLine>,
    /// Messages that could not be used.
    pub unusable_count: u64,
    /// Times when the encoder's clock jumped or ran back.
    pub clock_fault_count: u64,
    /// Where its recorder stands.
    pub recorder: RecorderState,
    /// Why the disk stopped it.
    pub recorder_reason: Option<String>,
    /// The take that is being written.
    pub take: Option<LiveTake>,
}

/// How a stream arrives.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveArrival {
    /// All of it over the last second, in bits per second.
    pub rate_1s_bps: f64,
    /// And over the last ten.
    pub rate_10s_bps: f64,
    /// How unevenly packets arrive (RFC 3550, 6.4.1).
    pub jitter_ms: f64,
    /// The longest time of the last ten seconds in which nothing came.
    pub longest_pause_ms: u64,
    /// The most of the stream that came within 100 ms.
    pub largest_burst_ms: u64,
    /// How much faster the encoder's clock runs than ours, in millionths; none while it cannot be told.
    pub clock_ppm: Option<f64>,
}

/// The incoming pictures.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveVideo {
    /// Codec and profile.
    pub codec: String,
    /// The codec's level, as in `4.1`.
    pub level: Option<String>,
    /// Chroma and bits of a sample, as in `4:2:0 8 bit`.
    pub sampling: Option<String>,
    /// Colours and range of light, as in `BT.709` or `BT.2020 PQ`; none where the stream does not tell.
    pub colour: Option<String>,
    /// True for more than the usual range of light.
    pub is_hdr: bool,
    /// In pixels; none where neither the stream nor the encoder tells.
    pub width: Option<u32>,
    /// In pixels.
    pub height: Option<u32>,
    /// Measured, in pictures per second.
    pub frame_rate: f64,
    /// What the stream says of itself.
    pub announced_frame_rate: Option<f64>,
    /// In bits per second.
    pub bitrate_bps: f64,
    /// The largest of the last four distances between keyframes.
    pub keyframe_spacing_ms: Option<i64>,
    /// The share of pictures that do not follow at the usual step, over ten seconds.
    pub uneven_share: f64,
    /// The share of pictures that the encoder left out.
    pub missing_share: f64,
    /// Pictures in the newest whole group.
    pub group_pictures: u32,
    /// Bits per second of the newest whole group.
    pub group_bps: f64,
    /// The most pictures in a row that are shown before one that was sent before them: B-frames.
    pub reordered_run: u32,
    /// True if groups need the one before.
    pub has_open_groups: bool,
    /// The mean brightness of the newest keyframe that was looked at, from 0 to 1.
    pub brightness: Option<f64>,
    /// Why no keyframe is looked at.
    pub not_seen: Option<String>,
}

/// The incoming sound.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveAudio {
    /// Codec.
    pub codec: String,
    /// In Hz.
    pub sample_rate_hz: u32,
    /// Channels.
    pub channel_count: u8,
    /// Its language as the stream tells it: a BCP 47 tag.
    pub language: Option<String>,
    /// What the stream calls it.
    pub name: Option<String>,
    /// In bits per second, over ten seconds.
    pub bitrate_bps: f64,
    /// What is heard of it; none while nothing is, or it is not listened to.
    pub heard: Option<HeardSound>,
    /// Why it is not listened to.
    pub not_heard: Option<String>,
    /// How much its times run away from its samples or from the pictures, in ms a minute; none while that cannot be
    /// told, or is nothing.
    pub drift_ms_per_minute: Option<f64>,
}

/// What is heard of a track of sound. Levels are in dBFS, loudness in LUFS (EBU R 128); null is silence.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeardSound {
    /// Each channel over the last second: the mean of squares, and the largest sample.
    pub channels: Vec<HeardChannel>,
    /// The largest true peak since the beginning, in dBTP.
    pub true_peak: Option<f64>,
    /// Over the last 400 ms.
    pub momentary: Option<f64>,
    /// Over the last 3 s.
    pub short_term: Option<f64>,
    /// Over the last minute, silence left out.
    pub last_minute: Option<f64>,
    /// Since the beginning, silence left out.
    pub integrated: Option<f64>,
    /// The loudness range since the beginning, in LU.
    pub range: Option<f64>,
    /// How alike two channels are: from 1, the same, to -1, turned over.
    pub correlation: Option<f64>,
}

/// The level of a channel of sound over the last second, in dBFS.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeardChannel {
    /// The mean of squares.
    pub rms: Option<f64>,
    /// The largest sample.
    pub peak: Option<f64>,
}

/// The take that is being written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveTake {
    /// Its place in the session.
    pub number: u32,
    /// Its length so far.
    pub duration_ms: u64,
    /// Its size so far.
    pub size_bytes: u64,
    /// Moments that were pointed out.
    pub mark_count: usize,
    /// Parts of the show that are missing because the disk was too slow.
    pub gap_count: u32,
}

/// A leg at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveLeg {
    /// The destination's name.
    pub destination: String,
    /// Where it stands.
    pub state: LegState,
    /// How long it is in this state.
    pub state_for_ms: u64,
    /// Why the last connection ended.
    pub reason: Option<String>,
    /// What of the stream the platform does not get.
    pub note: Option<String>,
    /// When it dials again.
    pub next_dial_in_ms: Option<u64>,
    /// Payload going out, in bits per second.
    pub bitrate_bps: f64,
    /// How far it is behind the source, its delay included.
    pub behind_ms: u64,
    /// The delay that it was given.
    pub delay_ms: u64,
    /// Pictures sent.
    pub sent_frame_count: u64,
    /// Payload bytes sent.
    pub sent_bytes: u64,
    /// Pictures that it missed: too slow for them, or not connected.
    pub dropped_frame_count: u64,
    /// How much of the show they were.
    pub dropped_ms: u64,
    /// How often it dialed again.
    pub redial_count: u32,
    /// Outgoing bits per second, one value for each of the last seconds, the newest last.
    pub trace: Vec<u64>,
    /// The line that it goes by, while it carries over SRT.
    pub line: Option<LiveLine>,
}

/// Whether the service can do its work.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// True if all is well.
    pub is_good: bool,
    /// True if the database answers.
    pub database_is_reachable: bool,
    /// The service's version.
    pub version: String,
}

/// Where a channel stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum ChannelState {
    /// Nobody publishes.
    #[serde(rename = "off air")]
    OffAir,
    /// A session is on air.
    #[serde(rename = "on air")]
    OnAir,
    /// Its publisher is lost; the session waits for its return.
    #[serde(rename = "holding")]
    Holding,
    /// The session is over, and delayed legs play on.
    #[serde(rename = "over")]
    Over,
}

/// Where a leg stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum LegState {
    /// It goes with the next session.
    #[serde(rename = "ready")]
    Ready,
    /// A connection is being made.
    #[serde(rename = "dialing")]
    Dialing,
    /// The platform takes the stream.
    #[serde(rename = "carrying")]
    Carrying,
    /// The connection was lost or could not be made, and is tried again.
    #[serde(rename = "waiting to redial")]
    WaitingToRedial,
    /// The platform said no.
    #[serde(rename = "refused")]
    Refused,
    /// Switched off, held back, not yet to start, or the session is over.
    #[serde(rename = "off")]
    Off,
}

/// Where a session's recorder stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RecorderState {
    /// Nobody wants a recording.
    Off,
    /// It waits for the first keyframe.
    Waiting,
    /// It writes a take.
    Recording,
    /// It was stopped by the disk, and goes on by itself when it can.
    Stopped,
}
