//! Problem documents.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A problem document.
///
/// Source: RFC 9457, 3
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A stable address of this kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// A stable word for programs.
    pub code: String,
    /// What was found and what was expected.
    pub detail: String,
    /// What to do.
    pub next_step: String,
}
