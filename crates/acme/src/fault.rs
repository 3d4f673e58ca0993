use std::fmt::Display;
use std::time::Duration;

use instant_acme::{Error, Problem};
use thiserror::Error as ThisError;

/// The longest text of an authority that is handed on, in characters.
const MAX_TOLD: usize = 400;

/// Why there is no new certificate: what was found, and what to do.
#[derive(Clone, Debug, PartialEq, Eq, ThisError)]
#[error("{told}")]
pub struct Fault {
    /// In words.
    pub told: String,
    /// How long the authority wants to be left alone.
    pub wait: Option<Duration>,
    /// True if the account is not known there any more.
    pub(crate) is_unknown_account: bool,
}

impl Fault {
    pub(crate) fn new(told: impl Into<String>) -> Self {
        Self { told: told.into(), wait: None, is_unknown_account: false }
    }

    pub(crate) fn ours(error: &dyn Display) -> Self {
        Self::new(format!("a key or request could not be made: {error}"))
    }

    pub(crate) fn disk(what: &str, error: &std::io::Error) -> Self {
        Self::new(format!("{what} cannot be written: {error}; see that the state folder has room and is ours"))
    }

    /// What `error` says, met while `doing` something.
    pub(crate) fn met(doing: &str, error: &Error) -> Self {
        match error {
            Error::Api(problem) => Self::refused(doing, problem),
            Error::Timeout(_) => Self::new(format!("{doing}: the authority did not decide in time; it is asked again")),
            Error::Json(error) => Self::new(format!(
                "{doing}: what came is not what RFC 8555 says ({error}); is the directory's address right?"
            )),
            error => Self::new(format!("{doing}: {error}")),
        }
    }

    /// What an authority says in a problem document (RFC 8555, 6.7).
    pub(crate) fn refused(doing: &str, problem: &Problem) -> Self {
        let kind = problem.r#type.as_deref().unwrap_or_default().rsplit(':').next().unwrap_or_default();
        let parts = problem.subproblems.iter().filter_map(|part| part.detail.clone());
        let details: Vec<String> = problem.detail.iter().cloned().chain(parts).collect();
        let said: String = details.join("; ").chars().filter(|letter| !letter.is_control()).take(MAX_TOLD).collect();
        let advice = match kind {
            "rateLimited" => "it was asked too often; nothing needs to be done but to wait",
            "caa" => "the name's CAA record forbids this authority: add it there, or take another",
            "rejectedIdentifier" => "this authority gives no certificates for such a name",
            "externalAccountRequired" => {
                "it wants an account that you have there: set `binding_id` and `binding_key_file`"
            }
            "userActionRequired" => "its terms have changed: read them, and agree with it on its site",
            "unsupportedContact" | "invalidContact" => "it takes no such contact: change `contacts`",
            _ => "",
        };
        let advice = if advice.is_empty() { String::new() } else { format!(". {advice}") };
        let told =
            format!("{doing}: the authority says: {said} ({}){advice}", if kind.is_empty() { "no kind" } else { kind });
        Self { is_unknown_account: kind == "accountDoesNotExist", ..Self::new(told) }
    }

    pub(crate) fn wait(self, wait: Option<Duration>) -> Self {
        Self { wait, ..self }
    }
}

/// An error with what is behind it: the innermost says most.
pub(crate) fn with_causes(error: &(dyn std::error::Error + 'static)) -> String {
    let mut told = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let text = error.to_string();
        if !told.contains(&text) {
            told = format!("{told}: {text}");
        }
        cause = error.source();
    }
    told.chars().take(MAX_TOLD).collect()
}
