//! What happens in the house and other systems are told of: its kinds, how a call tells it, what of a flood is told, and
//! when a call that failed is made again.

mod away_news;
mod chronicle;
mod cloud_event;
mod kind;
mod retry;
mod target;

pub use away_news::AwayNews;
pub use chronicle::{Chronicle, ShowNews};
pub use cloud_event::CLOUD_EVENT;
pub use kind::OccurrenceKind;
pub use retry::RetryRules;
pub use target::{CallForm, CallRules, CallTarget};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use time::OffsetDateTime;

/// The channel in which something happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OfChannel {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
}

/// Something that happened, as it is told to other systems. It never holds a secret.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Occurrence {
    /// What.
    pub kind: OccurrenceKind,
    /// When.
    pub happened_at: OffsetDateTime,
    /// In which channel; none: in the house.
    pub channel: Option<OfChannel>,
    /// To what, as in `session/12` or `session/12/destination/plovio`.
    pub subject: String,
    /// The same in a line for people.
    pub text: String,
    /// What belongs to its kind.
    pub data: Map<String, Value>,
}

/// Something that happened, with its number and with whom it is told to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Announcement {
    /// The number by which one that comes twice is known.
    pub event_id: String,
    /// The targets that are told, by number.
    pub targets: Vec<u64>,
    /// What happened.
    pub occurrence: Occurrence,
}

impl Occurrence {
    /// Something that happened in the house, without anything of its own.
    pub fn new(kind: OccurrenceKind, happened_at: OffsetDateTime, text: impl Into<String>) -> Self {
        let subject = String::new();
        Self { kind, happened_at, channel: None, subject, text: text.into(), data: Map::new() }
    }

    /// The same in a channel.
    #[must_use]
    pub fn in_channel(mut self, id: u64, name: &str) -> Self {
        self.channel = Some(OfChannel { id, name: name.to_owned() });
        self
    }

    /// The same, to this.
    #[must_use]
    pub fn to(mut self, subject: impl Into<String>) -> Self {
        self.subject = subject.into();
        self
    }

    /// The same with something that belongs to its kind.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.data.insert(name.to_owned(), value.into());
        self
    }

    /// What stands in for a channel where calls are put in order: what happens in the house is a line of its own.
    pub fn lane(&self) -> u64 {
        self.channel.as_ref().map_or(0, |channel| channel.id)
    }
}
