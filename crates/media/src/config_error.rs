use thiserror::Error;

use crate::OutOfBits;

/// Why a codec's configuration or frame header could not be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ConfigError {
    /// It is shorter than its own fields.
    #[error("it is cut short: {0}")]
    Truncated(#[from] OutOfBits),
    /// It does not begin as it must.
    #[error("it does not begin with {expected}")]
    Start {
        /// What stands at the beginning.
        expected: &'static str,
    },
    /// A field has a value that has no meaning.
    #[error("{field} is {found}, {expected}")]
    Field {
        /// The field as the specification names it.
        field: &'static str,
        /// What was found.
        found: u32,
        /// What was expected.
        expected: &'static str,
    },
}

impl ConfigError {
    pub(crate) fn field(field: &'static str, found: u32, expected: &'static str) -> Self {
        Self::Field { field, found, expected }
    }
}
