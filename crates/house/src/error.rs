use std::io;

use thiserror::Error;
use waverant_library::{DepotError, LibraryError};
use waverant_store::StoreError;

/// Why something cannot be done; by who can do something about it.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum HouseError {
    /// A field is not as expected: for the caller to correct.
    #[error("{field}: {detail}")]
    Invalid {
        /// The field, as the API calls it.
        field: &'static str,
        /// What was found, and what was expected.
        detail: String,
    },
    /// The state does not allow it: the caller looks at it first.
    #[error("{0}")]
    Conflict(String),
    /// There is no such thing.
    #[error("there is no {kind} `{name}`")]
    NotFound {
        /// What was looked for.
        kind: &'static str,
        /// By which name or number.
        name: String,
    },
    /// The database, or no such record.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A take.
    #[error(transparent)]
    Library(#[from] LibraryError),
    /// A depot.
    #[error(transparent)]
    Depot(#[from] DepotError),
    /// The disk of the state folder failed.
    #[error("the state folder: {0}")]
    Disk(io::Error),
    /// A fault of ours; the cause is in the log.
    #[error("it failed by a fault of ours")]
    Fault,
}

impl HouseError {
    /// A field that is not as expected.
    pub fn invalid(field: &'static str, detail: impl ToString) -> Self {
        Self::Invalid { field, detail: detail.to_string() }
    }
}

impl From<tokio::task::JoinError> for HouseError {
    fn from(error: tokio::task::JoinError) -> Self {
        tracing::error!(%error, "work of the house failed");
        Self::Fault
    }
}
