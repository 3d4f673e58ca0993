use std::time::Duration;

use crate::{KeyRight, Secret};

/// What another system hears of a key that is not known here.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum UnknownKeys {
    /// It is not asked about it.
    #[default]
    NotAsked,
    /// Its first characters.
    Prefix,
    /// HMAC-SHA-256 of it, with the secret that questions are signed with.
    Digest,
    /// The key itself.
    Whole,
}

impl UnknownKeys {
    /// All there are, with their words.
    pub const ALL: [(Self, &'static str); 4] =
        [(Self::NotAsked, "not_asked"), (Self::Prefix, "prefix"), (Self::Digest, "digest"), (Self::Whole, "whole")];

    /// Its word.
    pub fn word(self) -> &'static str {
        Self::ALL.into_iter().find(|(known, _)| *known == self).map_or("", |(_, word)| word)
    }

    /// What this word says.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(_, known)| *known == word).map(|(unknown, _)| unknown)
    }
}

/// Who is let in while the system does not answer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum WhenSilent {
    /// Nobody.
    #[default]
    Closed,
    /// Whoever has a key that is known here.
    KnownKeys,
}

/// How another system is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AskingRules {
    /// False while it is not to be asked.
    pub is_on: bool,
    /// Where it answers: `https://host/path`, or `http://`.
    pub address: String,
    /// Whether it is asked about publishers.
    pub publishers: bool,
    /// Whether it is asked about players.
    pub players: bool,
    /// What it hears of keys that are not known.
    pub unknown_keys: UnknownKeys,
    /// Who is let in while it does not answer.
    pub when_silent: WhenSilent,
    /// How long a question may take, with all its tries.
    pub time_limit: Duration,
    /// How often it is asked once more that could not be asked.
    pub retries: u8,
    /// How often it is asked whether somebody may stay.
    pub again: Option<Duration>,
}

/// Another system of the house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HouseSystem {
    /// The number of the channel that it is asked for; 0 for all that have none of their own.
    pub id: u64,
    /// How it is asked.
    pub rules: AskingRules,
    /// What questions are signed with.
    pub secret: Secret,
}

impl HouseSystem {
    /// The number of the system of the whole house.
    pub const OF_HOUSE: u64 = 0;

    /// True if it is asked about who wants this.
    pub fn is_asked(&self, right: KeyRight) -> bool {
        let rules = &self.rules;
        rules.is_on
            && match right {
                KeyRight::Publish => rules.publishers,
                KeyRight::View => rules.players,
            }
    }

    /// True if it is asked about who shows a key that is not known here. A channel's own is not: which channel is meant
    /// is not known either.
    pub fn judges_unknown_keys(&self, right: KeyRight) -> bool {
        self.id == Self::OF_HOUSE && self.rules.unknown_keys != UnknownKeys::NotAsked && self.is_asked(right)
    }
}
