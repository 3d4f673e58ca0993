//! Other systems and people that are told what happens.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{CallAnswer, CallHeader, Hidden};

/// How a target is told.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "form", rename_all = "snake_case")]
pub enum CallFormat {
    /// As an event in JSON (CloudEvents 1.0).
    #[default]
    Event,
    /// As a text of one's own making, for a chat that takes messages at an address.
    Text {
        /// `text/plain` or `application/json`.
        content_type: String,
        /// The text, with places as `{{ text }}`, `{{ channel }}`, `{{ kind }}`, `{{ time }}`, `{{ data.session }}`. In
        /// JSON each place is written as JSON, a text with its quotes.
        template: String,
    },
}

/// A target to be added.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddCallTarget {
    /// Its name.
    pub name: String,
    /// Where it is told: `https://…`, `http://…` in a network that you trust, or `mailto:` and people with commas between.
    pub address: Hidden,
    /// The channel whose occurrences it is told of; left out: those of all, and of the house.
    #[serde(default)]
    pub channel: Option<String>,
    /// Of what: words of the list that the targets come with.
    pub kinds: Vec<String>,
    /// False while it is not to be told.
    #[serde(default = "yes")]
    pub is_on: bool,
    /// How.
    #[serde(default)]
    pub format: CallFormat,
    /// What calls are signed with: `whsec_` and 24 to 64 bytes in base64. Left out, one is made.
    #[serde(default)]
    pub secret: Option<Hidden>,
}

fn yes() -> bool {
    true
}

/// What is to be changed of a target; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeCallTarget {
    /// Its name.
    pub name: Option<String>,
    /// Where it is told.
    pub address: Option<Hidden>,
    /// The channel whose occurrences it is told of; empty: those of all, and of the house.
    pub channel: Option<String>,
    /// Of what.
    pub kinds: Option<Vec<String>>,
    /// False while it is not to be told; what happens then is told to it never, what waits is told later.
    pub is_on: Option<bool>,
    /// How.
    pub format: Option<CallFormat>,
    /// What calls are signed with.
    pub secret: Option<Hidden>,
    /// True to have another secret made.
    #[serde(default)]
    pub renews_secret: bool,
}

/// Another system, or people, that are told what happens.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallTarget {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// Where it is told, without what may be a secret in it.
    pub address: String,
    /// True if it is told by mail.
    pub is_mail: bool,
    /// The channel whose occurrences it is told of; none: those of all, and of the house.
    pub channel: Option<String>,
    /// Of what.
    pub kinds: Vec<String>,
    /// False while it is not to be told.
    pub is_on: bool,
    /// How.
    pub format: CallFormat,
    /// How much waits for it.
    pub waiting: u64,
    /// When it took something last, since the service started.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub took_at: Option<OffsetDateTime>,
    /// Since when it takes nothing.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub failing_since: Option<OffsetDateTime>,
    /// Why.
    pub fault: Option<String>,
}

/// Something that can happen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrenceWord {
    /// Its word.
    pub kind: String,
    /// What it means.
    pub meaning: String,
}

/// Who is told, and of what one can be told.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallTargets {
    /// The targets, by name.
    pub items: Vec<CallTarget>,
    /// Of what one can be told.
    pub kinds: Vec<OccurrenceWord>,
    /// True if mail can be sent.
    pub has_mail: bool,
}

/// A target as it was set.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallTargetSet {
    /// The target.
    pub target: CallTarget,
    /// What calls are signed with, if it was made now; it is shown this once.
    pub secret: Option<String>,
}

/// A call, as it is made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallRequest {
    /// Where it is sent, without what may be a secret in it.
    pub address: String,
    /// Its head.
    pub headers: Vec<CallHeader>,
    /// What is sent.
    pub body: String,
}

/// What a test came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallTargetTry {
    /// The call; none for mail, or if it could not be made.
    pub request: Option<CallRequest>,
    /// What came back, if something did.
    pub answer: Option<CallAnswer>,
    /// Why it was not taken.
    pub fault: Option<String>,
}

/// Where a delivery stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeliveryState {
    /// It was not taken yet, and is tried again.
    Waiting,
    /// It was taken.
    Delivered,
    /// It is not tried any more.
    GivenUp,
}

/// Something that a target was told, or is to be.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    /// Its number.
    pub id: u64,
    /// The target's name.
    pub target: String,
    /// The event's number, by which one that comes twice is known.
    pub event_id: String,
    /// What happened.
    pub kind: String,
    /// In which channel.
    pub channel: Option<String>,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub happened_at: OffsetDateTime,
    /// In a line.
    pub text: String,
    /// Where it stands.
    pub state: DeliveryState,
    /// How often it was tried.
    pub tries: u32,
    /// When it is tried next, while it waits.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub next_at: Option<OffsetDateTime>,
    /// When it was tried last.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub tried_at: Option<OffsetDateTime>,
    /// How long that took.
    pub took_ms: Option<u64>,
    /// The status that came back.
    pub status: Option<u16>,
    /// Why it was not taken.
    pub fault: Option<String>,
}

/// A delivery with its call and what came back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeliveryDetail {
    /// The delivery.
    pub delivery: Delivery,
    /// The call; none for mail, or if it cannot be made.
    pub request: Option<CallRequest>,
    /// The begin of what came back last.
    pub answer: Option<String>,
}
