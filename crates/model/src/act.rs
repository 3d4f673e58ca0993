//! Who did what.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Something that somebody did in the house, or was not let do. It never holds a secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Act {
    /// Its number.
    pub id: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// By whom: a person's name, or the name that somebody gave who is not known.
    pub person: String,
    /// By what.
    pub by: ActBy,
    /// What the token is called, if it was by one.
    pub token: String,
    /// From where; empty for the machine itself.
    pub address: String,
    /// What: the `operationId` of the call.
    pub what: String,
    /// On which channel.
    pub channel: Option<String>,
    /// On what else, as in `destination plovio`.
    pub subject: String,
    /// How it ended.
    pub outcome: ActOutcome,
    /// Why it was not done: the code of the problem.
    pub reason: Option<String>,
    /// The fields that changed, as they were before.
    #[schema(value_type = Option<Object>)]
    pub before: Option<serde_json::Value>,
    /// The same fields afterwards.
    #[schema(value_type = Option<Object>)]
    pub after: Option<serde_json::Value>,
}

/// By what somebody does something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ActOutcome {
    /// It was done.
    Done,
    /// It was not allowed.
    Refused,
    /// It failed, and may have been done in part.
    Failed,
}
