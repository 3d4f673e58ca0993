use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use waverant_model::{ChangeRecording, ChangeViewing, KeyRight, OpenHours, Protocol, ShowThen, SlateChoice, Takeover};

use super::{SrtForm, SystemForm};
use crate::{Moment, SecretText};

/// A channel.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ChannelForm {
    /// What people read.
    pub title: Option<String>,
    /// How long a session waits for a lost publisher.
    pub hold_ms: Option<u32>,
    /// What becomes of a second encoder.
    pub takeover: Option<Takeover>,
    /// What is sent while a session waits for its encoder.
    pub slate: Option<SlateChoice>,
    /// The loudness that its sound is to have, in LUFS.
    pub loudness_lufs: Option<i8>,
    /// What it asks for over SRT.
    pub srt: SrtForm,
    /// What is recorded.
    pub recording: ChangeRecording,
    /// Who may watch it, and how.
    pub viewing: ChangeViewing,
    /// Where it is sent; none if the file does not speak of it.
    pub destinations: Option<BTreeMap<String, SendingForm>>,
    /// The system that is asked for it.
    pub house_system: Option<SystemForm>,
    /// What opens it; none if the file does not speak of it.
    pub keys: Option<Vec<KeyForm>>,
    /// Links to watch it by; none if the file does not speak of it.
    pub links: Option<Vec<LinkForm>>,
}

/// How a channel sends to a destination.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct SendingForm {
    /// Whether it does; it does if left out.
    pub is_on: Option<bool>,
    /// How much later than the source.
    pub delay_ms: Option<u32>,
    /// How much later than the show it starts.
    pub start_after_ms: Option<u32>,
}

/// A stream key without the key, or with one that was brought along.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeyForm {
    /// For whom.
    pub label: String,
    /// What it opens the channel for.
    #[serde(default)]
    pub right: KeyRight,
    /// 0 is the highest.
    #[serde(default)]
    pub rank: u8,
    /// A key that encoders have already. Without, a new one is made where there is none of this label.
    #[serde(default)]
    pub key: Option<SecretText>,
    /// When it begins to open.
    #[serde(default)]
    pub starts_at: Option<Moment>,
    /// When it stops.
    #[serde(default)]
    pub expires_at: Option<Moment>,
    /// Over how many encoders or players at once.
    #[serde(default)]
    pub most_connections: Option<u32>,
    /// From where; none for anywhere.
    #[serde(default)]
    pub allowed_from: Vec<String>,
    /// Over what; none for all.
    #[serde(default)]
    pub protocols: Vec<Protocol>,
    /// What becomes of a show that it let in, when its time is over.
    #[serde(default)]
    pub show_when_over: ShowThen,
    /// A passphrase for SRT of its own.
    #[serde(default)]
    pub passphrase: Option<SecretText>,
    /// The hours of a week at which it opens.
    #[serde(default)]
    pub hours: Option<OpenHours>,
}

/// A link to watch a channel by.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LinkForm {
    /// For whom.
    pub label: String,
    /// When it ends; 30 days after it is made if left out.
    #[serde(default)]
    pub ends_at: Option<Moment>,
    /// How many may watch by it; 0 for as many as the channel takes.
    #[serde(default)]
    pub most_viewers: u32,
    /// The sites whose pages alone may show it.
    #[serde(default)]
    pub sites: Vec<String>,
    /// Whether rehearsals are shown.
    #[serde(default)]
    pub shows_rehearsals: bool,
}
