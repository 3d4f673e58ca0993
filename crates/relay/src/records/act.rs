use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// Something that somebody did in the house, or was not let do. It never holds a secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Act {
    /// When.
    pub at: OffsetDateTime,
    /// By whom: a person's name, or the name that somebody gave who is not known.
    pub person: String,
    /// By what.
    pub by: ActBy,
    /// What the token is called, if it was by one.
    pub token: String,
    /// From where; empty for the machine itself.
    pub address: String,
    /// What: the name of the operation, as the API calls it.
    pub what: String,
    /// On which channel.
    pub channel: Option<String>,
    /// On what else, as in `destination plovio`.
    pub subject: String,
    /// How it ended.
    pub outcome: ActOutcome,
    /// Why it was not done: a stable word.
    pub reason: Option<String>,
    /// What was so before and changed, as a JSON object.
    pub before: Option<String>,
    /// The same afterwards.
    pub after: Option<String>,
    /// By which one that is written twice is known; empty until the ledger has it.
    #[serde(default)]
    pub mark: String,
}

/// By what somebody does something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ActBy {
    /// The console, in a browser.
    Console,
    /// The command line.
    CommandLine,
    /// Another program, by a token.
    Program,
    /// Somebody who is not signed in.
    Stranger,
    /// A command on the machine itself.
    Machine,
}

/// How an act ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ActOutcome {
    /// It was done.
    Done,
    /// It was not allowed.
    Refused,
    /// It failed, and may have been done in part.
    Failed,
}

const BY: [(ActBy, &str); 5] = [
    (ActBy::Console, "console"),
    (ActBy::CommandLine, "command_line"),
    (ActBy::Program, "program"),
    (ActBy::Stranger, "stranger"),
    (ActBy::Machine, "machine"),
];

const OUTCOMES: [(ActOutcome, &str); 3] =
    [(ActOutcome::Done, "done"), (ActOutcome::Refused, "refused"), (ActOutcome::Failed, "failed")];

impl ActBy {
    /// The stable word.
    pub fn word(self) -> &'static str {
        BY.iter().find(|(by, _)| *by == self).map_or("stranger", |(_, word)| word)
    }

    /// What has this word.
    pub fn from_word(word: &str) -> Option<Self> {
        BY.iter().find(|(_, known)| *known == word).map(|(by, _)| *by)
    }
}

impl ActOutcome {
    /// The stable word.
    pub fn word(self) -> &'static str {
        OUTCOMES.iter().find(|(outcome, _)| *outcome == self).map_or("failed", |(_, word)| word)
    }

    /// What has this word.
    pub fn from_word(word: &str) -> Option<Self> {
        OUTCOMES.iter().find(|(_, known)| *known == word).map(|(outcome, _)| *outcome)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_known_again() {
        assert!(BY.iter().all(|(by, word)| by.word() == *word && ActBy::from_word(word) == Some(*by)));
        assert!(OUTCOMES.iter().all(|(outcome, word)| outcome.word() == *word));
        assert_eq!((ActBy::from_word("root"), ActOutcome::from_word("")), (None, None));
    }
}
