//! Other systems of the house that are asked before somebody is let in.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{Hidden, KeyRight, Protocol};

/// What a system hears of a key that is not known here.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum UnknownKeys {
    /// It is not asked about it.
    #[default]
    NotAsked,
    /// Its first characters.
    Prefix,
    /// HMAC-SHA-256 of it, in hexadecimal, with the secret that questions are signed with.
    Digest,
    /// The key itself; only over TLS, or on this machine.
    Whole,
}

/// Who is let in while the system does not answer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WhenSilent {
    /// Nobody.
    #[default]
    Closed,
    /// Whoever has a key that is known here.
    KnownKeys,
}

/// How a system is asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HouseSystemRules {
    /// Where it answers: `https://club.wexcombe.example/relay`, or `http://` in a network that you trust.
    pub address: String,
    /// False while it is not to be asked. Where it is a channel's own, nobody is asked for that channel then.
    #[serde(default = "yes")]
    pub is_on: bool,
    /// Whether it is asked about publishers.
    #[serde(default = "yes")]
    pub publishers: bool,
    /// Whether it is asked about players with a viewing key.
    #[serde(default)]
    pub players: bool,
    /// What it hears of keys that are not known here; only that of the whole house is asked about them.
    #[serde(default)]
    pub unknown_keys: UnknownKeys,
    /// Who is let in while it does not answer.
    #[serde(default)]
    pub when_silent: WhenSilent,
    /// How long a question may take with all its tries: 200 to 8000.
    #[serde(default = "usual_limit")]
    pub time_limit_ms: u32,
    /// How often it is asked once more when it could not be asked: at most 3.
    #[serde(default = "usual_retries")]
    pub retries: u8,
    /// How often it is asked whether somebody may stay: 10 s to a day; never if left out.
    #[serde(default)]
    pub again_s: Option<u32>,
}

impl HouseSystemRules {
    /// The usual rules for a system at an address.
    pub fn usual(address: String) -> Self {
        Self {
            address,
            is_on: yes(),
            publishers: yes(),
            players: false,
            unknown_keys: UnknownKeys::default(),
            when_silent: WhenSilent::default(),
            time_limit_ms: usual_limit(),
            retries: usual_retries(),
            again_s: None,
        }
    }
}

fn yes() -> bool {
    true
}

fn usual_limit() -> u32 {
    3000
}

fn usual_retries() -> u8 {
    1
}

/// A system to be asked, in the place of the one that was.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SetHouseSystem {
    /// How it is asked.
    pub rules: HouseSystemRules,
    /// What questions are signed with: `whsec_` and 24 to 64 bytes in base64. Left out, the one that is there stays;
    /// where there is none, one is made.
    #[serde(default)]
    pub secret: Option<Hidden>,
    /// True to have another secret made.
    #[serde(default)]
    pub renews_secret: bool,
}

/// How a system did since the service started, or since it was changed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct HouseSystemCondition {
    /// How often it was asked.
    pub asked: u64,
    /// How often it said nothing that could be followed.
    pub silent: u64,
    /// When it answered last.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub answered_at: Option<OffsetDateTime>,
    /// How long that took.
    pub took_ms: Option<u64>,
    /// When it last said nothing that could be followed.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub silent_at: Option<OffsetDateTime>,
    /// Why.
    pub silence: Option<String>,
    /// True while it is left alone, as it did not answer.
    pub is_resting: bool,
}

/// A system that is asked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseSystem {
    /// How it is asked.
    pub rules: HouseSystemRules,
    /// How it does.
    pub condition: HouseSystemCondition,
}

/// The system of the house, or of a channel.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseSystemState {
    /// Its own, if it has one.
    pub system: Option<HouseSystem>,
    /// That of the house, which is asked for channels without one.
    pub of_house: Option<HouseSystem>,
}

/// A system as it was set.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseSystemSet {
    /// The system.
    pub system: HouseSystem,
    /// What questions are signed with, if it was made now; it is shown this once.
    pub secret: Option<String>,
}

/// Somebody who is made up, to see what the system answers.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TryHouseSystem {
    /// What it wants to do. Default `publish`.
    #[serde(default)]
    pub right: KeyRight,
    /// By what it comes. Default `rtmp`.
    #[serde(default)]
    pub protocol: Option<Protocol>,
    /// Where it comes from. Default 192.0.2.1.
    #[serde(default)]
    pub address: Option<String>,
    /// For whom its key was made.
    #[serde(default)]
    pub label: Option<String>,
    /// The channel of its key.
    #[serde(default)]
    pub channel: Option<String>,
    /// A key that is not known, in the place of label and channel.
    #[serde(default)]
    pub unknown_key: Option<Hidden>,
}

/// One line of a call's head.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallHeader {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// What came back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallAnswer {
    /// The status.
    pub status: u16,
    /// What it says it is.
    pub content_type: Option<String>,
    /// The answer.
    pub body: String,
    /// How long it took.
    pub took_ms: u64,
}

/// What a try came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseSystemTry {
    /// Where the question was sent.
    pub address: String,
    /// Its head.
    pub headers: Vec<CallHeader>,
    /// The question.
    pub question: String,
    /// What came back, if something did.
    pub answer: Option<CallAnswer>,
    /// True if it can be followed.
    pub is_good: bool,
    /// True if it would be let in.
    pub lets_in: bool,
    /// What would follow from it, in words.
    pub meaning: String,
}
