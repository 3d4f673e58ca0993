//! Another system of the house that is asked before somebody is let in: what it is asked, what it may answer, how long
//! an answer holds, and when it is left alone.

mod answer;
mod breaker;
mod memory;
mod question;
mod rules;

pub use answer::{Answer, AnswerFault, Grant, MAX_ANSWER};
pub use breaker::Breaker;
pub use memory::{AnswerMemory, KeyShown, Remembered};
pub use question::{AskedKey, Purpose, Question, Telling};
pub use rules::{AskingRules, HouseSystem, UnknownKeys, WhenSilent};

use std::sync::Arc;

/// By which answer somebody was let in.
#[derive(Clone, Debug, PartialEq)]
pub struct Asked {
    /// The system that was asked.
    pub system: Arc<HouseSystem>,
    /// What it was asked.
    pub question: Question,
    /// What it said; none if it said nothing, and the key alone let it in.
    pub grant: Option<Grant>,
}
