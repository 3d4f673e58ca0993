//! Channels, and what can be changed of them.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{ChangeRecording, ChangeSrt, ChangeViewing, Recording, Srt, Viewing};

/// A channel.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Channel {
    /// Name in addresses.
    pub name: String,
    /// What people read.
    pub title: String,
    /// How long a session waits for a lost publisher.
    pub hold_ms: u32,
    /// What is recorded, in which form, and how long it is kept.
    pub recording: Recording,
    /// What becomes of a second encoder.
    pub takeover: Takeover,
    /// What is sent while a session waits for its encoder.
    pub slate: SlateChoice,
    /// The loudness that its sound is to have, in LUFS; none if nobody chose one.
    pub loudness_lufs: Option<i8>,
    /// What it asks of encoders and players over SRT.
    pub srt: Srt,
    /// Who may watch it, and how.
    pub viewing: Viewing,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// What goes into an encoder's server field.
    pub server: String,
    /// Where its sessions are sent.
    pub destinations: Vec<ChannelDestination>,
}

/// What becomes of a second encoder with a key of the same rank.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Takeover {
    /// It is turned away.
    #[default]
    Refuse,
    /// It takes the place of the first, without a gap at the destinations.
    Replace,
}

/// What is sent while a session waits for its encoder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SlateChoice {
    /// Nothing.
    None,
    /// The built-in holding picture.
    #[default]
    BuiltIn,
    /// The uploaded clip; the built-in picture where that does not fit.
    Uploaded,
}

/// A destination of a channel.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChannelDestination {
    /// The destination's name.
    pub destination: String,
    /// Whether the channel's sessions are sent there.
    pub is_on: bool,
    /// How much later than the source.
    pub delay_ms: u32,
    /// How much later than the show it starts.
    pub start_after_ms: u32,
}

/// A channel to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddChannel {
    /// Name in addresses: small letters, digits and hyphens.
    pub name: String,
    /// What people read; the name if left out.
    pub title: Option<String>,
    /// How long a session waits for a lost publisher. Default 10000.
    pub hold_ms: Option<u32>,
    /// What is recorded. By default all, as MP4, and kept for good.
    #[serde(default)]
    pub recording: ChangeRecording,
    /// What becomes of a second encoder. Default `refuse`.
    #[serde(default)]
    pub takeover: Takeover,
    /// What is sent while a session waits for its encoder. Default `built_in`.
    #[serde(default)]
    pub slate: SlateChoice,
    /// The loudness that its sound is to have, from -40 to -5 LUFS; 0, the default, is for none.
    #[serde(default)]
    pub loudness_lufs: i8,
    /// What it asks of encoders and players over SRT. By default 500 ms and no passphrase.
    #[serde(default)]
    pub srt: ChangeSrt,
    /// Who may watch it, and how. By default nobody may.
    #[serde(default)]
    pub viewing: ChangeViewing,
}

/// What is to change; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeChannel {
    /// What people read.
    pub title: Option<String>,
    /// How long a session waits for a lost publisher, up to an hour. Holds from the next session.
    pub hold_ms: Option<u32>,
    /// What is recorded.
    #[serde(default)]
    pub recording: ChangeRecording,
    /// What becomes of a second encoder; in mid-show too.
    pub takeover: Option<Takeover>,
    /// What is sent while a session waits for its encoder; in mid-show too.
    pub slate: Option<SlateChoice>,
    /// The loudness that its sound is to have, from -40 to -5 LUFS; 0 is for none. In mid-show too.
    pub loudness_lufs: Option<i8>,
    /// What it asks of encoders and players over SRT.
    #[serde(default)]
    pub srt: ChangeSrt,
    /// Who may watch it, and how. By default nobody may.
    #[serde(default)]
    pub viewing: ChangeViewing,
}

/// How a channel's sessions are to be sent to a destination; what is left out stays.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeSending {
    /// True to send the channel's sessions there.
    pub is_on: Option<bool>,
    /// How much later than the source, up to 300000: time to cut something off.
    pub delay_ms: Option<u32>,
    /// How much later than the show it starts, up to 3600000.
    pub start_after_ms: Option<u32>,
}

/// An uploaded slate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UploadedSlate {
    /// Its codecs.
    pub stream: String,
    /// In pixels.
    pub width: Option<u32>,
    /// In pixels.
    pub height: Option<u32>,
    /// How long it lasts before it begins anew.
    pub length_ms: u64,
}
