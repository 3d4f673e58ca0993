use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use waverant_model::{AudioOtherwise, Reception, Role, SheetForm, UnknownKeys, WhenSilent};

use super::SrtForm;
use crate::{Moment, SecretText};

/// Object storage that takes are copied to.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DepotForm {
    /// Where it answers.
    pub endpoint: String,
    /// The region that requests are signed for.
    #[serde(default)]
    pub region: Option<String>,
    /// The bucket.
    pub bucket: String,
    /// What the keys of all objects begin with.
    #[serde(default)]
    pub prefix: String,
    /// Who signs requests.
    pub access_key: String,
    /// What requests are signed with.
    #[serde(default)]
    pub secret_key: Option<SecretText>,
    /// Where anybody fetches what lies below the prefix.
    #[serde(default)]
    pub public_address: Option<String>,
}

/// A platform.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DestinationForm {
    /// Where it is.
    pub address: String,
    /// The key that the platform gave.
    #[serde(default)]
    pub key: Option<SecretText>,
    /// The only authority (PEM) that may sign its certificate.
    #[serde(default)]
    pub authority: Option<String>,
    /// How long packets are collected before they are sent.
    #[serde(default)]
    pub batch_ms: Option<u16>,
    /// The track of sound that it gets.
    #[serde(default)]
    pub audio: Option<String>,
    /// What it gets when there is no such track.
    #[serde(default)]
    pub audio_otherwise: Option<AudioOtherwise>,
    /// The only track of pictures that it gets.
    #[serde(default)]
    pub video_track: Option<u8>,
    /// What it accepts.
    #[serde(default)]
    pub limits: SheetForm,
    /// What is asked of it over SRT.
    #[serde(default)]
    pub srt: SrtForm,
}

/// A system that is asked before somebody is let in.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SystemForm {
    /// Where it answers.
    pub address: String,
    /// What questions are signed with; what is there stays if left out, or one is made.
    #[serde(default)]
    pub secret: Option<SecretText>,
    /// Whether it is asked.
    #[serde(default)]
    pub is_on: Option<bool>,
    /// Whether about publishers.
    #[serde(default)]
    pub publishers: Option<bool>,
    /// Whether about players.
    #[serde(default)]
    pub players: Option<bool>,
    /// What it hears of keys that are not known here.
    #[serde(default)]
    pub unknown_keys: Option<UnknownKeys>,
    /// Who is let in while it does not answer.
    #[serde(default)]
    pub when_silent: Option<WhenSilent>,
    /// How long a question may take.
    #[serde(default)]
    pub time_limit_ms: Option<u32>,
    /// How often it is asked once more.
    #[serde(default)]
    pub retries: Option<u8>,
    /// How often it is asked whether somebody may stay.
    #[serde(default)]
    pub again_s: Option<u32>,
}

/// Another system or people that are told what happens.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TargetForm {
    /// Where it is told.
    #[serde(default)]
    pub address: Option<SecretText>,
    /// What calls are signed with; what is there stays if left out, or one is made.
    #[serde(default)]
    pub secret: Option<SecretText>,
    /// The channel whose occurrences it is told of.
    #[serde(default)]
    pub channel: Option<String>,
    /// Of what.
    pub kinds: Vec<String>,
    /// Whether it is told.
    #[serde(default)]
    pub is_on: Option<bool>,
    /// What a text is: `text/plain` or `application/json`; JSON if there is a template.
    #[serde(default)]
    pub content_type: Option<String>,
    /// A text of one's own making, in the place of events.
    #[serde(default)]
    pub template: Option<String>,
}

/// Somebody of the crew.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct PersonForm {
    /// What they may do in the house.
    pub role: Option<Role>,
    /// What they may do on single channels.
    pub channels: BTreeMap<String, Role>,
}

/// How callers of some addresses are received.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AddressForm {
    /// An address or a network.
    pub range: String,
    /// How.
    pub reception: Reception,
    /// Until when; for ever if left out.
    #[serde(default)]
    pub until: Option<Moment>,
    /// Why.
    #[serde(default)]
    pub note: String,
}
