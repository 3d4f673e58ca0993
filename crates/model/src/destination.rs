//! Destinations.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{ChangeSrt, Hidden, SheetForm, Srt};

/// What a destination gets when the wanted track of sound is not there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AudioOtherwise {
    /// The first track.
    #[default]
    First,
    /// No sound.
    None,
}

/// A destination without its key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub address: String,
    /// The only authority (PEM) that may sign its certificate; none: those that the machine trusts.
    pub authority: Option<String>,
    /// How long packets are collected before they are sent.
    pub batch_ms: u16,
    /// What it accepts.
    pub limits: SheetForm,
    /// The track of sound that it gets, as in `language:de`; none for all that it takes.
    pub audio: Option<String>,
    /// What it gets when there is no such track.
    pub audio_otherwise: AudioOtherwise,
    /// The track of pictures that it gets, counted from 1; none for all that it takes.
    pub video_track: Option<u8>,
    /// What it asks for over SRT; none if it is not SRT.
    pub srt: Option<Srt>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
}

/// A destination to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddDestination {
    /// A name of your own.
    pub name: String,
    /// Where it is, as in `rtmp://live.example.org/in`, `rtmps://` for TLS, or
    /// `srt://live.example.org:9000`.
    pub address: String,
    /// The certificate (PEM) of the platform's own authority. Without it the platform's certificate
    /// must be signed by one that this machine trusts.
    pub authority: Option<String>,
    /// The key that the platform gave you; over SRT the stream id, if it asks for one. It is kept
    /// encrypted and not shown again.
    #[serde(default)]
    pub key: Hidden,
    /// How long packets are collected before they are sent, up to 1000. Default 20; 0 for a preview.
    pub batch_ms: Option<u16>,
    /// What it accepts.
    #[serde(default)]
    pub limits: SheetForm,
    /// The track of sound that it gets: `number:2`, `language:de` or `name:commentary`.
    pub audio: Option<String>,
    /// What it gets when there is no such track.
    #[serde(default)]
    pub audio_otherwise: AudioOtherwise,
    /// The only track of pictures that it gets, counted from 1; none for all that it takes.
    #[serde(default)]
    pub video_track: Option<u8>,
    /// Latency and passphrase, over SRT.
    #[serde(default)]
    pub srt: ChangeSrt,
}

/// What is to change; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeDestination {
    /// Where it is.
    pub address: Option<String>,
    /// The certificate (PEM) of the platform's own authority; empty for none.
    pub authority: Option<String>,
    /// The key that the platform gave you; over SRT the stream id, empty for none.
    pub key: Option<Hidden>,
    /// How long packets are collected before they are sent.
    pub batch_ms: Option<u16>,
    /// What it accepts, as a whole.
    pub limits: Option<SheetForm>,
    /// The track of sound that it gets; empty for all that it takes.
    pub audio: Option<String>,
    /// What it gets when there is no such track.
    pub audio_otherwise: Option<AudioOtherwise>,
    /// The only track of pictures that it gets, counted from 1; 0 for all that it takes.
    pub video_track: Option<u8>,
    /// Latency and passphrase, over SRT.
    #[serde(default)]
    pub srt: ChangeSrt,
}

/// How far a try is to go.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryDestination {
    /// Also show it the key and ask it to take a stream. It may tell the world that a show begins.
    #[serde(default)]
    pub publishes: bool,
}

/// What a try came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DestinationTry {
    /// True if every step went well.
    pub is_good: bool,
    /// The steps, up to the first that failed.
    pub steps: Vec<TryStep>,
    /// What of its limits sheet is not kept already.
    pub breaches: Vec<String>,
}

/// One step of a try.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryStep {
    /// Which.
    pub step: TryStepName,
    /// Whether it went well.
    pub is_good: bool,
    /// What was found, or what went wrong.
    pub outcome: String,
    /// How long it took.
    pub took_ms: u64,
}

/// A step of a try, in the order in which they are gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TryStepName {
    /// The host's addresses are looked up.
    Resolve,
    /// A connection is made.
    Connect,
    /// TLS is set up.
    Tls,
    /// The protocol's greeting.
    Handshake,
    /// The platform lets us into its application.
    Application,
    /// The platform takes the key.
    Publish,
}

/// The secrets of a destination.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevealedDestination {
    /// Its key.
    pub key: String,
    /// Its passphrase, if it is an SRT destination that has one.
    pub passphrase: Option<String>,
}
