use std::io;

use thiserror::Error;
use waverant_container::FileError;
use waverant_store::StoreError;

use crate::DepotError;

/// Why something cannot be done with a take; by who can do something about it.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum LibraryError {
    /// The database, or no such take.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The state of the take does not allow it: the caller looks at it first.
    #[error("{0}")]
    State(String),
    /// The take's file is not where it should be.
    #[error("the file {0} is not there")]
    NoFile(String),
    /// The take's file cannot be used, or has not what is wanted of it.
    #[error("{0}")]
    File(String),
    /// The disk failed, or has no room.
    #[error("{what}: {source}")]
    Disk {
        /// What was to be done.
        what: &'static str,
        /// What the system said.
        source: io::Error,
    },
    /// The depot.
    #[error(transparent)]
    Depot(#[from] DepotError),
    /// The service stops.
    #[error("the service stops; try it again")]
    Stopping,
    /// A fault of ours; the cause is in the log.
    #[error("the work failed by a fault of ours")]
    Fault,
}

impl LibraryError {
    /// For `map_err`: the disk failed at `what`.
    pub(crate) fn disk(what: &'static str) -> impl FnOnce(io::Error) -> Self {
        move |source| Self::Disk { what, source }
    }
}

impl From<FileError> for LibraryError {
    fn from(error: FileError) -> Self {
        Self::File(error.to_string())
    }
}

impl From<tokio::task::JoinError> for LibraryError {
    fn from(error: tokio::task::JoinError) -> Self {
        tracing::error!(%error, "work on a take failed");
        Self::Fault
    }
}

impl From<waverant_codec::WorkFailed> for LibraryError {
    fn from(_: waverant_codec::WorkFailed) -> Self {
        Self::Fault
    }
}
